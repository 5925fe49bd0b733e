//! The mark of a disk whose volumes are being put in place: until its table is there, it is blank to whoever looks, and
//! this tells what is on it from data that somebody wants.

use super::view::View;
use crate::error::Result;

/// Where it stands: before every volume, and behind both forms of a table's beginning.
pub(crate) const MARK_PLACE: u64 = 512 << 10;
/// Its length: a sector of any disk.
pub(crate) const MARK_LEN: usize = 4096;
const TEXT: &[u8] = b"zestful-sapling: volumes are being put onto this disk; its table comes last\n";

/// The bytes of the mark.
pub(crate) fn mark() -> Vec<u8> {
    let mut bytes = TEXT.to_vec();
    bytes.extend_from_slice(&blake3::hash(TEXT).as_bytes()[..]);
    bytes.resize(MARK_LEN, 0);
    bytes
}

/// Whether it stands there, and nothing in the first sector.
pub(super) fn is_begun(view: &View<'_>, first: &[u8]) -> Result<bool> {
    if first.iter().any(|byte| *byte != 0) {
        return Ok(false);
    }
    Ok(view.bytes(MARK_PLACE, MARK_LEN as u64)?.is_some_and(|bytes| bytes == mark()))
}
