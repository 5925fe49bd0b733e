//! Which ranges and sizes a disk can have.

use std::path::Path;

use super::ImageInfo;
use crate::error::{Error, Result};

/// Rejects a range that does not lie inside the disk or is not made of whole sectors.
pub(crate) fn check_range(info: &ImageInfo, path: &Path, offset: u64, len: u64) -> Result<()> {
    let sector = u64::from(info.logical_sector);
    let inside = offset.checked_add(len).is_some_and(|end| end <= info.virtual_size);
    if inside && offset.is_multiple_of(sector) && len.is_multiple_of(sector) {
        return Ok(());
    }
    Err(Error::usage(
        format!("{}: cannot write {len} bytes at byte {offset}", path.display()),
        format!(
            "a range lies inside the {} bytes of the disk and is made of whole {sector}-byte sectors",
            info.virtual_size
        ),
    ))
}

/// Rejects a new size that is not larger, or no whole number of sectors.
pub(crate) fn check_growth(info: &ImageInfo, path: &Path, size: u64) -> Result<()> {
    if size >= info.virtual_size && size.is_multiple_of(u64::from(info.logical_sector)) {
        return Ok(());
    }
    Err(Error::usage(
        format!("{}: a disk of {} bytes cannot grow to {size}", path.display(), info.virtual_size),
        format!("the new size is larger, and a multiple of {} bytes", info.logical_sector),
    ))
}

/// Rejects a new size that is larger, nothing, or no whole number of sectors.
pub(crate) fn check_shrinking(info: &ImageInfo, path: &Path, size: u64) -> Result<()> {
    let is_whole = size > 0 && size.is_multiple_of(u64::from(info.logical_sector));
    if is_whole && size <= info.virtual_size {
        return Ok(());
    }
    Err(Error::usage(
        format!("{}: a disk of {} bytes cannot shrink to {size}", path.display(), info.virtual_size),
        format!("the new size is smaller, and a multiple of {} bytes", info.logical_sector),
    ))
}
