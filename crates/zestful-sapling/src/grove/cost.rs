//! What it takes to do without a layer, told from its tables and those of the image that grows from it.

use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::lineage::Lineage;
use crate::error::Result;
use crate::image::{Image, Source, open_unlocked};
use crate::storage::allocated_at;

/// What forgetting one layer takes.
#[derive(Default)]
pub(super) struct Cost {
    /// What the host gets back.
    pub(super) frees: u64,
    /// What has to be moved, at most.
    pub(super) moves: u64,
}

/// Images that were opened last: the child of one layer is the next layer of its disk.
pub(super) struct Opened {
    most: usize,
    images: VecDeque<(PathBuf, Arc<dyn Image>)>,
}

impl Opened {
    /// Of so many disks.
    pub(super) fn of(disks: usize) -> Self {
        Self { most: disks.saturating_mul(2).max(2), images: VecDeque::new() }
    }

    fn image(&mut self, path: &Path) -> Result<Arc<dyn Image>> {
        if let Some((_, image)) = self.images.iter().find(|(known, _)| known == path) {
            return Ok(image.clone());
        }
        let image: Arc<dyn Image> = Arc::from(open_unlocked(path)?);
        self.images.push_back((path.to_owned(), image.clone()));
        if self.images.len() > self.most {
            self.images.pop_front();
        }
        Ok(image)
    }
}

impl Cost {
    pub(super) fn of(layer: &Path, lineage: &Lineage, opened: &mut Opened) -> Self {
        let children: Vec<&Path> = lineage.children(layer).map(|child| &*child.path).collect();
        match &*children {
            [] => Self { frees: allocated_at(layer), moves: 0 },
            [child] => Self::of_pair(layer, child, opened).unwrap_or_default(),
            // It stays, as a layer that they share.
            _ => Self::default(),
        }
    }

    /// What a layer and the only image that grows from it hold both, and what one holds that the other lacks.
    pub(super) fn of_pair(layer: &Path, child: &Path, opened: &mut Opened) -> Result<Self> {
        let (lower, upper) = (opened.image(layer)?, opened.image(child)?);
        let size = lower.info().virtual_size.min(upper.info().virtual_size);
        let (mut both, mut only_lower, mut in_upper) = (0u64, 0u64, 0u64);
        let mut at = 0;
        while at < upper.info().virtual_size {
            let own = upper.extent_at(at, upper.info().virtual_size - at)?;
            let end = at.saturating_add(own.len);
            let holds = !matches!(own.source, Source::Parent);
            if holds {
                in_upper = in_upper.saturating_add(if matches!(own.source, Source::Zero) { 0 } else { own.len });
            }
            while at < end.min(size) {
                let theirs = lower.extent_at(at, end.min(size) - at)?;
                match (matches!(theirs.source, Source::Parent | Source::Zero), holds) {
                    (true, _) => {}
                    (false, true) => both = both.saturating_add(theirs.len),
                    (false, false) => only_lower = only_lower.saturating_add(theirs.len),
                }
                at = at.saturating_add(theirs.len);
            }
            at = end;
        }
        Ok(Self { frees: both, moves: only_lower.min(in_upper) })
    }
}
