//! What is damaged in a VHD image is put right from what the file says twice, or with what has to be given up.
//!
//! Everything is done to an overlay in memory; whoever asked writes what comes of it.

use std::sync::Arc;

use uuid::Uuid;

use super::check::unwritten;
use super::footer::Footer;
use super::header::{self, DynamicHeader};
use super::layout::{Blocks, Layout};
use super::mend_footer::{believe_footer, change_footer, lengthen_fixed, restore_footer, ruling, whole_disk};
use super::{SECTOR, mend_table};
use crate::bytes::wide;
use crate::error::{Error, Result};
use crate::finding::{Finding, FindingKind, Losses, VhdFinding};
use crate::image::Mended;
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::{Overlay, ReadAt, Storage};

/// How far a dynamic header is searched whose place is lost.
const SEARCHED: u64 = 1 << 20;

/// Mends whatever has the finding's code, all over the image; `None` where nothing says how.
///
/// # Errors
/// `Io`; `Refused` when too much would change; `Cancelled`.
pub(crate) fn mend(storage: &Arc<Overlay>, finding: &Finding, progress: &Progress) -> Result<Option<Mended>> {
    let FindingKind::Vhd(kind) = &finding.kind else { return Ok(None) };
    match mend_kind(storage, kind, progress) {
        // What stands in the way has a finding of its own.
        Err(Error::Damaged(_) | Error::Unsupported(_)) => Ok(None),
        Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::UnexpectedEof => Ok(None),
        other => other,
    }
}

/// Zeros the sectors that hold something though their bitmaps call them never written; `None` when there are none, or
/// the image does not open.
///
/// # Errors
/// As [`mend`].
pub(crate) fn mend_data(storage: &Arc<Overlay>, progress: &Progress) -> Result<Option<Mended>> {
    let Ok(layout) = Layout::read(&**storage, &mut Vec::new()) else { return Ok(None) };
    let (mut content, mut places) = (Losses::default(), Ranges::default());
    unwritten(&**storage, &layout, progress, |finding, place| {
        content.join(&finding.content);
        places.add(place);
    })?;
    for range in places.list() {
        storage.punch_hole(range.offset, range.length)?;
    }
    let what =
        "zero what stands in sectors that were never written by their bitmaps, which is what is read here already";
    Ok((!places.is_empty()).then(|| Mended::new("vhd-unwritten-data", what).touching(content)))
}

fn mend_kind(storage: &Arc<Overlay>, kind: &VhdFinding, progress: &Progress) -> Result<Option<Mended>> {
    use VhdFinding as F;
    let code = kind.rule().code;
    let change = |what: &str, change: fn(Footer) -> Footer| {
        change_footer(storage, change).map(|()| Some(Mended::new(code, what)))
    };
    match kind {
        F::Footer { .. } => believe_footer(storage),
        F::FooterLost { .. } => restore_footer(storage),
        F::Copy { .. } | F::CopyDiffers | F::CopyOutdated => {
            change("write the copy of the footer anew from the one at the end", |footer| footer)
        }
        F::CopyContradicts => {
            change_footer(storage, |footer| footer)?;
            let what = "write the footer at the end, which is used, over its copy; nothing tells which size is right";
            Ok(Some(Mended::new(code, what).touching(whole_disk(storage)?)))
        }
        F::SavedState => {
            change("no longer say that a suspended machine goes on from it", |footer| footer.with_saved_state(false))
        }
        F::SavedStateValue { .. } => {
            change("give the mark of a suspended machine its legal value", |footer| footer.with_saved_state(true))
        }
        F::Geometry => change("compute the geometry from the size", Footer::with_right_geometry),
        F::Reserved => change("zero the reserved bytes of the footer", Footer::with_reserved_zero),
        F::Identity => change("give the image an identity", |footer| footer.with_unique_id(Uuid::new_v4())),
        F::Features { .. } => change("give the footer features that there are", Footer::with_legal_features),
        F::Cut { size, room } => lengthen_fixed(storage, *size, *room),
        F::HeaderPlace { .. } => find_header(storage),
        F::Header { .. } => believe_header(storage),
        F::Locator { .. } => drop_locators(storage),
        _ => mend_table::mend(storage, kind, progress),
    }
}

fn header_at(storage: &Overlay, at: u64) -> Result<Option<[u8; header::LEN]>> {
    let mut bytes = [0; header::LEN];
    if at.checked_add(wide(header::LEN)).is_none_or(|end| end > storage.len().unwrap_or_default()) {
        return Ok(None);
    }
    storage.read_at(&mut bytes, at)?;
    Ok(Some(bytes))
}

/// The header is searched at the beginning of the file, and the footer told where it is.
fn find_header(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let (footer, _) = ruling(storage)?;
    let mut found = Vec::new();
    for at in (SECTOR..SEARCHED).step_by(512) {
        let Some(bytes) = header_at(storage, at)? else { break };
        if DynamicHeader::parse(&bytes).is_ok_and(|header| header.judge(at, footer.current_size()).is_ok()) {
            found.push(at);
        }
    }
    let [at] = found[..] else { return Ok(None) };
    change_footer(storage, |footer| footer.with_data_offset(at))?;
    let what = format!("name the place {at} of the dynamic header, the only one that was found");
    Ok(Some(Mended::new("vhd-header-place", what).touching(whole_disk(storage)?)))
}

/// The bytes of a header whose cookie or checksum does not fit are believed, where all that they say does.
fn believe_header(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let (footer, _) = ruling(storage)?;
    let at = footer.data_offset();
    let Some(bytes) = header_at(storage, at)? else { return Ok(None) };
    let header = DynamicHeader::believed(&bytes);
    let table_end = header.entries().saturating_mul(4).saturating_add(header.table_offset());
    let is_meant = bytes[..8] == header.bytes()[..8] || bytes[8..] == header.bytes()[8..];
    let is_sound = header.judge(at, footer.current_size()).is_ok() && table_end <= storage.len()?;
    if !is_meant || !is_sound {
        return Ok(None);
    }
    storage.write_at(header.bytes(), at)?;
    let what = "believe the dynamic header, whose mark or checksum is wrong: all that it says is legal";
    Ok(Some(Mended::new("vhd-header", what).touching(whole_disk(storage)?)))
}

/// Paths that lie outside of the file are taken out of the header; what identifies the parent stays.
fn drop_locators(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let layout = Layout::read_unjudged(&**storage, &mut Vec::new())?;
    let Some(Blocks { header, .. }) = layout.blocks else { return Ok(None) };
    let len = storage.len()?;
    let header = header.with_locators_that(|entry| entry.is_inside(len));
    storage.write_at(header.bytes(), layout.footer.data_offset())?;
    Ok(Some(Mended::new("vhd-locator", "take out the paths of the parent that lie outside of the file")))
}
