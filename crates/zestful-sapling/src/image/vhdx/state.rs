//! What a VHDX image that is open for writing consists of, and who may be at which part of it when.
//!
//! The order of locks is: session, turn, pages.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};

use super::PAGE;
use super::header::Header;
use super::log_writer::{LogWriter, MOST_PAGES_IN_ENTRY};
use super::region::Region;
use super::space::SpaceMap;
use super::table::Table;
use crate::bytes::index;
use crate::error::Result;
use crate::finding::Finding;
use crate::image::commits::Commits;
use crate::image::parts::Taken;
use crate::image::renewable::RenewableInfo;
use crate::image::visitors::Visitors;
use crate::storage::Latched;

/// Pages that one step on one block may change: the bits of a block of 256 MiB, its entry, its bitmap's entry, and
/// the ends of runs that are not aligned to pages.
const MOST_PAGES_IN_STEP: usize = 20;
/// Bytes of changed pages after which a commit comes first.
const MOST_HELD: usize = (MOST_PAGES_IN_ENTRY - MOST_PAGES_IN_STEP) * index(PAGE);

/// A VHDX image, open for writing.
///
/// See [`ImageMut`](crate::image::ImageMut) for what is guaranteed. Both write identifiers of the header change before
/// the first write of a session, only that of the file before a change that leaves the content alone, and neither in a
/// session that writes nothing.
pub struct VhdxMut {
    pub(super) storage: Arc<Latched>,
    pub(super) table: Table,
    pub(super) info: RenewableInfo,
    pub(super) warnings: Vec<Finding>,
    pub(super) log_place: Region,
    pub(super) metadata: Region,
    pub(super) session: Mutex<Session>,
    pub(super) turn: Mutex<Turn>,
    pub(super) commits: Commits,
    pub(super) visitors: Visitors,
    /// Whether this session has begun to change content.
    pub(super) begun: AtomicBool,
    /// Whether payload was written since the last sync began.
    pub(super) unsynced: AtomicBool,
}

/// What commits, and the beginning of a session, work with.
pub(super) struct Session {
    pub(super) header: Header,
    pub(super) slot: usize,
    /// Present once this session has written.
    pub(super) log: Option<LogWriter>,
    /// Whether the identifier of the content is a new one, or is to stay.
    pub(super) renewed: bool,
    /// Pages that the log holds and that could not be put in their places.
    pub(super) unplaced: Vec<Taken>,
}

/// What changes of the table work with, one at a time.
pub(super) struct Turn {
    pub(super) space: SpaceMap,
    /// Blocks that nothing names any more once the next commit is done.
    pub(super) released: Vec<(u64, u64)>,
    /// Blocks that nothing names any more, and the last generation of visitors that may still be there.
    pub(super) retired: Vec<(u64, (u64, u64))>,
    /// Whether free space stays with the file, for blocks that move there.
    pub(super) holds: bool,
}

impl VhdxMut {
    pub(super) fn session(&self) -> MutexGuard<'_, Session> {
        self.storage.sound(self.session.lock())
    }

    pub(super) fn turn(&self) -> MutexGuard<'_, Turn> {
        self.storage.sound(self.turn.lock())
    }

    /// A turn in which a step on a block may change what it needs: when the changed pages might not fit one log entry
    /// after it, they are committed first.
    pub(super) fn turn_with_room(&self) -> Result<MutexGuard<'_, Turn>> {
        loop {
            let turn = self.turn();
            if self.table.pages.parts.held() <= MOST_HELD {
                return Ok(turn);
            }
            drop(turn);
            self.commit()?;
        }
    }

    /// Writes payload. It is unsynced from then on, not before: a sync that began earlier may have missed it.
    pub(super) fn put(&self, write: impl FnOnce(&Latched) -> Result<()>) -> Result<()> {
        let written = write(&self.storage);
        self.unsynced.store(true, Ordering::Release);
        written
    }
}
