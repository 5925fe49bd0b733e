//! All that holds a part of a volume: its files, and what is the file system's own.

use std::ops::Range;

use super::path::InnerPath;
use super::seen::Seen;
use super::system::{EntryKind, Own, OwnTold};
use super::tree::FileTree;
use crate::error::{Error, InsideProblemKind};
use crate::guest::trouble::Trouble;

/// Where a guest keeps its memory while it sleeps.
const SLEEP_FILE: &[u8] = b"/hiberfil.sys";

/// What holds a part of a volume.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::guest) enum Holder {
    Named(EntryKind, InnerPath),
    Own(Own),
}

impl std::fmt::Display for Holder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Named(_, path) => write!(f, "{path}"),
            Self::Own(Own::Structure(name)) => write!(f, "the {name}"),
            Self::Own(Own::Root) => f.write_str("the root folder"),
            Self::Own(Own::Nameless(name)) => f.write_str(name),
        }
    }
}

/// What is told of a volume.
pub(in crate::guest) enum HolderTold {
    /// What the places that follow belong to.
    Of(Holder),
    /// Such a place, in bytes of the volume.
    Place(Range<u64>),
    /// Something could not be told.
    Doubt(String),
}

/// Takes what is told.
pub(in crate::guest) type TakeHolders<'a> = dyn FnMut(HolderTold) -> Result<(), Error> + 'a;

impl FileTree {
    /// Goes over all that holds a part of the volume: every file once, by the first of its names, then what is the file
    /// system's own. What cannot be told is left out and said. Memory grows by a bit for each file that there may be.
    pub(in crate::guest) fn holders(&mut self, take: &mut TakeHolders<'_>) -> Result<(), Error> {
        let has_links = self.system().has_links();
        let mut met = Seen::default();
        let walked = self.go(&InnerPath::root(), true, false, &mut |entry, item| {
            let Some((item, _)) = item else { return Ok(true) };
            // Each of its names leads to the same places.
            if has_links && !met.insert(item.number()) {
                return Ok(true);
            }
            take(HolderTold::Of(Holder::Named(entry.kind, entry.path.clone())))?;
            let mut failed = None;
            let told = item.places(&mut |place| {
                take(HolderTold::Place(place)).map_err(|error| {
                    failed = Some(error);
                    Trouble::Damaged(String::new())
                })
            });
            match (failed, told) {
                (Some(error), _) => Err(error),
                (None, Ok(())) => Ok(true),
                (None, Err(trouble)) => take(HolderTold::Doubt(format!("{}: {trouble}", entry.path))).map(|()| true),
            }
        })?;
        for left_out in &walked.left_out {
            take(HolderTold::Doubt(format!("{}: {}", left_out.path, left_out.why)))?;
        }
        let mut failed = None;
        self.system().own(&mut |number| met.contains(number), &mut |told| {
            let told = match told {
                OwnTold::Of(own) => HolderTold::Of(Holder::Own(own)),
                OwnTold::Place(place) => HolderTold::Place(place),
                OwnTold::Doubt(trouble) => HolderTold::Doubt(trouble.to_string()),
            };
            failed = take(told).err();
            failed.is_none()
        });
        failed.map_or(Ok(()), Err)
    }

    /// The first byte behind the file system.
    pub(in crate::guest) fn end(&mut self) -> u64 {
        self.system().len()
    }

    /// Calls `take` with what the volume marks as free of a range of bytes, upwards.
    pub(in crate::guest) fn marked_free(
        &mut self,
        within: Range<u64>,
        take: &mut dyn FnMut(Range<u64>),
    ) -> Result<(), Error> {
        let context = self.context().clone();
        self.system().free(within, take).map_err(|trouble| context.error(None, trouble))
    }

    /// Refuses to vouch for what is marked as free.
    pub(in crate::guest) fn vouch_for_free(&mut self) -> Result<(), Error> {
        let context = self.context().clone();
        self.system().vouch_for_free().map_err(|trouble| context.error(None, trouble))?;
        // A guest that sleeps has things in mind that the volume does not tell.
        let sleep = InnerPath::parse(SLEEP_FILE)?;
        let mut head = [0; 4];
        let read = self.walk(&sleep, false, &mut |found| {
            found.read(&mut |at, bytes| {
                let len = bytes.len().min(head.len());
                if at == 0 {
                    head[..len].copy_from_slice(&bytes[..len]);
                }
                Err(Error::Cancelled)
            })?;
            Ok(false)
        });
        match read {
            Err(Error::Cancelled) if head.eq_ignore_ascii_case(b"hibr") => {
                let what = format!("its guest sleeps, as {sleep} says");
                Err(context.problem(None, InsideProblemKind::NotTrusted(what)))
            }
            _ => Ok(()),
        }
    }
}
