//! A chain whose current image is written to.

use super::cache::Resolved;
use super::disk::{Disk, DiskExtent, check_extent};
use crate::bytes::{index, split, wide};
use crate::error::{Error, Result};
use crate::image::{Image, ImageInfo, ImageMut, Source};

/// A chain whose current image can be written to.
pub struct ChainMut {
    current: Box<dyn ImageMut>,
    parents: Vec<Box<dyn Image>>,
    /// Of the parents; the current image changes.
    resolved: Resolved,
}

impl ChainMut {
    /// A disk over an image that is open already and parents that it reads through, nearest first.
    ///
    /// The caller answers for the parents being the right ones.
    pub fn from_parts(current: Box<dyn ImageMut>, parents: Vec<Box<dyn Image>>) -> Self {
        Self { current, parents, resolved: Resolved::default() }
    }

    /// The frozen layers, nearest first. They have no write calls.
    pub fn parents(&self) -> &[Box<dyn Image>] {
        &self.parents
    }

    /// Writes any range of bytes; where it does not fill whole sectors the rest of them is read first.
    ///
    /// # Errors
    /// `Usage` when the range is not inside the disk; otherwise as [`ImageMut::write_at`].
    pub fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        self.check_inside(offset, wide(bytes.len()))?;
        let sector = u64::from(self.info().logical_sector);
        let (mut rest, mut at) = (bytes, offset);
        while !rest.is_empty() {
            let (sectors, _) = split(wide(rest.len()), sector);
            let (number, within) = split(at, sector);
            let len = match within {
                0 if sectors > 0 => sectors.saturating_mul(sector),
                _ => sector.saturating_sub(within),
            };
            let (part, behind) = rest.split_at(index(len).min(rest.len()));
            if within == 0 && sectors > 0 {
                self.current.write_at(part, at)?;
            } else {
                let (start, mut whole) = (number.saturating_mul(sector), vec![0; index(sector)]);
                self.read_at(&mut whole, start)?;
                whole[index(within)..][..part.len()].copy_from_slice(part);
                self.current.write_at(&whole, start)?;
            }
            (rest, at) = (behind, at.saturating_add(wide(part.len())));
        }
        Ok(())
    }

    /// Makes any range of bytes read as zero, taking no space for it where the format allows.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn zero_at(&mut self, offset: u64, len: u64) -> Result<()> {
        self.check_inside(offset, len)?;
        let sector = u64::from(self.info().logical_sector);
        let end = offset.saturating_add(len);
        let first = offset.div_ceil(sector).saturating_mul(sector);
        let last = split(end, sector).0.saturating_mul(sector);
        if first >= last {
            return self.write_at(&vec![0; index(len)], offset);
        }
        self.write_at(&vec![0; index(first.saturating_sub(offset))], offset)?;
        self.current.zero_at(first, last.saturating_sub(first))?;
        self.write_at(&vec![0; index(end.saturating_sub(last))], last)
    }

    /// Gives the current image another identity.
    ///
    /// # Errors
    /// As [`ImageMut::set_identity`].
    pub fn set_identity(&mut self, identity: uuid::Uuid) -> Result<()> {
        self.current.set_identity(identity)
    }

    /// Returns when all that was written before is durable.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    pub fn flush(&mut self) -> Result<()> {
        self.current.flush()
    }

    /// Flushes and closes.
    ///
    /// # Errors
    /// As [`ImageMut::close`].
    pub fn close(self) -> Result<()> {
        self.current.close()
    }

    fn check_inside(&self, offset: u64, len: u64) -> Result<()> {
        match offset.checked_add(len) {
            Some(end) if end <= self.virtual_size() => Ok(()),
            _ => Err(Error::usage(
                format!("{len} bytes at byte {offset} reach past the end of {}", self.current.path().display()),
                format!("the disk has {} bytes", self.virtual_size()),
            )),
        }
    }
}

impl Disk for ChainMut {
    fn layer(&self, number: usize) -> Option<&dyn Image> {
        match number.checked_sub(1) {
            None => Some(&*self.current),
            Some(parent) => self.parents.get(parent).map(|layer| &**layer),
        }
    }

    fn info(&self) -> &ImageInfo {
        self.current.info()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        check_extent(self.virtual_size(), offset, len)?;
        let own = self.current.extent_at(offset, len)?;
        let data = match own.source {
            Source::Data(at) => Some((0, at)),
            Source::Zero => None,
            Source::Parent => {
                // Past the end of a smaller parent there are zeros.
                let room = self.parents.first().map_or(0, |parent| parent.info().virtual_size.saturating_sub(offset));
                if room > 0 {
                    let below = self.resolved.extent_at(&self.parents, offset, own.len.min(room))?;
                    return Ok(DiskExtent {
                        len: below.len,
                        data: below.data.map(|(layer, at)| (layer.saturating_add(1), at)),
                    });
                }
                None
            }
        };
        Ok(DiskExtent { len: own.len, data })
    }
}
