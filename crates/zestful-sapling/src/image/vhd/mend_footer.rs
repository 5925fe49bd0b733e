//! Footers of a VHD image are put right, and moved.

use std::sync::Arc;

use super::SECTOR;
use super::footer::{COOKIE, DiskType, Footer, FooterPlace, bytes_at, judge, select};
use super::layout::Layout;
use crate::error::Result;
use crate::finding::Losses;
use crate::image::Mended;
use crate::storage::{Overlay, ReadAt, Storage};

/// The footer that rules, and where it stands.
pub(super) fn ruling(storage: &Arc<Overlay>) -> Result<(Footer, FooterPlace)> {
    select(&**storage, &mut Vec::new())
}

/// The content of the disk, all of it in doubt.
pub(super) fn whole_disk(storage: &Arc<Overlay>) -> Result<Losses> {
    let mut losses = Losses::default();
    losses.doubt(0..ruling(storage)?.0.current_size());
    Ok(losses)
}

/// Where the footer at the end stands, or would.
fn place_of_footer(storage: &Overlay, place: FooterPlace) -> Result<u64> {
    Ok(match place {
        FooterPlace::End(at) => at,
        FooterPlace::Copy => storage.len()?.next_multiple_of(SECTOR),
    })
}

/// Changes the footer, at the end where it is there, and in the copy that an image with blocks has.
pub(super) fn change_footer(storage: &Arc<Overlay>, change: impl FnOnce(Footer) -> Footer) -> Result<()> {
    let (footer, place) = ruling(storage)?;
    let footer = change(footer);
    if let FooterPlace::End(at) = place {
        // A footer of 511 bytes gets its last one.
        storage.write_at(footer.bytes(), at)?;
    }
    if footer.kind() != DiskType::FIXED {
        storage.write_at(footer.bytes(), 0)?;
    }
    Ok(())
}

/// The footer anew behind everything, from its copy; not before blocks that were cut have been seen to.
pub(super) fn restore_footer(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let len = storage.len()?;
    let layout = Layout::read_unjudged(&**storage, &mut Vec::new())?;
    let reach = layout.blocks.as_ref().map_or(0, |blocks| blocks.reach(len));
    if reach > len {
        return Ok(None);
    }
    let last = len.saturating_sub(SECTOR);
    let at = match len.is_multiple_of(SECTOR) && reach <= last {
        true => last,
        false => len.next_multiple_of(SECTOR),
    };
    storage.write_at(layout.footer.bytes(), at)?;
    Ok(Some(Mended::new("vhd-footer-lost", format!("write the footer anew, from its copy, at byte {at}"))))
}

/// The bytes of a footer whose cookie or checksum does not fit are believed, where all that they say does.
pub(super) fn believe_footer(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let len = storage.len()?;
    for at in [len.saturating_sub(SECTOR), len.saturating_sub(SECTOR - 1), 0] {
        let bytes = bytes_at(&**storage, at, len)?;
        let footer = Footer::believed(&bytes);
        let mut findings = Vec::new();
        let is_sound = judge(&footer, at, &mut findings).is_ok() && findings.is_empty();
        // Bytes of the disk itself are no footer: one of the marks must be right.
        let is_meant = bytes[..8] == *COOKIE || bytes[8..] == footer.bytes()[8..];
        if !is_sound || !is_meant || (at == 0 && footer.kind() == DiskType::FIXED) {
            continue;
        }
        storage.write_at(footer.bytes(), at)?;
        let mut losses = Losses::default();
        losses.doubt(0..footer.current_size());
        let what =
            format!("believe the footer at byte {at}, whose mark or checksum is wrong: all that it says is legal");
        return Ok(Some(Mended::new("vhd-footer", what).touching(losses)));
    }
    Ok(None)
}

/// A fixed disk whose data are too short gets zeros behind them.
pub(super) fn lengthen_fixed(storage: &Arc<Overlay>, size: u64, room: u64) -> Result<Option<Mended>> {
    let (footer, _) = ruling(storage)?;
    storage.punch_hole(room, storage.len()?.saturating_sub(room))?;
    storage.write_at(footer.bytes(), size)?;
    let mut losses = Losses::default();
    losses.doubt(0..room);
    losses.lose(room..size);
    let what = format!(
        "lengthen the disk from {room} to {size} bytes with zeros; what is missing is taken to have stood at the end"
    );
    Ok(Some(Mended::new("vhd-cut", what).touching(losses)))
}

/// Room for so many bytes behind everything, where `first` says they may begin; the footer comes after it.
pub(super) fn room_behind(storage: &Arc<Overlay>, len: u64, first: impl FnOnce(u64) -> u64) -> Result<u64> {
    let (footer, place) = ruling(storage)?;
    // The old footer stays where it is, as bytes that nothing names.
    let at = first(place_of_footer(storage, place)?.saturating_add(SECTOR));
    storage.write_at(footer.bytes(), at.saturating_add(len))?;
    Ok(at)
}

/// Moves the footer to another place behind everything; zeros stand where it was.
pub(super) fn move_footer(storage: &Arc<Overlay>, to: u64) -> Result<()> {
    let (footer, place) = ruling(storage)?;
    if let FooterPlace::End(at) = place {
        storage.punch_hole(at, storage.len()?.saturating_sub(at))?;
        storage.write_at(footer.bytes(), to)?;
    } else {
        storage.set_len(to)?;
    }
    Ok(())
}
