//! What is written down while a machine is copied whose disks grow from a base elsewhere: that base knows of children
//! before they are there.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::begun::Begun;
use crate::error::Result;
use crate::family::{Guard, must_record_children};
use crate::sidecar::{ChildrenChange, Header, Journal, Payload, Work};

/// What the journal of a copy says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Copying {
    /// The new folder, and where it stands until it is whole.
    pub(super) target: PathBuf,
    pub(super) temporary: PathBuf,
    /// Bases elsewhere, each with the child that it is told of.
    pub(super) told: Vec<(PathBuf, PathBuf)>,
}

/// A copy makes no marks.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) enum NoMark {}

impl Payload for Copying {
    type Mark = NoMark;

    fn work(&self) -> Work {
        Work::Copy
    }
}

/// Has the bases forget children that never came to be.
pub(super) fn strike(told: &[(PathBuf, PathBuf)], guard: &Guard) -> Result<()> {
    for (base, child) in told.iter().filter(|(base, child)| base.exists() && !child.exists()) {
        let gone = std::slice::from_ref(child);
        must_record_children(base, &ChildrenChange { gone, ..ChildrenChange::default() }, guard)?;
    }
    Ok(())
}

/// Takes away what is left of a copy that was cut short; one that came to its name stays.
///
/// # Errors
/// `Refused` when another host began it; `Io`.
pub(super) fn take_back(begun: &Header, guard: &Guard) -> Result<Begun> {
    guard.refuse_other_host(begun)?;
    begun.refuse_unproven()?;
    let (journal, _) = Journal::<Copying>::reopen(begun)?;
    let Copying { target, temporary, told } = journal.record().payload.clone();
    remove_all(&temporary)?;
    strike(&told, guard)?;
    journal.end()?;
    Ok(Begun { path: begun.image().to_owned(), work: Work::Copy, checkpoint: None, done: target.exists() })
}

fn remove_all(folder: &Path) -> Result<()> {
    match std::fs::remove_dir_all(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            Err(crate::Error::io("take away what is left of a copy in", folder, error))
        }
        _ => Ok(()),
    }
}
