//! An image is mended, finding by finding, in memory.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::{Format, Mended, vhd, vhdx};
use crate::error::Result;
use crate::finding::{Finding, Losses, Repair};
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::Overlay;

/// How often one kind of damage is gone at: mending one thing may lay another one of the same kind open.
const MOST_ROUNDS: usize = 4;

/// What was mended, and what is left.
pub(crate) struct Mending {
    pub(crate) done: Vec<Mended>,
    /// What is found afterwards.
    pub(crate) left: Vec<Finding>,
}

/// Everything that is wrong or unusual with one image's own structures.
///
/// # Errors
/// `Io`, `Cancelled`.
fn findings_of(storage: &Arc<Overlay>, format: Format, progress: &Progress) -> Result<Vec<Finding>> {
    match format {
        Format::Vhd => vhd::check(storage.clone(), progress),
        Format::Vhdx => vhdx::check(storage.clone(), progress),
        Format::Raw => Ok(Vec::new()),
    }
}

/// Mends what can be mended without loss, and what `consents` gives up by its code. The file is looked at anew after
/// each step, since one may lay open the next.
///
/// # Errors
/// `Io`; `Refused` when too much would change; `Cancelled`.
pub(crate) fn mend(
    storage: &Arc<Overlay>,
    format: Format,
    consents: &dyn Fn(&'static str) -> bool,
    progress: &Progress,
) -> Result<Mending> {
    let (mut done, mut rounds): (Vec<Mended>, BTreeMap<&'static str, usize>) = (Vec::new(), BTreeMap::new());
    // Those for which there is no way, as long as nothing else changes.
    let mut stuck: BTreeSet<&'static str> = BTreeSet::new();
    loop {
        progress.check()?;
        let left = findings_of(storage, format, progress)?;
        let may = |finding: &&Finding| match finding.repair() {
            Repair::Safe => true,
            Repair::Lossy => consents(finding.code()),
            _ => false,
        };
        let tried = |code| stuck.contains(code) || rounds.get(code).is_some_and(|rounds| *rounds >= MOST_ROUNDS);
        let next = left.iter().find(|finding| may(finding) && !tried(finding.code()));
        let Some(next) = next else {
            // Found only by reading all that there is.
            if format == Format::Vhd && consents("vhd-unwritten-data") {
                done.extend(vhd::mend_data(storage, progress)?);
            }
            return Ok(Mending { done, left });
        };
        let code = next.code();
        let mended = match format {
            Format::Vhd => vhd::mend(storage, next, progress)?,
            _ => vhdx::mend(storage, next, progress)?,
        };
        let Some(mended) = mended else {
            stuck.insert(code);
            continue;
        };
        stuck.clear();
        let round = rounds.entry(mended.code).or_default();
        *round = round.saturating_add(1);
        match done.iter_mut().find(|known| known.code == mended.code && known.what == mended.what) {
            Some(known) => known.content.join(&mended.content),
            None => done.push(mended),
        }
    }
}

/// What is in doubt in an image of which these parts of the file could not be read, and count as zeros.
///
/// # Errors
/// `Io`, `Cancelled`; `Damaged` when the image does not open.
pub(crate) fn doubt_of_unreadable(
    storage: &Arc<Overlay>,
    format: Format,
    bad: &Ranges,
    progress: &Progress,
) -> Result<Losses> {
    match format {
        Format::Vhd => vhd::doubt_of_unreadable(&**storage, bad),
        Format::Vhdx => vhdx::doubt_of_unreadable(storage.clone(), bad, progress),
        Format::Raw => Ok(Losses::default()),
    }
}
