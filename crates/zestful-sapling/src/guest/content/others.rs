//! File systems of which only the superblock is read. Each by the documentation that its makers keep.

use super::found::{Content, FileSystem, text, uuid};
use crate::bytes::{be_u32, be_u64, le_u32, le_u64};

pub(super) fn read(head: &[u8]) -> Vec<Content> {
    [xfs(head), btrfs(head), swap(head), iso9660(head)].into_iter().flatten().chain(by_signature(head)).collect()
}

fn xfs(head: &[u8]) -> Option<Content> {
    let block = head.get(..512).filter(|block| block.starts_with(b"XFSB"))?;
    let unit = u64::from(be_u32(block, 4));
    let found =
        Content { label: text(&block[108..120]), identifier: uuid(&block[32..48]), ..Content::of(FileSystem::Xfs) };
    Some(found.with_figures(unit, be_u64(block, 8), Some(be_u64(block, 144))))
}

fn btrfs(head: &[u8]) -> Option<Content> {
    let block = head.get(65536..65536 + 4096).filter(|block| block[64..72] == *b"_BHRfS_M")?;
    let found = Content {
        label: text(&block[299..299 + 256]),
        identifier: uuid(&block[32..48]),
        ..Content::of(FileSystem::Btrfs)
    };
    // The figures of one that spans several devices say nothing of this one.
    let (all, used, devices) = (le_u64(block, 112), le_u64(block, 120), le_u64(block, 136));
    Some(if devices == 1 { found.with_figures(1, all, all.checked_sub(used)) } else { found })
}

fn swap(head: &[u8]) -> Option<Content> {
    let pages = [4096, 8192, 16384, 32768, 65536];
    let page = pages.into_iter().find(|page| head.get(page - 10..*page) == Some(b"SWAPSPACE2"))?;
    let found = Content {
        label: text(&head[1052..1068]),
        identifier: uuid(&head[1036..1052]),
        ..Content::of(FileSystem::Swap)
    };
    let last = u64::from(le_u32(head, 1028));
    Some(found.with_figures(page as u64, last.saturating_add(1), None))
}

fn iso9660(head: &[u8]) -> Option<Content> {
    let block = head.get(32768..32768 + 2048).filter(|block| block[..6] == *b"\x01CD001")?;
    let found = Content { label: text(&block[40..72]), ..Content::of(FileSystem::Iso9660) };
    Some(found.with_figures(2048, u64::from(le_u32(block, 80)), Some(0)))
}

/// Those of which nothing but the name is told: where the signature stands, and what it is.
const SIGNATURES: [(usize, &[u8], FileSystem); 6] = [
    (32, b"NXSB", FileSystem::Apfs),
    (1024, b"H+\x00\x04", FileSystem::HfsPlus),
    (1024, b"HX\x00\x05", FileSystem::HfsPlus),
    (3, b"ReFS\0\0\0\0", FileSystem::Refs),
    (1024, &0xF2F5_2010u32.to_le_bytes(), FileSystem::F2fs),
    (0, b"hsqs", FileSystem::Squashfs),
];

fn by_signature(head: &[u8]) -> impl Iterator<Item = Content> {
    let found = SIGNATURES.iter().filter(|(at, bytes, _)| head.get(*at..at + bytes.len()) == Some(bytes));
    found.map(|(_, _, file_system)| Content::of(*file_system))
}
