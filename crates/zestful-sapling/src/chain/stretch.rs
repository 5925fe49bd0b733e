//! The stretches of a disk that may hold anything but zeros.

use super::Disk;
use super::walk::{Origin, Walk};
use crate::error::Result;
use crate::image::{Image, Source};

/// A part of a disk that is data in one layer's file.
pub(crate) struct Stretch<'a> {
    pub(crate) layer: &'a dyn Image,
    /// The byte in the layer's file.
    pub(crate) at: u64,
    /// The byte of the disk.
    pub(crate) offset: u64,
    pub(crate) len: u64,
}

/// A part of what one layer alone holds.
pub(crate) enum Part<'a> {
    Data(Stretch<'a>),
    /// Zeros that hide what the parent holds.
    Zeros(std::ops::Range<u64>),
}

/// Calls `act` with each part of the disk that may hold anything but zeros, in order.
pub(crate) fn for_each_stretch<'a>(disk: &'a dyn Disk, mut act: impl FnMut(Stretch<'a>) -> Result<()>) -> Result<()> {
    let mut walk = Walk::new(disk, usize::MAX);
    while let Some(part) = walk.next()? {
        let Origin::Data(number, at) = part.origin else { continue };
        let Some(layer) = disk.layer(number) else { continue };
        split_by_holes(Stretch { layer, at, offset: part.offset, len: part.len }, |part| match part {
            Part::Data(stretch) => act(stretch),
            Part::Zeros(_) => Ok(()),
        })?;
    }
    Ok(())
}

/// Calls `act` with each part of the disk that this layer alone decides, in order: its data and, where it has a parent,
/// its explicit zeros.
pub(crate) fn for_each_part<'a>(layer: &'a dyn Image, mut act: impl FnMut(Part<'a>) -> Result<()>) -> Result<()> {
    let (mut offset, size, hides) = (0, layer.info().virtual_size, layer.info().parent.is_some());
    while offset < size {
        let extent = layer.extent_at(offset, size - offset)?;
        match extent.source {
            Source::Data(at) => split_by_holes(Stretch { layer, at, offset, len: extent.len }, |part| match part {
                Part::Zeros(_) if !hides => Ok(()),
                part => act(part),
            })?,
            Source::Zero if hides => act(Part::Zeros(offset..offset + extent.len))?,
            Source::Zero | Source::Parent => {}
        }
        offset += extent.len;
    }
    Ok(())
}

/// What of a stretch is data and what are holes of the host's file, which read as zeros; both in whole sectors of the
/// disk, since the holes of some hosts are finer.
pub(crate) fn split_by_holes<'a>(whole: Stretch<'a>, mut act: impl FnMut(Part<'a>) -> Result<()>) -> Result<()> {
    let Stretch { layer, at, offset, len } = whole;
    let (mut from, end) = (at, at + len);
    let sector = u64::from(layer.info().logical_sector);
    while from < end {
        let data = layer.host_data(from, end - from)?;
        let data =
            from + (data.start - from) / sector * sector..end.min(from + (data.end - from).next_multiple_of(sector));
        if data.start > from {
            act(Part::Zeros(offset + (from - at)..offset + (data.start - at)))?;
        }
        if !data.is_empty() {
            let len = data.end - data.start;
            act(Part::Data(Stretch { layer, at: data.start, offset: offset + (data.start - at), len }))?;
        }
        from = data.end;
    }
    Ok(())
}

/// How much data a disk holds at most, as far as tables and the host's holes tell.
pub(crate) fn data_len(disk: &dyn Disk) -> Result<u64> {
    let mut total = 0;
    for_each_stretch(disk, |stretch| {
        total += stretch.len;
        Ok(())
    })?;
    Ok(total)
}
