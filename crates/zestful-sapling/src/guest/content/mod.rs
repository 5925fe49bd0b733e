//! What a volume holds, told from its first bytes: which file system, its label, its figures.
//!
//! A volume may carry the signatures of several: what stood there before is not always wiped. What must never be
//! touched comes first, and the others are named beside it, so that nobody takes a leftover for the whole truth.

mod ext;
mod fat;
mod found;
mod ntfs;
mod opaque;
mod others;
mod stream;

use super::view::View;
use crate::error::Result;

pub use found::{Content, FileSystem};

/// Enough for all signatures but those that stand further behind.
const HEAD_LEN: u64 = 72 << 10;

/// What a volume holds; none when no signature is known. Where what is free must be counted through, that is done only
/// when it is wanted.
pub(super) fn identify(view: &View<'_>, count: bool) -> Result<Option<Content>> {
    let head = view.beginning(HEAD_LEN)?;
    let mut found = opaque::read(view, &head)?;
    found.extend(ntfs::read(view, &head, count)?);
    found.extend(fat::read(view, &head, count)?);
    found.extend(fat::read_exfat(view, &head)?);
    found.extend(ext::read(&head));
    found.extend(others::read(&head));
    let mut found = found.into_iter();
    Ok(found.next().map(|first| Content { also: found.map(|other| other.file_system).collect(), ..first }))
}
