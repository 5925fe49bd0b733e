//! A VHD disk becomes larger.

use super::footer::DiskType;
use super::header;
use super::layout::{Blocks, UNUSED};
use super::state::VhdMut;
use super::{MAX_VIRTUAL_SIZE, SECTOR};
use crate::bytes::{fit_u32, index, wide};
use crate::error::{Error, Result};
use crate::image::Image;
use crate::storage::Storage;

impl VhdMut {
    /// Makes the disk larger, within the format's limits; what is new reads as zero. A new header and a larger table go
    /// behind everything, and the footer switches to them and to the new size at once.
    pub(super) fn grow_to(&mut self, size: u64) -> Result<()> {
        if size > MAX_VIRTUAL_SIZE {
            let message = format!("a vhd disk has {} GiB at most", MAX_VIRTUAL_SIZE >> 30);
            return Err(Error::usage(message, "copy it into a vhdx image"));
        }
        self.commit()?;
        let mut turn = self.turn();
        let (at, bytes, kind, tail) = {
            let layout = self.layout();
            let Some(blocks) = layout.blocks.as_ref() else {
                let message = format!("{} is a fixed disk, whose end cannot move safely", self.path().display());
                return Err(Error::usage(message, "copy it into a larger one"));
            };
            let at = turn.space.next.max(blocks.used_end());
            let entries = size.div_ceil(blocks.shape.block_size);
            let table_at = at.saturating_add(wide(header::LEN));
            let header = blocks.header.clone().with_table(table_at, fit_u32(entries));
            let mut bytes = header.bytes().to_vec();
            bytes.extend(blocks.table.iter().flat_map(|entry| entry.to_be_bytes()));
            let end = index(entries.saturating_mul(4).saturating_add(wide(header::LEN)));
            bytes.resize(end.next_multiple_of(index(SECTOR)), UNUSED.to_be_bytes()[0]);
            let kind = if blocks.parent.is_some() { DiskType::DIFFERENCING } else { DiskType::DYNAMIC };
            (at, bytes, kind, end_of(blocks))
        };
        // Where other programs may have left something behind the end of the disk.
        if let Some((from, len)) = tail {
            self.storage.punch_hole(from, len)?;
        }
        let put = || self.put_header(&mut turn, at, &bytes, |footer| footer.with_kind(kind).with_size(size));
        self.storage.all_or_nothing(put)?;
        drop(turn);
        let info = self.layout().info();
        *self.info.get_mut() = info;
        Ok(())
    }
}

/// What stands in the last block behind the end of the disk.
fn end_of(blocks: &Blocks) -> Option<(u64, u64)> {
    let block = wide(blocks.table.len()).checked_sub(1)?;
    let (shape, visible) = (blocks.shape, blocks.shape.visible_len(block));
    let from = blocks.place(block)?.saturating_add(shape.bitmap_len).saturating_add(visible);
    Some((from, shape.block_size.saturating_sub(visible))).filter(|(_, len)| *len > 0)
}
