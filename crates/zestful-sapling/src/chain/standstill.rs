//! Several disks stand still at the same moment, so that what they hold then belongs together.

use std::sync::{Arc, RwLockWriteGuard};
use std::time::{Duration, Instant};

use super::gate::Closed;
use super::shared::SharedDisk;
use super::write::ChainMut;
use crate::error::{Error, Refusal, Result};

/// How often it is looked whether the last requests have ended.
const BETWEEN_LOOKS: Duration = Duration::from_micros(200);

/// Disks on which nothing is under way: what was begun has ended, and whatever comes waits until this is dropped.
///
/// Whoever was told of one write before asking for another one, on whichever of the disks, finds the first one here if
/// the second one is here.
pub(crate) struct Standstill<'a> {
    chains: Vec<RwLockWriteGuard<'a, ChainMut>>,
    _gates: Vec<Closed<'a>>,
}

impl<'a> Standstill<'a> {
    /// # Errors
    /// `Refused` when something is still under way then; requests go on as if nothing had been.
    pub(crate) fn of(disks: &'a [Arc<SharedDisk>], until: Instant) -> Result<Self> {
        let gates = disks.iter().map(|disk| Closed::new(disk.gate())).collect();
        let mut chains = Vec::with_capacity(disks.len());
        for disk in disks {
            let chain = loop {
                match disk.try_chain_mut() {
                    Some(chain) => break chain,
                    None if Instant::now() < until => std::thread::sleep(BETWEEN_LOOKS),
                    None => return Err(too_long("what its users had asked for before did not end in time")),
                }
            };
            chains.push(chain);
        }
        Ok(Self { chains, _gates: gates })
    }

    pub(crate) fn chains(&mut self) -> impl Iterator<Item = &mut ChainMut> {
        self.chains.iter_mut().map(|chain| &mut **chain)
    }
}

/// The disks would have stood still for longer than was allowed.
pub(crate) fn too_long(why: &str) -> Error {
    Error::refused(
        Refusal::PauseTooLong,
        format!("the disks would have to stand still for longer than they may: {why}"),
        "try again when less is written, or allow a longer pause",
    )
}
