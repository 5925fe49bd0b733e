//! The work that was begun in a folder and is not finished.

use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::error::{Error, Result};
use crate::sidecar::{Intent, Work, image_of_journal, journal_of, read_journal};
use crate::storage::user_of;

/// Work that was begun and is not finished.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct UnderWay {
    /// The image with which it was begun.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// Who is at it now, as far as this host tells; without, it was cut short.
    pub holder: Option<String>,
    /// What it is, and how to go on.
    pub message: String,
}

impl UnderWay {
    pub(crate) fn of(intent: &Intent) -> Self {
        let child = intent.child().display();
        let with = match intent.work {
            Work::Move => Some(format!(" to {}", intent.result.display())),
            Work::Transplant => intent.parent.as_ref().map(|base| format!(" onto {}", base.path.display())),
            _ => intent.layers.last().map(|ancestor| format!(" with {}", ancestor.path.display())),
        };
        let holder = user_of(&journal_of(intent.child())).ok().flatten();
        let end = match &holder {
            Some(holder) => format!("{holder} is at it now"),
            None if !intent.unproven.is_empty() => {
                "cannot be finished here: these are copies, and the originals may still need it".to_owned()
            }
            None if intent.is_over().is_ok_and(|over| over) => {
                format!("is over; a copy of its journal is left, which `resume {child}` takes away")
            }
            None => format!(
                "is not finished; it reads as before: `resume {child}` carries on, `abandon {child}` gives it up"
            ),
        };
        let with = with.unwrap_or_default();
        let message = format!("{} of {child}{with} was begun {:.0} and {end}", intent.work, intent.started);
        Self { path: intent.child().to_owned(), holder, message }
    }
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
        if image_of_journal(&path).is_some() {
            let intent = read_journal(&path).map(|(intent, _)| intent);
            let is_known = |one: &Intent| found.iter().any(|(_, other)| other.as_ref().is_ok_and(|it| it.is_same(one)));
            if !intent.as_ref().is_ok_and(is_known) {
                found.push((path, intent));
            }
        }
    }
    found.sort_by(|one, other| one.0.cmp(&other.0));
    Ok(found)
}
