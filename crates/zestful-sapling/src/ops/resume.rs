//! Work on several files that was begun and cut short: found, carried on, or given up.

use std::path::{Path, PathBuf};

use serde::Serialize;

use super::merge::{self, MergeOutcome, TransplantOutcome};
use super::names::{self, MoveOutcome};
use crate::error::{Error, Result};
use crate::family::{Guard, Override, journals_in};
use crate::progress::Progress;
use crate::sidecar::{Header, Work, clear_copies, image_of_journal, read_header, under_way_at};
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
    let header = begun_at(path)?;
    guard.refuse_other_host(&header)?;
    header.refuse_unproven()?;
    if header.is_over()? {
        clear_copies(&header)?;
        return Ok(Resumed::Over(OverOutcome { path: header.image().to_owned() }));
    }
    let held = std::sync::Arc::new(Held::default());
    match header.work {
        Work::Merge => merge::carry_on(&header, &held, guard, progress).map(Resumed::Merge),
        Work::Transplant => merge::carry_on_transplant(&header, &held, guard, progress).map(Resumed::Transplant),
        Work::Move => names::carry_on_move(&header, &held, guard).map(Resumed::Move),
    }
}

/// Gives up what was begun with an image, where that is still possible: the chain reads as before. What was written
/// into an image stays there; it shows nothing that was not to be seen before, but an ancestor into which a merge had
/// begun to write no longer holds its own earlier state, nor do the layers between.
///
/// # Errors
/// As [`resume`]; `Refused` when all data was moved already, so that only going on is left.
pub fn abandon(path: &Path, overrides: &[Override]) -> Result<Abandoned> {
    let guard = overrides.iter().fold(Guard::new(), |guard, allowed| guard.with_override(*allowed));
    abandon_guarded(path, &guard)
}

/// What was given up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Abandoned {
    /// The image with which it was begun.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// What it was.
    pub work: Work,
}

/// The same, looking for children elsewhere as well.
///
/// # Errors
/// As [`abandon`].
pub fn abandon_guarded(path: &Path, guard: &Guard) -> Result<Abandoned> {
    let header = begun_at(path)?;
    guard.refuse_other_host(&header)?;
    header.refuse_unproven()?;
    if header.is_over()? {
        clear_copies(&header)?;
    } else {
        match header.work {
            Work::Merge => merge::give_up(&header, guard)?,
            Work::Transplant => merge::give_up_transplant(&header, guard)?,
            Work::Move => names::give_up_move(&header, guard)?,
        }
    }
    Ok(Abandoned { path: header.image().to_owned(), work: header.work })
}

/// What is under way with an image, beside which a journal stands, or, alone, in a folder.
fn begun_at(path: &Path) -> Result<Header> {
    let nothing = || {
        Error::usage(
            format!("nothing is under way with {}", path.display()),
            "name an image with which something is, or the folder that it is in",
        )
    };
    if image_of_journal(path).is_some() {
        return read_header(path);
    }
    if !path.is_dir() {
        return under_way_at(path)?.ok_or_else(nothing);
    }
    let mut found = journals_in(path)?;
    match (found.pop(), found.is_empty()) {
        (Some((_, header)), true) => header,
        (None, _) => Err(nothing()),
        (Some(last), false) => {
            found.push(last);
            let names: Vec<String> = found.iter().map(|(path, _)| path.display().to_string()).collect();
            Err(Error::usage(format!("several things are under way there: {}", names.join(", ")), "name one of them"))
        }
    }
}
