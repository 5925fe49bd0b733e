//! Empty images that are to be laid out in new files: their format, their kind, and how they take their space.

use std::ops::Range;

use super::new_image::NewImage;
use super::target::{Staged, Target};
use crate::error::{Error, Result};
use crate::image::{Format, ImageInfo, Kind, ParentRecord, ParentReference, Space, vhd, vhdx};
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::Storage;
use crate::transfer::pipeline::{self, Chunk, Feed};

/// A legal image that is not there yet.
#[derive(Clone, Debug)]
pub(in crate::ops) struct Blank {
    layout: Layout,
    size: u64,
    kind: Kind,
    /// Only fixed disks take space of their own accord.
    space: Option<Space>,
}

#[derive(Clone, Debug)]
enum Layout {
    Raw,
    Vhd(vhd::CreateOptions),
    Vhdx(vhdx::CreateOptions),
}

impl Blank {
    /// `fixed_space` is how a fixed disk takes its space unless something else was asked for.
    pub(in crate::ops) fn new(
        format: Format,
        target: &Target,
        size: u64,
        wishes: &NewImage,
        fixed_space: Space,
    ) -> Result<Self> {
        let kind = wishes.kind.unwrap_or(if format == Format::Raw { Kind::Fixed } else { Kind::Dynamic });
        let fixed = kind == Kind::Fixed;
        if kind == Kind::Differencing {
            return Err(Error::usage("a differencing disk needs a parent", "grow it from one"));
        }
        if wishes.space.is_some() && !fixed {
            return Err(Error::usage(
                "a dynamic disk takes its space as it grows",
                "say nothing of its space, or make it fixed",
            ));
        }
        let layout = match format {
            Format::Raw => {
                check_raw(size, kind, wishes)?;
                Layout::Raw
            }
            Format::Vhd => {
                if wishes.sectors.is_some_and(|sectors| sectors != (512, 512)) {
                    let message = "a vhd disk has sectors of 512 bytes, logical and physical";
                    return Err(Error::usage(message, "leave them out, or choose vhdx"));
                }
                let mut options = vhd::CreateOptions::new(size).with_fixed(fixed);
                if let Some(bytes) = wishes.block_size {
                    options = options.with_block_size(bytes);
                }
                options.check()?;
                Layout::Vhd(options)
            }
            Format::Vhdx => {
                let mut options = vhdx::CreateOptions::new(size).with_fixed(fixed);
                if let Some(bytes) = wishes.block_size {
                    options = options.with_block_size(bytes);
                }
                if let Some((logical, physical)) = wishes.sectors {
                    options = options.with_sectors(logical, physical);
                }
                options.file_len()?;
                Layout::Vhdx(options)
            }
        };
        let space = wishes.space.or(target.is_device().then_some(Space::Written)).unwrap_or(fixed_space);
        Ok(Self { layout, size, kind, space: fixed.then_some(space) })
    }

    pub(in crate::ops) fn kind(&self) -> Kind {
        self.kind
    }

    pub(in crate::ops) fn size(&self) -> u64 {
        self.size
    }

    /// How a fixed disk takes its space.
    pub(in crate::ops) fn space(&self) -> Option<Space> {
        self.space
    }

    pub(in crate::ops) fn format(&self) -> Format {
        match self.layout {
            Layout::Raw => Format::Raw,
            Layout::Vhd(_) => Format::Vhd,
            Layout::Vhdx(_) => Format::Vhdx,
        }
    }

    pub(in crate::ops) fn describe(&self) -> String {
        let blocks = match &self.layout {
            _ if self.kind == Kind::Fixed => None,
            Layout::Raw => None,
            Layout::Vhd(options) => Some(options.block_size()),
            Layout::Vhdx(options) => Some(options.block_size()),
        };
        let blocks = blocks.map_or_else(String::new, |bytes| format!(", blocks of {}", format_size(bytes)));
        let space = self.space.map_or_else(String::new, |space| format!(", {space}"));
        format!("{}, {}, {}{blocks}{space}", self.format(), self.kind, format_size(self.size))
    }

    /// What the empty image takes on the host at most.
    pub(in crate::ops) fn initial_len(&self) -> Result<u64> {
        let metadata = match &self.layout {
            Layout::Raw => 0,
            Layout::Vhd(options) => options.metadata_len(),
            // The table is left as a hole, unless it is filled; the fixed part is small.
            Layout::Vhdx(options) => options.metadata_len()?,
        };
        let claimed = matches!(self.space, Some(Space::Written | Space::Reserved));
        Ok(if claimed { metadata + self.data()?.end - self.data()?.start } else { metadata })
    }

    /// Whether the host may run full later.
    pub(in crate::ops) fn can_outgrow(&self) -> bool {
        !matches!(self.space, Some(Space::Written | Space::Reserved))
    }

    /// Where the data of a fixed image stands in its file.
    fn data(&self) -> Result<Range<u64>> {
        match &self.layout {
            Layout::Vhdx(options) => options.data_range(),
            _ => Ok(0..self.size),
        }
    }

    /// Lays the image out; a fixed one takes its space, unless a filling will write every byte of it anyway.
    pub(in crate::ops) fn lay_out(&self, staged: &Staged, is_filled: bool, progress: &Progress) -> Result<()> {
        let storage = staged.storage();
        match &self.layout {
            Layout::Raw => storage.set_len(self.size)?,
            Layout::Vhd(options) => options.create_in(&*storage)?,
            Layout::Vhdx(options) => options.create_in(&*storage)?,
        }
        let data = self.data()?;
        match self.space {
            Some(Space::Reserved) => staged.reserve(data),
            Some(Space::Written) if !(is_filled && staged.is_used()) => write_zeros(staged, data, progress),
            _ => Ok(()),
        }
    }
}

/// A legal differencing image that is not there yet, in the format of its parent.
#[derive(Clone, Debug)]
pub(crate) enum BlankChild {
    Vhd(vhd::CreateOptions),
    Vhdx(vhdx::CreateOptions),
}

impl BlankChild {
    /// A child with the size, the sectors and the guest's identity that `info` speaks of.
    pub(crate) fn new(format: Format, info: &ImageInfo, parent: ParentRecord, block_size: Option<u64>) -> Result<Self> {
        if format == Format::Vhd {
            let mut options = vhd::CreateOptions::new(info.virtual_size).with_parent(parent);
            if let Some(bytes) = block_size {
                options = options.with_block_size(bytes);
            }
            options.check()?;
            return Ok(Self::Vhd(options));
        }
        let mut options = vhdx::CreateOptions::new(info.virtual_size)
            .with_sectors(info.logical_sector, info.physical_sector)
            .with_parent(ParentReference::from(&parent));
        if let Some(id) = info.identity {
            options = options.with_disk_id(id);
        }
        if let Some(bytes) = block_size {
            options = options.with_block_size(bytes);
        }
        options.file_len()?;
        Ok(Self::Vhdx(options))
    }

    pub(crate) fn format(&self) -> Format {
        match self {
            Self::Vhd(_) => Format::Vhd,
            Self::Vhdx(_) => Format::Vhdx,
        }
    }

    pub(crate) fn metadata_len(&self) -> Result<u64> {
        match self {
            Self::Vhd(options) => Ok(options.metadata_len()),
            Self::Vhdx(options) => options.metadata_len(),
        }
    }

    pub(crate) fn create_in(&self, storage: &dyn Storage) -> Result<()> {
        match self {
            Self::Vhd(options) => options.create_in(storage),
            Self::Vhdx(options) => options.create_in(storage),
        }
    }
}

fn check_raw(size: u64, kind: Kind, wishes: &NewImage) -> Result<()> {
    if kind != Kind::Fixed {
        let advice = "name no kind, have it take no space at first (sparse), or choose vhd or vhdx";
        return Err(Error::usage("a raw disk is always fixed", advice));
    }
    if wishes.block_size.is_some() || wishes.sectors.is_some_and(|sectors| sectors != (512, 512)) {
        let message = "a raw disk has no blocks and no sector size of its own";
        return Err(Error::usage(message, "leave these options out, or make a vhdx disk"));
    }
    if size == 0 || !size.is_multiple_of(512) || i64::try_from(size).is_err() {
        return Err(Error::usage(
            format!("a disk of {size} bytes cannot be made"),
            "a raw disk is a multiple of 512 bytes, from 512 bytes to 8 EiB",
        ));
    }
    Ok(())
}

/// Every byte, with the host writing back meanwhile.
fn write_zeros(staged: &Staged, data: Range<u64>, progress: &Progress) -> Result<()> {
    const STEP: u64 = 1 << 20;
    let storage = staged.storage();
    let zeros = vec![0; STEP as usize];
    progress.begin("writing zeros", data.end - data.start);
    let steps = data.clone().step_by(STEP as usize).map(|at| at..data.end.min(at + STEP));
    let feed = |feed: &mut Feed<'_>| steps.clone().try_for_each(|step| feed.zeros(step));
    let write = |chunk: &Chunk| {
        let Chunk::Zeros(range) = chunk else { return Ok(0) };
        let len = range.end - range.start;
        storage.write_at(&zeros[..len as usize], range.start)?;
        progress.advance(len);
        Ok(len)
    };
    pipeline::run(feed, write, || staged.sync_so_far(), progress).map(|_| ())
}
