//! Work on several files that was begun and cut short: found, carried on, or given up.

use std::path::{Path, PathBuf};

use serde::Serialize;

use super::merge::{self, MergeOutcome, TransplantOutcome};
use super::names::{self, MoveOutcome};
use crate::error::{Error, Result};
use crate::family::{Guard, Override, unfinished_in};
use crate::progress::Progress;
use crate::sidecar::{Intent, Journal, Work, clear_copies, image_of_journal, intent_of, read_journal};
use crate::storage::Held;

/// What became of work that was carried on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "work", rename_all = "lowercase")]
pub enum Resumed {
    /// A merge.
    Merge(MergeOutcome),
    /// A transplant.
    Transplant(TransplantOutcome),
    /// A move.
    Move(MoveOutcome),
    /// Nothing: the work was over, and only a copy of its journal was left.
    Over(OverOutcome),
}

/// Work that was over already.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct OverOutcome {
    /// The image with which it had been begun.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
}

/// Carries on what was begun with an image, or in a folder where only one thing is under way.
///
/// # Errors
/// `Usage` when nothing is under way, or several things; `Damaged` when the journal is; `Refused` when another
/// process is at it, another host began it, or it was begun with other files (this is a copy); `UnderWay` when it
/// could not be finished this time either, with why.
pub fn resume(path: &Path, overrides: &[Override], progress: &Progress) -> Result<Resumed> {
    let guard = overrides.iter().fold(Guard::new(), |guard, allowed| guard.with_override(*allowed));
    resume_guarded(path, &guard, progress)
}

/// The same, looking for children elsewhere as well.
///
/// # Errors
/// As [`resume`].
pub fn resume_guarded(path: &Path, guard: &Guard, progress: &Progress) -> Result<Resumed> {
    let intent = under_way(path)?;
    intent.refuse_unproven()?;
    if intent.is_over()? {
        clear_copies(&intent)?;
        return Ok(Resumed::Over(OverOutcome { path: intent.child().to_owned() }));
    }
    let (journal, marks) = Journal::reopen(&intent)?;
    let held = std::sync::Arc::new(Held::default());
    match intent.work {
        Work::Transplant => {
            merge::carry_on_transplant(journal, &marks, &held, guard, progress).map(Resumed::Transplant)
        }
        Work::Move => names::carry_on_move(journal, &held, guard).map(Resumed::Move),
        _ => merge::carry_on(journal, &marks, &held, guard, progress).map(Resumed::Merge),
    }
}

/// Gives up what was begun with an image, where that is still possible: the chain reads as before. What was written
/// into an image stays there; it shows nothing that was not to be seen before, but an ancestor into which a merge had
/// begun to write no longer holds its own earlier state, nor do the layers between.
///
/// # Errors
/// As [`resume`]; `Refused` when all data was moved already, so that only going on is left.
pub fn abandon(path: &Path, overrides: &[Override]) -> Result<Intent> {
    let guard = overrides.iter().fold(Guard::new(), |guard, allowed| guard.with_override(*allowed));
    abandon_guarded(path, &guard)
}

/// The same, looking for children elsewhere as well.
///
/// # Errors
/// As [`abandon`].
pub fn abandon_guarded(path: &Path, guard: &Guard) -> Result<Intent> {
    let intent = under_way(path)?;
    guard.refuse_other_host(&intent)?;
    intent.refuse_unproven()?;
    if intent.is_over()? {
        clear_copies(&intent)?;
        return Ok(intent);
    }
    let (journal, marks) = Journal::reopen(&intent)?;
    match intent.work {
        Work::Transplant => merge::give_up_transplant(journal, guard)?,
        Work::Move => names::give_up_move(journal, guard)?,
        _ => merge::give_up(journal, &marks, guard)?,
    }
    Ok(intent)
}

fn under_way(path: &Path) -> Result<Intent> {
    let nothing =
        || Error::usage(format!("nothing is under way with {}", path.display()), "`status` shows what is, in a folder");
    if image_of_journal(path).is_some() {
        return read_journal(path).map(|(intent, _)| intent);
    }
    if !path.is_dir() {
        return intent_of(path)?.ok_or_else(nothing);
    }
    let mut found = unfinished_in(path)?;
    match (found.pop(), found.is_empty()) {
        (Some((_, intent)), true) => intent,
        (None, _) => Err(nothing()),
        (Some(last), false) => {
            found.push(last);
            let names: Vec<String> = found.iter().map(|(path, _)| path.display().to_string()).collect();
            Err(Error::usage(format!("several things are under way there: {}", names.join(", ")), "name one of them"))
        }
    }
}
