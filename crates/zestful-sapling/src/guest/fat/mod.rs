//! FAT12, FAT16 and FAT32, read by Microsoft's FAT specification of 2000.
//!
//! There is a crate that reads them, and it is only used to format volumes: it tells no places, and nothing of what was
//! deleted.

mod boot;
mod folder;
mod volume;

pub(super) use boot::{Layout, Root, entry};
pub(super) use folder::FatEntry;
pub(super) use volume::{FatVolume, Link};
