//! What a VHD image that is open for writing consists of, and who may be at which part of it when.
//!
//! The order of locks is: turn, layout, bitmaps.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use super::bitmap::Bitmaps;
use super::layout::Layout;
use super::shape::BlockShape;
use super::space::Space;
use crate::error::Result;
use crate::finding::Finding;
use crate::image::Kind;
use crate::image::commits::Commits;
use crate::image::renewable::RenewableInfo;
use crate::image::visitors::Visitors;
use crate::storage::Latched;

/// Bytes of changed bitmaps that are held back at most.
const MOST_CHANGED: usize = 1 << 20;

/// A VHD image, open for writing.
///
/// See [`ImageMut`](crate::image::ImageMut) for what is guaranteed. The identity, which children record, changes before
/// the first write of a session, so that a child that nobody knew of fails to open and never reads wrong data.
pub struct VhdMut {
    pub(super) storage: Arc<Latched>,
    pub(super) layout: RwLock<Layout>,
    pub(super) bitmaps: Bitmaps,
    pub(super) info: RenewableInfo,
    pub(super) warnings: Vec<Finding>,
    pub(super) turn: Mutex<Turn>,
    pub(super) commits: Commits,
    pub(super) visitors: Visitors,
    /// Whether the identity is a new one.
    pub(super) begun: AtomicBool,
    /// Whether payload was written since the last sync began.
    pub(super) unsynced: AtomicBool,
}

/// What changes of the table and of bitmaps work with, one at a time.
pub(super) struct Turn {
    pub(super) space: Space,
    /// Places of blocks that no commit has named yet.
    pub(super) new_places: BTreeSet<u64>,
    /// Sectors of the table that changed, by number.
    pub(super) changed_table: BTreeSet<u64>,
    /// Blocks that nothing names any more once the next commit is done.
    pub(super) released: Vec<u64>,
    /// Blocks that nothing names any more, and the last generation of visitors that may still be there.
    pub(super) retired: Vec<(u64, u64)>,
    /// Places that nobody is at any more, and that stay as they are for the blocks that move there; none where they
    /// go back to the host at once.
    pub(super) held: Option<BTreeSet<u64>>,
    /// Whether this session has written anything.
    pub(super) amended: bool,
}

impl VhdMut {
    pub(super) fn turn(&self) -> MutexGuard<'_, Turn> {
        self.storage.sound(self.turn.lock())
    }

    /// A turn in which a bitmap may change: when many have, they are committed first.
    pub(super) fn turn_with_room(&self) -> Result<MutexGuard<'_, Turn>> {
        loop {
            let turn = self.turn();
            if self.bitmaps.parts.held() < MOST_CHANGED {
                return Ok(turn);
            }
            drop(turn);
            self.commit()?;
        }
    }

    pub(super) fn layout(&self) -> RwLockReadGuard<'_, Layout> {
        self.layout.read().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn layout_mut(&self) -> RwLockWriteGuard<'_, Layout> {
        self.layout.write().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn shape(&self) -> Option<BlockShape> {
        self.layout().blocks.as_ref().map(|blocks| blocks.shape)
    }

    pub(super) fn place(&self, block: u64) -> Option<u64> {
        self.layout().blocks.as_ref().and_then(|blocks| blocks.place(block))
    }

    pub(super) fn is_differencing(&self) -> bool {
        self.info.get().kind == Kind::Differencing
    }

    /// Writes payload. It is unsynced from then on, not before: a sync that began earlier may have missed it.
    pub(super) fn put(&self, write: impl FnOnce(&Latched) -> Result<()>) -> Result<()> {
        let written = write(&self.storage);
        self.unsynced.store(true, Ordering::Release);
        written
    }
}
