//! What must never be touched from outside, by its signature: encrypted containers, volume managers, RAIDs, pools.

use super::found::{Content, FileSystem, text, uuid};
use crate::bytes::{le_u32, le_u64};
use crate::error::Result;
use crate::guest::view::View;

/// Where the signature stands, and what it is.
const SIGNATURES: [(usize, &[u8], FileSystem); 4] = [
    (0, b"LUKS\xBA\xBE", FileSystem::Luks),
    (3, b"-FVE-FS-", FileSystem::Fve),
    (4096 + 24, b"\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81", FileSystem::Bcache),
    (0, b"SPACEDB ", FileSystem::StoragePool),
];
const MD_RAID: u32 = 0xA92B_4EFC;
const ZFS: u64 = 0x00BA_B10C;
/// Where the first label of a pool's member keeps its list of states.
const ZFS_STATES: (u64, u64) = (128 << 10, 128 << 10);

pub(super) fn read(view: &View<'_>, head: &[u8]) -> Result<Vec<Content>> {
    let found = SIGNATURES.iter().filter(|(at, bytes, _)| head.get(*at..at + bytes.len()) == Some(bytes));
    let mut found: Vec<Content> = found.map(|(_, _, file_system)| Content::of(*file_system)).collect();
    if let Some(luks) = found.first_mut().filter(|first| first.file_system == FileSystem::Luks) {
        let is_second = head.get(6..8) == Some(&[0, 2]);
        luks.label = head.get(24..72).filter(|_| is_second).and_then(text);
        luks.identifier = head.get(168..208).and_then(text);
    }
    let labels = (0..4).filter_map(|sector| head.get(sector * 512..(sector + 1) * 512));
    if labels.clone().any(|label| label.starts_with(b"LABELONE") && label[24..32] == *b"LVM2 001") {
        found.push(Content::of(FileSystem::Lvm));
    }
    if let Some(identifier) = md_raid(view, head)? {
        found.push(Content { identifier, ..Content::of(FileSystem::MdRaid) });
    }
    let states = view.bytes(ZFS_STATES.0, ZFS_STATES.1)?.unwrap_or_default();
    let is_state = |state: &[u8]| le_u64(state, 0) == ZFS || le_u64(state, 0) == ZFS.swap_bytes();
    if states.chunks_exact(1024).any(is_state) {
        found.push(Content::of(FileSystem::Zfs));
    }
    Ok(found)
}

/// The identifier of a RAID's member, whose superblock stands at one of four places.
fn md_raid(view: &View<'_>, head: &[u8]) -> Result<Option<Option<String>>> {
    let begins = [0, 4096].into_iter().filter_map(|at| head.get(at..at + 32));
    if let Some(block) = begins.clone().find(|block| le_u32(block, 0) == MD_RAID) {
        return Ok(Some(uuid(&block[16..32])));
    }
    let sectors = view.size / 512;
    let ends =
        [sectors.checked_sub(16).map(|sectors| (sectors & !7) * 512), (view.size & !0xFFFF).checked_sub(64 << 10)];
    for at in ends.into_iter().flatten() {
        let block = view.bytes(at, 32)?.filter(|block| le_u32(block, 0) == MD_RAID);
        if let Some(block) = block {
            return Ok(Some(uuid(&block[16..32])));
        }
    }
    Ok(None)
}
