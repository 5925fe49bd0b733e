//! A new disk, empty or with the content of another: what `make` and `copy` have in common.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::blank::Blank;
use super::fill::{Content, Filled, Filling, share, shareable_file};
use super::input::Input;
use super::new_image::NewImage;
use super::target::{Staged, Target};
use super::unchanged::{Unchanged, refuse_written};
use crate::chain::{Chain, ChainMut, Disk, data_len};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override};
use crate::finding::Severity;
use crate::guest::partition_table;
use crate::image::{Format, ImageInfo, Kind, Space, open_image, open_image_mut};
use crate::operation::Plan;
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::ReadAt;
use crate::transfer::digest_of;

/// Which identity a copy has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Identity {
    /// One of its own, so that both can be used side by side.
    #[default]
    Fresh,
    /// The source's, for a machine that is bound to it; two images then answer to one identity.
    Keep,
}

/// What is asked for.
pub(in crate::ops) struct Request<'a> {
    pub(in crate::ops) operation: &'static str,
    pub(in crate::ops) target: &'a Path,
    pub(in crate::ops) image: NewImage,
    pub(in crate::ops) guard: &'a Guard,
    /// The source's size, where there is one, unless something else is asked for.
    pub(in crate::ops) size: Option<u64>,
    /// The content.
    pub(in crate::ops) source: Option<Chain>,
    /// The same as bytes that are read once.
    pub(super) input: Option<Input>,
    /// Whether the new file may share the space of the source's.
    pub(in crate::ops) shares: bool,
    pub(in crate::ops) identity: Identity,
    /// Whether the new disk is read back and compared.
    pub(in crate::ops) verify: bool,
    /// How a raw disk takes its space unless something else is asked for.
    pub(in crate::ops) raw_space: Space,
}

/// A checked plan for a new disk.
pub(in crate::ops) struct NewDisk {
    pub(in crate::ops) plan: Plan,
    target: Target,
    blank: Blank,
    logical_sector: u32,
    source: Option<(Chain, Unchanged)>,
    input: Option<Input>,
    /// The bytes that the input is to give; the disk has more on a device.
    size_of_input: u64,
    shares: bool,
    kept: Option<Uuid>,
    verify: bool,
}

/// What became of a plan for a new disk. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct NewDiskOutcome {
    /// The new image; of a disk in pieces the descriptor.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Its format.
    pub format: Format,
    /// How it takes its space.
    pub kind: Kind,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// Bytes that were not zero and so were written.
    pub bytes_written: u64,
    /// Bytes whose space the new file shares with the source, until one of them is written to.
    pub bytes_shared: u64,
    /// Whether all was read back and found to be the same.
    pub verified: bool,
}

impl NewDisk {
    pub(in crate::ops) fn plan(request: Request<'_>) -> Result<Self> {
        let Request { operation, target, mut image, guard, size, source, input, shares, identity, verify, raw_space } =
            request;
        let target = Target::choose(target, &image, guard)?;
        let wanted = match (size, &source) {
            (Some(size), Some(source)) if size < source.virtual_size() => {
                return Err(Error::usage(
                    format!("a disk of {size} bytes cannot hold the {} of its source", source.virtual_size()),
                    "leave the size out, or give a larger one",
                ));
            }
            (Some(size), _) => size,
            (None, Some(source)) => source.virtual_size(),
            (None, None) => return Err(Error::usage("the new disk has no size", "say how large it is to be")),
        };
        let size = target.size_for(wanted)?;
        let format = target.format(&image, guard)?;
        let inherited = source.as_ref().and_then(|source| sectors_of(source.info()));
        let wanted_sectors = image.sectors.or(inherited);
        let logical_sector = match format {
            Format::Vhdx => wanted_sectors.map_or(512, |sectors| sectors.0),
            Format::Raw => target.raw_sector(wanted_sectors.map_or(512, |sectors| sectors.0)),
            Format::Vhd => 512,
        };
        match format {
            Format::Vhdx => image.sectors = wanted_sectors,
            // The sectors that were asked for are those that a raw disk has anyway.
            Format::Raw if image.sectors.is_some_and(|sectors| sectors.0 == logical_sector) => image.sectors = None,
            _ => {}
        }
        let mut plan = Plan { operation, ..Plan::default() };
        if let Some(source) = &source {
            plan.warnings.extend(refuse_written(source, guard)?);
            check_sectors(source, logical_sector, guard, &mut plan)?;
        }
        let fixed_space = if format == Format::Raw { raw_space } else { Space::Reserved };
        let blank = Blank::new(format, &target, size, &image, fixed_space)?;
        let kept = kept_identity(identity, source.as_ref(), format, &mut plan)?;
        plan.steps.push(format!("make {}: {}", target.path().display(), blank.describe()));
        target.tell(&mut plan, size);
        if size > wanted {
            plan.warnings.push(format!(
                "the disk takes all {} of the device; past the {} asked for it reads as zero",
                format_size(size),
                format_size(wanted)
            ));
        }
        plan.bytes_written = blank.initial_len()?;
        plan.peak_extra_space = plan.bytes_written;
        if let Some(source) = &source {
            let odd = source.layers().iter().flat_map(|layer| layer.warnings()).chain(source.warnings());
            let odd = odd.filter(|finding| finding.severity() > Severity::Note);
            plan.warnings.extend(odd.map(ToString::to_string));
            plan.bytes_read = data_len(source)?;
            plan.steps.push(format!("copy at most {} of data from {}", format_size(plan.bytes_read), name_of(source)));
            // A file's space is set aside first and filled then, which counts once; a device is written over from end
            // to end.
            if !target.is_device() {
                plan.bytes_written += plan.bytes_read;
            }
            if blank.can_outgrow() {
                plan.peak_extra_space = plan.bytes_written;
            }
        }
        if input.is_some() {
            plan.steps.push(format!("read {} from the input", format_size(wanted)));
            plan.bytes_read = wanted;
            if !target.is_device() {
                plan.bytes_written = plan.bytes_written.max(wanted);
            }
        }
        if verify {
            plan.steps.push(format!("read {} back and compare", target.path().display()));
            plan.bytes_read += plan.bytes_read;
        }
        if target.is_device() {
            plan.peak_extra_space = 0;
        }
        target.require_space(plan.peak_extra_space)?;
        if blank.can_outgrow() && !target.is_device() {
            plan.warn_of_growth(target.path(), size, 1)?;
        }
        let source = source.map(|source| {
            let unchanged = Unchanged::since_now(&source);
            (source, unchanged)
        });
        Ok(Self { plan, target, blank, logical_sector, source, input, size_of_input: wanted, shares, kept, verify })
    }

    /// The disk that it is filled from.
    pub(in crate::ops) fn source(&self) -> Option<&Chain> {
        self.source.as_ref().map(|(source, _)| source)
    }

    pub(in crate::ops) fn run(&self, progress: &Progress) -> Result<NewDiskOutcome> {
        self.target.require_space(self.plan.peak_extra_space)?;
        let staged = self.target.begin(self.blank.size(), self.logical_sector)?;
        let write = || {
            let outcome = self.write(&staged, progress)?;
            progress.check()?;
            Ok(outcome)
        };
        let done = write().and_then(|outcome| staged.publish(progress).map(|()| outcome));
        // A file that was begun is removed again; a device does not get its old content back.
        done.map_err(|error| if self.target.is_device() { error.on_device(self.target.path()) } else { error })
    }

    fn write(&self, staged: &Staged, progress: &Progress) -> Result<NewDiskOutcome> {
        let mut outcome = NewDiskOutcome {
            path: self.target.path().to_owned(),
            format: self.blank.format(),
            kind: self.blank.kind(),
            virtual_size: self.blank.size(),
            bytes_written: 0,
            bytes_shared: 0,
            verified: false,
        };
        let shareable = self
            .source
            .as_ref()
            .filter(|_| self.shares && self.blank.kind() == Kind::Fixed && self.blank.space() != Some(Space::Written));
        let sharing =
            shareable.and_then(|(source, _)| shareable_file(source)).and_then(|file| staged.sharing_with(&file));
        self.blank.lay_out(staged, self.source.is_some() || self.input.is_some(), progress)?;
        if let Some(input) = &self.input {
            self.fill_from(input, staged, &mut outcome, progress)?;
        }
        let Some((source, unchanged)) = &self.source else { return Ok(outcome) };
        let image = open_image_mut(staged.storage(), Some(self.blank.format()))?;
        let mut disk = ChainMut::from_parts(image, Vec::new());
        let name = self.target.path().file_name().unwrap_or_default().to_string_lossy().into_owned();
        progress.begin(format!("copying to {name}"), self.plan.bytes_read);
        let filled = match sharing {
            Some(file) => share(source, file, &disk, progress).map(|shared| {
                outcome.bytes_shared = shared;
                Filled { written: 0, digest: None }
            }),
            None => {
                let content = Content::Disk(source);
                Filling { source: content, staged, digest: self.verify, progress }.run(&mut disk)
            }
        };
        // That the source changed explains whatever else went wrong.
        unchanged.verify()?;
        let filled = filled?;
        outcome.bytes_written = filled.written;
        if let Some(identity) = self.kept {
            disk.set_identity(identity)?;
        }
        disk.close()?;
        if self.verify {
            let expected = match filled.digest {
                Some(digest) => digest,
                None => digest_of(source, source.layers()[0].path(), self.blank.size(), progress)?,
            };
            self.compare(staged, expected, progress)?;
            outcome.verified = true;
            unchanged.verify()?;
        }
        Ok(outcome)
    }

    fn fill_from(
        &self,
        input: &Input,
        staged: &Staged,
        outcome: &mut NewDiskOutcome,
        progress: &Progress,
    ) -> Result<()> {
        let image = open_image_mut(staged.storage(), Some(self.blank.format()))?;
        let mut disk = ChainMut::from_parts(image, Vec::new());
        progress.begin("copying from the input", self.plan.bytes_read);
        let (source, size) = (Content::Input(input, self.size_of_input), self.size_of_input);
        let filled = Filling { source, staged, digest: self.verify, progress }.run(&mut disk)?;
        input.end(size, progress)?;
        outcome.bytes_written = filled.written;
        disk.close()?;
        if let Some(expected) = filled.digest {
            self.compare(staged, expected, progress)?;
            outcome.verified = true;
        }
        Ok(())
    }

    /// Reads the new disk back, from the host's disk where it lets us, and compares.
    fn compare(&self, staged: &Staged, expected: blake3::Hash, progress: &Progress) -> Result<()> {
        staged.sync_so_far()?;
        staged.forget_cached();
        let storage: Arc<dyn ReadAt> = staged.storage();
        let written = Chain::from_layers(vec![open_image(storage, Some(self.blank.format()))?]);
        if digest_of(&written, self.target.path(), self.blank.size(), progress)? == expected {
            return Ok(());
        }
        Err(Error::VerifyFailed { path: self.target.path().to_owned() })
    }
}

/// The sectors of a source that has sectors of its own, which a copy keeps where its format can tell them.
fn sectors_of(source: &ImageInfo) -> Option<(u32, u32)> {
    let own = source.format == Format::Vhdx || source.logical_sector != 512;
    own.then_some((source.logical_sector, source.physical_sector))
}

/// Refuses to put a partition table onto sectors of another size.
pub(super) fn check_sectors(source: &Chain, logical_sector: u32, guard: &Guard, plan: &mut Plan) -> Result<()> {
    let own = source.info().logical_sector;
    if own == logical_sector {
        return Ok(());
    }
    let Some(table) = partition_table(source)? else { return Ok(()) };
    let message = format!(
        "{} carries a partition table ({table}) for sectors of {own} bytes, the new disk has sectors of \
         {logical_sector}: the table will not be readable",
        source.layers()[0].path().display()
    );
    if guard.allows(Override::Sectors) {
        plan.warnings.push(message);
        return Ok(());
    }
    let advice = format!("choose a vhdx image with logical sectors of {own} bytes");
    Err(Error::refused(Refusal::SectorsDiffer { own, other: logical_sector }, message, advice))
}

fn kept_identity(identity: Identity, source: Option<&Chain>, format: Format, plan: &mut Plan) -> Result<Option<Uuid>> {
    let (Identity::Keep, Some(source)) = (identity, source) else { return Ok(None) };
    let info = source.info();
    let path = source.layers()[0].path().display();
    // What identifies a VHD disk to its guest is also what its children know it by.
    let Some(kept) = info.identity.or(info.data_identity) else {
        return Err(Error::usage(
            format!("{path} is a {} disk, which has no identity to keep", info.format),
            "let the copy have one of its own",
        ));
    };
    if format == Format::Raw {
        return Err(Error::usage("a raw disk has no place for an identity", "copy to a vhdx or vhd image"));
    }
    plan.warnings.push(format!(
        "two images will answer to one identity, {kept}: never give both to one machine, and put one of them away"
    ));
    Ok(Some(kept))
}

fn name_of(source: &Chain) -> String {
    match source.layers() {
        [only] => only.path().display().to_string(),
        layers => format!("{} layers", layers.len()),
    }
}
