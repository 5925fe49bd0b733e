//! What a guest sees, whatever lies behind it.

use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::image::{Image, ImageInfo, Source, Visit};

/// A range of a disk that comes from one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DiskExtent {
    /// Its length in bytes, never zero.
    pub len: u64,
    /// The layer (0 is the current image) and the byte in its file, or `None` for zeros.
    pub data: Option<(usize, u64)>,
}

/// What a guest sees, whatever lies behind it.
pub trait Disk: Send + Sync {
    /// The layers, the current image first.
    fn layer(&self, number: usize) -> Option<&dyn Image>;

    /// What the current image says of itself; its size is the disk's.
    fn info(&self) -> &ImageInfo;

    /// The size that a guest sees, in bytes.
    fn virtual_size(&self) -> u64 {
        self.info().virtual_size
    }

    /// While a visit lasts, what stands at a place that [`Disk::extent_at`] names during it belongs to the range that
    /// was asked about, though others write to the disk.
    fn visit(&self) -> Visit<'_> {
        Visit::free()
    }

    /// Where the bytes from `offset` on come from; at least one byte, at most `len`, inside the virtual size.
    ///
    /// # Errors
    /// `Usage` when the range is not inside the disk; `Damaged`, `Io`.
    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        check_extent(self.virtual_size(), offset, len)?;
        let mut len = len;
        let mut number = 0;
        while let Some(layer) = self.layer(number) {
            // Past the end of a smaller parent there are zeros.
            let room = layer.info().virtual_size.saturating_sub(offset);
            if room == 0 {
                break;
            }
            let extent = layer.extent_at(offset, len.min(room))?;
            len = extent.len;
            match extent.source {
                Source::Data(at) => return Ok(DiskExtent { len, data: Some((number, at)) }),
                Source::Zero => break,
                Source::Parent => number = number.saturating_add(1),
            }
        }
        Ok(DiskExtent { len, data: None })
    }

    /// What the bytes from `offset` on are; at least one, at most `len`. Holes of the host's files count as such.
    ///
    /// # Errors
    /// As [`Disk::extent_at`].
    fn status_at(&self, offset: u64, len: u64) -> Result<DiskStatus> {
        let _visit = self.visit();
        let extent = self.extent_at(offset, len)?;
        let found = extent.data.and_then(|(number, at)| self.layer(number).map(|layer| (number, layer, at)));
        let Some((number, layer, at)) = found else {
            return Ok(DiskStatus { len: extent.len, layer: None, is_hole: true });
        };
        let data = layer.host_data(at, extent.len)?;
        let (is_hole, end) = if data.start > at { (true, data.start) } else { (false, data.end) };
        let len = end.saturating_sub(at).clamp(1, extent.len);
        Ok(DiskStatus { len, layer: Some(number), is_hole })
    }

    /// Reads any range of bytes if no disk has to be waited for; `false` when one would have to be, and then the buffer
    /// may hold anything.
    ///
    /// # Errors
    /// As [`Disk::extent_at`].
    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        read_parts(self, buffer, offset, |layer, part, at| layer.storage().read_at_once(part, at))
    }

    /// Reads any range of bytes.
    ///
    /// # Errors
    /// As [`Disk::extent_at`].
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        read_parts(self, buffer, offset, |layer, part, at| layer.read_data(part, at).map(|()| true)).map(|_| ())
    }
}

/// Fills a buffer, part by part, each from the layer that has it; ends early where `read` says that it cannot.
fn read_parts<D: Disk + ?Sized>(
    disk: &D,
    buffer: &mut [u8],
    offset: u64,
    read: impl Fn(&dyn Image, &mut [u8], u64) -> Result<bool>,
) -> Result<bool> {
    let _visit = disk.visit();
    let (mut rest, mut at) = (buffer, offset);
    while !rest.is_empty() {
        let extent = disk.extent_at(at, wide(rest.len()))?;
        let (part, behind) = rest.split_at_mut(index(extent.len).min(rest.len()));
        match extent.data.and_then(|(number, at)| disk.layer(number).map(|layer| (layer, at))) {
            Some((layer, at)) if !read(layer, part, at)? => return Ok(false),
            Some(_) => {}
            None => part.fill(0),
        }
        (rest, at) = (behind, at.saturating_add(extent.len));
    }
    Ok(true)
}

/// What a range of a disk holds, and where that comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DiskStatus {
    /// Its length in bytes, never zero.
    pub len: u64,
    /// The layer that supplies it, 0 being the current image; `None` where no layer has anything.
    pub layer: Option<usize>,
    /// Whether it certainly reads as zero, and takes no space for it.
    pub is_hole: bool,
}

pub(super) fn check_extent(size: u64, offset: u64, len: u64) -> Result<()> {
    if len > 0 && offset.checked_add(len).is_some_and(|end| end <= size) {
        return Ok(());
    }
    Err(Error::usage(
        format!("{len} bytes at byte {offset} do not lie inside the disk"),
        format!("the disk has {size} bytes"),
    ))
}
