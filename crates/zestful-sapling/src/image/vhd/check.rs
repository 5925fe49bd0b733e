//! The structural validator: every rule of the format over one file, without its parents.

use std::sync::Arc;

use super::layout::Layout;
use super::{SECTOR, bitmap};
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, Losses, VhdFinding};
use crate::image::reads_zero;
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::ReadAt;

/// Everything that is wrong, unusual or worth knowing about one image file; an empty list means that every structure is
/// sound. Nothing is written.
///
/// # Errors
/// `Io` and `Cancelled` only; damage is a finding, not an error.
pub fn check(storage: Arc<dyn ReadAt>, progress: &Progress) -> Result<Vec<Finding>> {
    progress.check()?;
    gathered(&*storage, |findings| {
        let layout = Layout::read(&*storage, findings)?;
        let Some(blocks) = &layout.blocks else { return Ok(()) };
        let mut unused = blocks.gaps();
        let end = layout.data_end(storage.len()?);
        unused.extend(
            Some(blocks.used_end()..end).filter(|rest| blocks.shape.stride() <= end.saturating_sub(rest.start)),
        );
        if let Some(first) = unused.first() {
            let bytes = unused.iter().fold(0, |sum, gap| gap.end.saturating_sub(gap.start).saturating_add(sum));
            findings.push(Finding::new(VhdFinding::SpaceUnused { bytes }, first.start));
        }
        Ok(())
    })
}

/// Sectors of a dynamic image that hold something though its bitmaps call them never written: found by reading all of
/// them. An image that does not open has nothing of it.
///
/// # Errors
/// As [`check`].
pub fn check_data(storage: Arc<dyn ReadAt>, progress: &Progress) -> Result<Vec<Finding>> {
    let Ok(layout) = Layout::read(&*storage, &mut Vec::new()) else { return Ok(Vec::new()) };
    gathered(&*storage, |findings| unwritten(&*storage, &layout, progress, |finding, _| findings.push(finding)))
}

fn gathered(storage: &dyn ReadAt, act: impl FnOnce(&mut Vec<Finding>) -> Result<()>) -> Result<Vec<Finding>> {
    let mut findings = Vec::new();
    match act(&mut findings) {
        Ok(()) => {}
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => findings.push(*finding),
        Err(other) => return Err(other),
    }
    Ok(findings.into_iter().map(|finding| finding.at(storage.path())).collect())
}

/// Calls `act` with each run of such sectors, and its place in the file.
pub(super) fn unwritten(
    storage: &dyn ReadAt,
    layout: &Layout,
    progress: &Progress,
    mut act: impl FnMut(Finding, std::ops::Range<u64>),
) -> Result<()> {
    let Some(blocks) = layout.blocks.as_ref().filter(|blocks| blocks.parent.is_none()) else { return Ok(()) };
    let name = storage.path().file_name().unwrap_or(storage.path().as_os_str()).to_string_lossy().into_owned();
    progress.begin(format!("checking {name}"), wide(blocks.table.len()).saturating_mul(blocks.shape.block_size));
    let mut bitmap = vec![0; index(blocks.shape.bitmap_len)];
    for block in 0..wide(blocks.table.len()) {
        progress.check()?;
        progress.advance(blocks.shape.block_size);
        let Some(place) = blocks.place(block) else { continue };
        storage.read_at(&mut bitmap, place)?;
        let sectors = blocks.shape.visible_len(block) / SECTOR;
        let mut first = 0u64;
        while first < sectors {
            let (present, run) = bitmap::run(&bitmap, first, sectors.saturating_sub(first));
            let data = place.saturating_add(blocks.shape.bitmap_len);
            let (from, len) = (data.saturating_add(first.saturating_mul(SECTOR)), run.saturating_mul(SECTOR));
            if !present && !reads_zero(storage, from, len)? {
                let start = blocks.range_of(block).start.saturating_add(first.saturating_mul(SECTOR));
                let found = Finding::new(VhdFinding::UnwrittenData { block }, from);
                act(found.doubting(start..start.saturating_add(len)), from..from.saturating_add(len));
            }
            first = first.saturating_add(run);
        }
    }
    Ok(())
}

/// What is in doubt where these parts of the file could not be read and count as zeros: blocks whose bitmap lies there.
/// A table of zeros does not open.
///
/// # Errors
/// `Io`; `Damaged` when the image does not open.
pub(crate) fn doubt_of_unreadable(storage: &dyn ReadAt, bad: &Ranges) -> Result<Losses> {
    let Some(blocks) = Layout::read(storage, &mut Vec::new())?.blocks else { return Ok(Losses::default()) };
    let mut content = Losses::default();
    for block in 0..wide(blocks.table.len()) {
        let Some(place) = blocks.place(block) else { continue };
        if bad.within(place..place.saturating_add(blocks.shape.bitmap_len)).next().is_some() {
            content.doubt(blocks.range_of(block));
        }
    }
    Ok(content)
}
