//! Makes sure that a source stayed as it was while it was read.

use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::time::SystemTime;

use crate::chain::{Chain, Disk};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::image::{Image, is_single_file};

/// Refuses to copy what somebody has open for writing: the copy would be of no state at all. Returns what was not
/// looked at.
pub(in crate::ops) fn refuse_written(source: &Chain, guard: &Guard) -> Result<Option<String>> {
    guard.refuse_writers(source.layers().iter().map(|layer| layer.path()).filter(|path| is_single_file(path)))
}

/// What the host said of each layer's file when the work began. Our own locks keep programs away that take locks; this
/// finds out about the others.
pub(in crate::ops) struct Unchanged(Vec<(PathBuf, Option<State>)>);

#[derive(Clone, Copy, PartialEq, Eq)]
struct State {
    file: (u64, u64),
    len: u64,
    modified: Option<SystemTime>,
}

impl Unchanged {
    pub(in crate::ops) fn since_now(disk: &dyn Disk) -> Self {
        let layers = (0..).map_while(|number| disk.layer(number)).map(Image::path);
        Self(layers.map(|path| (path.to_owned(), state_of(path))).collect())
    }

    /// # Errors
    /// `Refused` with the file that changed.
    pub(in crate::ops) fn verify(&self) -> Result<()> {
        match self.0.iter().find(|(path, before)| state_of(path) != *before) {
            None => Ok(()),
            Some((path, _)) => Err(Error::refused(
                Refusal::changed(path),
                format!("{} was changed by another program while it was read", path.display()),
                "nothing was made of it; end that program, or shut the machine down, and begin again",
            )),
        }
    }
}

/// `None` for what the host cannot tell, and for devices, whose times say nothing.
fn state_of(path: &std::path::Path) -> Option<State> {
    let found = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file)?;
    Some(State { file: (found.dev(), found.ino()), len: found.len(), modified: found.modified().ok() })
}
