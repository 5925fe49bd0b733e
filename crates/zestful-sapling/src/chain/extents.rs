//! The parts of a disk that may hold anything but zeros.

use super::Disk;
use super::walk::{Origin, Walk};
use crate::bytes::split;
use crate::error::Result;
use crate::image::{Image, Source};

/// A part of a disk that is data in one layer's file.
pub(crate) struct DataExtent<'a> {
    pub(crate) layer: &'a dyn Image,
    /// The byte in the layer's file.
    pub(crate) at: u64,
    /// The byte of the disk.
    pub(crate) offset: u64,
    pub(crate) len: u64,
}

/// A part of what one layer alone holds.
pub(crate) enum Part<'a> {
    Data(DataExtent<'a>),
    /// Zeros that hide what the parent holds.
    Zeros(std::ops::Range<u64>),
}

/// Calls `act` with each part of the disk that may hold anything but zeros, in order.
pub(crate) fn for_each_data_extent<'a>(
    disk: &'a dyn Disk,
    mut act: impl FnMut(DataExtent<'a>) -> Result<()>,
) -> Result<()> {
    let mut walk = Walk::new(disk, usize::MAX);
    while let Some(part) = walk.next()? {
        let Origin::Data(number, at) = part.origin else { continue };
        let Some(layer) = disk.layer(number) else { continue };
        split_by_holes(DataExtent { layer, at, offset: part.offset, len: part.len }, |part| match part {
            Part::Data(data) => act(data),
            Part::Zeros(_) => Ok(()),
        })?;
    }
    Ok(())
}

/// Calls `act` with each part of the disk that this layer alone decides, in order: its data and, where it has a parent,
/// its explicit zeros.
pub(crate) fn for_each_part<'a>(layer: &'a dyn Image, mut act: impl FnMut(Part<'a>) -> Result<()>) -> Result<()> {
    let (mut offset, size, hides) = (0u64, layer.info().virtual_size, layer.info().parent.is_some());
    while offset < size {
        let extent = layer.extent_at(offset, size.saturating_sub(offset))?;
        match extent.source {
            Source::Data(at) => split_by_holes(DataExtent { layer, at, offset, len: extent.len }, |part| match part {
                Part::Zeros(_) if !hides => Ok(()),
                part => act(part),
            })?,
            Source::Zero if hides => act(Part::Zeros(offset..offset.saturating_add(extent.len)))?,
            Source::Zero | Source::Parent => {}
        }
        offset = offset.saturating_add(extent.len);
    }
    Ok(())
}

/// What of an extent is data and what are holes of the host's file, which read as zeros; both in whole sectors of the
/// disk, since the holes of some hosts are finer.
pub(crate) fn split_by_holes<'a>(whole: DataExtent<'a>, mut act: impl FnMut(Part<'a>) -> Result<()>) -> Result<()> {
    let DataExtent { layer, at, offset, len } = whole;
    let (mut from, end) = (at, at.saturating_add(len));
    // From a place in the file to one of the disk.
    let in_disk = |place: u64| offset.saturating_add(place.saturating_sub(at));
    let sector = u64::from(layer.info().logical_sector);
    while from < end {
        let found = layer.host_data(from, end.saturating_sub(from))?;
        let whole = |sectors: u64| from.saturating_add(sectors.saturating_mul(sector)).min(end);
        let (first, _) = split(found.start.saturating_sub(from), sector);
        let data = whole(first)..whole(found.end.saturating_sub(from).div_ceil(sector));
        if data.start > from {
            act(Part::Zeros(in_disk(from)..in_disk(data.start)))?;
        }
        if !data.is_empty() {
            let len = data.end.saturating_sub(data.start);
            act(Part::Data(DataExtent { layer, at: data.start, offset: in_disk(data.start), len }))?;
        }
        from = data.end;
    }
    Ok(())
}

/// How much data a disk holds at most, as far as tables and the host's holes tell.
pub(crate) fn data_len(disk: &dyn Disk) -> Result<u64> {
    let mut total = 0u64;
    for_each_data_extent(disk, |data| {
        total = total.saturating_add(data.len);
        Ok(())
    })?;
    Ok(total)
}

#[cfg(test)]
mod tests {
    use std::ops::Range;
    use std::path::Path;

    use super::*;
    use crate::image::{Extent, Format, ImageInfo, Kind};
    use crate::storage::ReadAt;

    /// An image with sectors of 4096 bytes on a host whose holes are finer: every third 512 bytes are data.
    struct Fine(ImageInfo);

    impl Image for Fine {
        fn storage(&self) -> &dyn ReadAt {
            self
        }
        fn info(&self) -> &ImageInfo {
            &self.0
        }
        fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
            Ok(Extent { len, source: Source::Data(offset + 1536) })
        }
    }

    impl ReadAt for Fine {
        fn path(&self) -> &Path {
            Path::new("(fine)")
        }
        fn len(&self) -> Result<u64> {
            Ok(1 << 20)
        }
        fn read_at(&self, _: &mut [u8], _: u64) -> Result<()> {
            Ok(())
        }
        fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
            let data = |unit: &u64| unit.is_multiple_of(3) && !(40..90).contains(unit);
            let first = (offset / 512..2048).find(data);
            Ok(first.map(|unit| (unit * 512).max(offset)..unit * 512 + 512))
        }
    }

    #[test]
    fn parts_are_whole_sectors_whatever_the_hosts_holes_are() {
        let info = ImageInfo {
            format: Format::Vhdx,
            kind: Kind::Dynamic,
            virtual_size: 64 << 10,
            block_size: None,
            logical_sector: 4096,
            physical_sector: 4096,
            identity: None,
            data_identity: None,
            time_stamp: None,
            parent: None,
            log_pending: false,
            saved_state: false,
        };
        let (image, mut next, mut zeros) = (Fine(info), 0, 0);
        split_by_holes(DataExtent { layer: &image, at: 1536, offset: 0, len: 64 << 10 }, |part| {
            let (range, is_data) = match part {
                Part::Data(data) => {
                    assert_eq!(data.at, data.offset + 1536);
                    (data.offset..data.offset + data.len, true)
                }
                Part::Zeros(range) => (range, false),
            };
            assert!(range.start == next && range.end.is_multiple_of(4096), "{range:?}");
            let data = image.host_data(range.start + 1536, range.end - range.start)?;
            assert!(is_data || data.is_empty(), "{range:?} holds data");
            zeros += if is_data { 0 } else { range.end - range.start };
            next = range.end;
            Ok(())
        })
        .unwrap();
        assert!(next == 64 << 10 && zeros >= 16 << 10, "{zeros}");
    }
}
