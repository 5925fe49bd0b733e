//! The structural validator: every rule of the format over one file, without its parents.

use std::sync::Arc;

use super::layout::Layout;
use super::{SECTOR, bitmap};
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, VhdFinding};
use crate::image::reads_zero;
use crate::progress::Progress;
use crate::storage::ReadAt;

/// Everything that is wrong, unusual or worth knowing about one image file; an empty list means that every structure is
/// sound. Nothing is written.
///
/// # Errors
/// `Io` and `Cancelled` only; damage is a finding, not an error.
pub fn check(storage: Arc<dyn ReadAt>, progress: &Progress) -> Result<Vec<Finding>> {
    let path = storage.path().to_owned();
    let mut findings = Vec::new();
    match check_all(&*storage, progress, &mut findings) {
        Ok(()) => {}
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => findings.push(*finding),
        Err(other) => return Err(other),
    }
    Ok(findings.into_iter().map(|finding| finding.at(&path)).collect())
}

fn check_all(storage: &dyn ReadAt, progress: &Progress, findings: &mut Vec<Finding>) -> Result<()> {
    let layout = Layout::read(storage, findings)?;
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
                findings.push(Finding::new(VhdFinding::UnwrittenData { block }, from));
                break;
            }
            first = first.saturating_add(run);
        }
    }
    Ok(())
}
