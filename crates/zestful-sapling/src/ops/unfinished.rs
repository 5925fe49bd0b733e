//! Work on several files that was begun and cut short: found, carried on, or given up.

use std::path::{Path, PathBuf};

use serde::Serialize;

use super::Override;
use super::merge::{self, MergeOutcome};
use super::transplant::{self, TransplantOutcome};
use crate::chain::{Intent, Journal, Work, intent_of, read_journal};
use crate::error::{Error, Refusal, Result};
use crate::progress::Progress;

/// What became of work that was carried on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "work", rename_all = "lowercase")]
pub enum Resumed {
    /// A merge.
    Merge(MergeOutcome),
    /// A transplant.
    Transplant(TransplantOutcome),
}

/// Carries on what was begun with an image, or in a folder where only one thing is under way.
///
/// # Errors
/// `Usage` when nothing is under way, or several things; `Damaged` when the journal is; `Refused` when another process is at
/// it, or another host began it; `UnderWay` when it could not be finished this time either, with why.
pub fn resume(path: &Path, overrides: &[Override], progress: &Progress) -> Result<Resumed> {
    let intent = under_way(path)?;
    let (journal, marks) = Journal::reopen(&intent)?;
    match intent.work {
        Work::Transplant => transplant::carry_on(journal, &marks, overrides, progress).map(Resumed::Transplant),
        _ => merge::carry_on(journal, &marks, overrides, progress).map(Resumed::Merge),
    }
}

/// Gives up what was begun with an image, where that is still possible: the chain reads as before. What was written into
/// an image stays there; it shows nothing that was not to be seen before, but an ancestor into which a merge had begun to
/// write no longer holds its own earlier state.
///
/// # Errors
/// As [`resume`]; `Refused` when all data was moved already, so that only going on is left.
pub fn abandon(path: &Path, overrides: &[Override]) -> Result<Intent> {
    let intent = under_way(path)?;
    refuse_other_host(&intent, overrides)?;
    let (journal, marks) = Journal::reopen(&intent)?;
    match intent.work {
        // The child names its old base until the very end.
        Work::Transplant => journal.end()?,
        _ => merge::give_up(journal, &marks)?,
    }
    Ok(intent)
}

/// All that is under way in a folder; a journal that cannot be read is an error among them.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub fn unfinished_in(folder: &Path) -> Result<Vec<(PathBuf, Result<Intent>)>> {
    let failed = |e| Error::io("read the folder", folder, e);
    let mut found: Vec<(PathBuf, Result<Intent>)> = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        if path.to_string_lossy().ends_with(".zsap.journal") {
            let intent = read_journal(&path).map(|(intent, _)| intent);
            let is_known = |one: &Intent| found.iter().any(|(_, other)| other.as_ref().is_ok_and(|other| other == one));
            if !intent.as_ref().is_ok_and(is_known) {
                found.push((path, intent));
            }
        }
    }
    found.sort_by(|one, other| one.0.cmp(&other.0));
    Ok(found)
}

fn under_way(path: &Path) -> Result<Intent> {
    let nothing =
        || Error::usage(format!("nothing is under way with {}", path.display()), "`status` shows what is, in a folder");
    if path.to_string_lossy().ends_with(".zsap.journal") {
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

/// Refuses what another host began and may be at still.
pub(super) fn refuse_other_host(intent: &Intent, overrides: &[Override]) -> Result<()> {
    match intent.is_of_this_host() || overrides.contains(&Override::OtherHost) {
        true => Ok(()),
        false => Err(Error::refused(
            Refusal::OtherHost,
            format!("{} was begun by another host, which may be at it still", intent.work),
            "look there first; if that host is gone, say --force=other-host",
        )),
    }
}
