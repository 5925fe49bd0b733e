//! The writing end: steps become files.

use std::io::ErrorKind;
use std::sync::mpsc::Sender;

use jiff::Timestamp;

use super::outcome::TakeOutOutcome;
use super::read::{Place, Step};
use crate::error::{Error, Result};
use crate::guest::{InnerPath, LeftOut};
use crate::progress::Progress;
use crate::storage::{Beneath, NewFile};

/// Bytes of a file after which the host is asked to put them on its disk.
const SYNC_EVERY: u64 = 32 << 20;
const MOST_NAMED: usize = 50;

pub(super) struct Writer<'a> {
    root: &'a Beneath,
    progress: &'a Progress,
    used: Sender<Vec<u8>>,
    /// The folder that is being filled, and when it was last changed inside.
    here: Option<(Vec<u8>, Beneath, Timestamp)>,
    file: Option<Open>,
    outcome: TakeOutOutcome,
}

struct Open {
    file: NewFile,
    path: InnerPath,
    modified: Option<Timestamp>,
    bytes: u64,
    synced: u64,
}

impl<'a> Writer<'a> {
    /// Everything goes below `root`; buffers that are not needed any more go back through `used`.
    pub(super) fn new(root: &'a Beneath, progress: &'a Progress, used: Sender<Vec<u8>>) -> Self {
        Self { root, progress, used, here: None, file: None, outcome: TakeOutOutcome::default() }
    }

    pub(super) fn take(&mut self, step: Step) -> Result<()> {
        self.progress.check()?;
        match step {
            Step::Folder(place) => {
                let made = self.enter(&place.folder)?.make_folder(&place.name, place.permissions, place.modified);
                self.outcome.folders += self.judge(&place.path, made)?;
            }
            Step::Link(place, target) => {
                let made = self.enter(&place.folder)?.make_link(&place.name, &target, place.modified);
                // So say hosts whose file system has no links.
                let made = made.map_err(|error| match error {
                    Error::Io { action, path, source } if source.kind() == ErrorKind::PermissionDenied => {
                        Error::Io { action, path, source: ErrorKind::Unsupported.into() }
                    }
                    other => other,
                });
                self.outcome.links += self.judge(&place.path, made)?;
            }
            Step::File(place) => self.begin(place)?,
            Step::Data(at, bytes) => self.write(at, bytes)?,
            Step::End(len) => {
                if let Some(open) = self.file.take() {
                    let made = open.file.publish(len, open.modified);
                    let count = self.judge(&open.path, made)?;
                    self.outcome.files += count;
                    self.outcome.bytes += open.bytes * count;
                }
            }
            Step::Damaged(left_out) => {
                self.file = None;
                self.leave_out(left_out);
            }
            Step::LeftOut(left_out) => self.leave_out(left_out),
            Step::More(count) => self.outcome.left_out_count += count,
            Step::Skipped => self.outcome.skipped += 1,
        }
        Ok(())
    }

    /// Everything has come.
    pub(super) fn finish(&mut self) -> Result<TakeOutOutcome> {
        self.leave()?;
        Ok(std::mem::take(&mut self.outcome))
    }

    fn begin(&mut self, place: Place) -> Result<()> {
        let begun = self.enter(&place.folder)?.begin_file(&place.name, place.permissions);
        match begun {
            Ok(file) => {
                self.file = Some(Open { file, path: place.path, modified: place.modified, bytes: 0, synced: 0 });
            }
            Err(error) => _ = self.judge(&place.path, Err(error))?,
        }
        Ok(())
    }

    fn write(&mut self, at: u64, bytes: Vec<u8>) -> Result<()> {
        let len = bytes.len() as u64;
        let written = self.file.as_ref().map(|open| (open.file.write_at(&bytes, at), open.path.clone()));
        if let Some((Err(error), path)) = written {
            self.judge(&path, Err(error))?;
            self.file = None;
        }
        if let Some(open) = &mut self.file {
            open.bytes += len;
            if open.bytes - open.synced >= SYNC_EVERY {
                open.file.sync_so_far()?;
                open.synced = open.bytes;
            }
        }
        self.progress.advance(len);
        // Nobody needs it once the reader is done.
        _ = self.used.send(bytes);
        Ok(())
    }

    /// The folder of what comes next. One that is left is given back the time that making things in it has changed.
    fn enter(&mut self, folder: &[u8]) -> Result<&Beneath> {
        if self.here.as_ref().is_none_or(|(here, ..)| here != folder) {
            self.leave()?;
            let names = folder.split(|byte| *byte == b'/').filter(|name| !name.is_empty());
            let beneath = self.root.descend(names)?;
            let modified = beneath.modified()?;
            self.here = Some((folder.to_vec(), beneath, modified));
        }
        Ok(self.here.as_ref().map_or(self.root, |(_, beneath, _)| beneath))
    }

    fn leave(&mut self) -> Result<()> {
        match self.here.take() {
            Some((folder, beneath, modified)) if !folder.is_empty() => beneath.set_modified(modified),
            _ => Ok(()),
        }
    }

    /// One more, or none where the host has no such names, links or lengths, or something of that name; other failures
    /// end it all.
    fn judge(&mut self, path: &InnerPath, made: Result<()>) -> Result<u64> {
        use ErrorKind as K;
        let none_here = [K::AlreadyExists, K::InvalidFilename, K::InvalidInput, K::FileTooLarge, K::Unsupported];
        let not_here = |kind| none_here.contains(&kind);
        match made {
            Ok(()) => Ok(1),
            Err(error @ Error::Io { .. }) if matches!(&error, Error::Io { source, .. } if not_here(source.kind())) => {
                self.leave_out(LeftOut::of(path, &error));
                Ok(0)
            }
            Err(error) => Err(error),
        }
    }

    fn leave_out(&mut self, left_out: LeftOut) {
        self.outcome.left_out_count += 1;
        if self.outcome.left_out.len() < MOST_NAMED {
            self.outcome.left_out.push(left_out);
        }
    }
}
