//! FAT12, FAT16 and FAT32 (Microsoft's FAT specification of 2000), and exFAT (its specification of 2019).

use fatfs::{FileSystem as Volume, FsOptions};

use super::found::{Content, FileSystem, text};
use super::stream::ViewStream;
use crate::bytes::{le_u16, le_u32, le_u64, utf16le, wide};
use crate::error::Result;
use crate::guest::contained::contained;
use crate::guest::fat::{Layout, entry};
use crate::guest::view::View;

/// A table as large as this is counted through; of a larger one only what it says of itself is believed.
const MOST_COUNTED: u64 = 64 << 20;
const COUNTED_AT_ONCE: u64 = 1 << 20;

impl Layout {
    /// Free clusters, as the volume's note of them says, or counted.
    fn free(&self, view: &View<'_>, is_clean: bool) -> Result<Option<u64>> {
        let noted = self.info.filter(|at| is_clean && *at > 0).map(|at| view.bytes(at, 512)).transpose()?.flatten();
        let noted = noted.filter(|info| le_u32(info, 0) == 0x4161_5252 && le_u32(info, 484) == 0x6141_7272);
        let noted = noted.map(|info| u64::from(le_u32(&info, 488))).filter(|free| *free <= self.clusters);
        if noted.is_some() {
            return Ok(noted);
        }
        let (bits, len) = (self.bits(), self.used_table());
        if len > self.table_len || len > MOST_COUNTED {
            return Ok(None);
        }
        let (mut free, mut at) = (0, 0);
        // The pieces hold whole entries: three bytes hold two of twelve bits.
        let piece = COUNTED_AT_ONCE * 3;
        while at < len {
            let Some(bytes) = view.bytes(self.table + at, piece.min(len - at))? else { return Ok(None) };
            let (first, count) = (at * 8 / bits, wide(bytes.len()) * 8 / bits);
            let is_free = |number: u64| entry(&bytes, number, bits) == 0;
            let numbers = (0..count).filter(|number| self.numbers().contains(&(first + number)));
            free += wide(numbers.filter(|number| is_free(*number)).count());
            at += piece;
        }
        Ok(Some(free))
    }

    /// Whether the volume says that it was unmounted.
    fn is_clean(&self, view: &View<'_>, boot: &[u8]) -> Result<bool> {
        let start = view.bytes(self.table, 8)?.unwrap_or_else(|| vec![0; 8]);
        let flags = boot[if self.file_system == FileSystem::Fat32 { 65 } else { 37 }];
        let marked = match self.file_system {
            FileSystem::Fat12 => true,
            FileSystem::Fat16 => le_u16(&start, 2) & 0x8000 != 0,
            _ => le_u32(&start, 4) & 0x0800_0000 != 0,
        };
        Ok(marked && flags & 1 == 0)
    }
}

pub(super) fn read(view: &View<'_>, head: &[u8], count: bool) -> Result<Option<Content>> {
    let Some(layout) = Layout::of(head) else { return Ok(None) };
    let is_clean = layout.is_clean(view, head)?;
    let free = if count { layout.free(view, is_clean)? } else { None };
    let serial = le_u32(head, if layout.file_system == FileSystem::Fat32 { 67 } else { 39 });
    let found = Content {
        label: label(view, head, layout.file_system),
        identifier: Some(format!("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF)),
        clean: Some(is_clean),
        ..Content::of(layout.file_system)
    };
    Ok(Some(found.with_figures(layout.cluster, layout.clusters, free)))
}

/// The label is in the root folder; the one in the boot sector is a copy that few programs keep.
fn label(view: &View<'_>, head: &[u8], file_system: FileSystem) -> Option<String> {
    let in_root = contained(|| {
        let volume = Volume::new(ViewStream::new(*view), FsOptions::new()).ok()?;
        volume.read_volume_label_from_root_dir().ok()?
    });
    let at = if file_system == FileSystem::Fat32 { 71 } else { 43 };
    let in_boot = || text(&head[at..at + 11]).filter(|label| label != "NO NAME");
    in_root.ok().flatten().map(|label| label.trim_end().to_owned()).filter(|label| !label.is_empty()).or_else(in_boot)
}

pub(super) fn read_exfat(view: &View<'_>, head: &[u8]) -> Result<Option<Content>> {
    let Some(boot) = head.get(..512).filter(|boot| boot[3..11] == *b"EXFAT   " && boot[510..] == [0x55, 0xAA]) else {
        return Ok(None);
    };
    let (sector_shift, cluster_shift) = (u32::from(boot[108]), u32::from(boot[109]));
    if !(9..=12).contains(&sector_shift) || cluster_shift > 25 - sector_shift {
        return Ok(None);
    }
    let (sector, cluster) = (1u64 << sector_shift, 1u64 << (sector_shift + cluster_shift));
    let root = u64::from(le_u32(boot, 96).saturating_sub(2));
    let at = root.saturating_mul(cluster).saturating_add(u64::from(le_u32(boot, 88)) * sector);
    // The label is among the first entries of the root folder.
    let entries = view.bytes(at, cluster.min(64 << 10))?.unwrap_or_default();
    let label = entries.chunks_exact(32).find(|entry| entry[0] == 0x83);
    let label = label.map(|entry| utf16le(&entry[2..][..usize::from(entry[1]).min(11) * 2]));
    let serial = le_u32(boot, 100);
    let found = Content {
        label: label.filter(|label| !label.is_empty()),
        identifier: Some(format!("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF)),
        clean: Some(le_u16(boot, 106) & 0x2 == 0),
        ..Content::of(FileSystem::Exfat)
    };
    Ok(Some(found.with_figures(sector, le_u64(boot, 72), None)))
}
