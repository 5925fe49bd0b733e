//! A whole chain, layer by layer: the copies have each other as parents and share nothing with the source.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::blank::Blank;
use super::blank::BlankChild;
use super::fill::{Content, Filling};
use super::new_disk::Identity;
use super::new_image::NewImage;
use super::target::{Staged, Target};
use super::unchanged::{Unchanged, refuse_written};
use crate::chain::{Chain, ChainMut, Disk, OpenOptions, Part, for_each_part};
use crate::error::{Error, Result};
use crate::family::Guard;
use crate::image::{Format, Image, ImageInfo, Kind, ParentRecord, Space, open_image, open_image_mut};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Companion, child_at};
use crate::size::format_size;
use crate::storage::{Access, FileStorage, StagedFile, StagedFolder, mark_read_only, refuse_existing};
use crate::transfer::{digest_of, layer_digest};

/// A chain to be copied into a new folder.
#[derive(Clone, Debug)]
pub struct CopyChain {
    source: PathBuf,
    folder: PathBuf,
    format: Option<Format>,
    identity: Identity,
    verify: bool,
    guard: Guard,
}

impl CopyChain {
    /// The chain that `source` is the current image of, into a new folder. Files keep their names.
    pub fn new(source: impl Into<PathBuf>, folder: impl Into<PathBuf>) -> Self {
        Self {
            source: source.into(),
            folder: folder.into(),
            format: None,
            identity: Identity::Fresh,
            verify: false,
            guard: Guard::new(),
        }
    }

    /// Another format for all layers.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Whether the copies have identities of their own.
    pub fn with_identity(mut self, identity: Identity) -> Self {
        self.identity = identity;
        self
    }

    /// Reads each layer back, and at the end the whole disk, and compares by digest before the folder appears.
    pub fn with_verify(mut self, verify: bool) -> Self {
        self.verify = verify;
        self
    }

    fn format_of(&self, info: &ImageInfo) -> Format {
        self.format.unwrap_or(info.format)
    }

    /// A name in the new folder for each layer; where two layers have one name, the deeper ones get a number.
    fn names(&self, source: &Chain) -> Result<Vec<OsString>> {
        let mut names: Vec<OsString> = Vec::new();
        let alone = source.layers().len() == 1;
        for layer in source.layers() {
            let format = self.format_of(layer.info());
            if format == Format::Raw && !alone {
                return Err(Error::usage("raw disks have no parents", "choose vhd or vhdx for a chain"));
            }
            if format == Format::Vhd && layer.info().logical_sector != 512 {
                let message = format!("{} has sectors of 4096 bytes, vhd has 512", layer.path().display());
                return Err(Error::usage(message, "keep it vhdx"));
            }
            let mut wanted = PathBuf::from(layer.path().file_name().unwrap_or_default());
            if format != layer.info().format {
                wanted.set_extension(format.to_string());
            }
            let (stem, mut number) = (wanted.file_stem().unwrap_or_default().to_owned(), 2);
            while names.iter().any(|name| name == wanted.as_os_str()) {
                let mut name = stem.clone();
                name.push(format!("-{number}.{format}"));
                wanted.set_file_name(name);
                number += 1;
            }
            names.push(wanted.into_os_string());
        }
        Ok(names)
    }
}

impl Operation for CopyChain {
    type Planned = CopyChainPlan;

    /// What copying would do. The source's files stay locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Refused` when something stands at the folder's place, or the host cannot hold the copies; `Usage` when the
    /// format has no such layers; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let source = Chain::open(&self.source, &OpenOptions::new())?;
        refuse_existing(&self.folder)?;
        let mut plan = Plan { operation: "copy", ..Plan::default() };
        plan.warnings.extend(refuse_written(&source, &self.guard)?);
        plan.steps.push(format!("make the folder {}", self.folder.display()));
        let names = self.names(&source)?;
        for (layer, name) in source.layers().iter().zip(&names).rev() {
            let data = own_data(&**layer)?;
            plan.bytes_read += data;
            let info = layer.info();
            plan.steps.push(format!(
                "make {}: {}, {}, {}, with the {} that {} holds itself",
                name.to_string_lossy(),
                self.format_of(info),
                info.kind,
                format_size(info.virtual_size),
                format_size(data),
                layer.path().display()
            ));
            plan.files.create.push(self.folder.join(name));
            plan.peak_extra_space += match info.kind {
                Kind::Fixed => info.virtual_size,
                _ => data + (2 << 20),
            };
        }
        plan.bytes_written = plan.peak_extra_space;
        if self.identity == Identity::Keep {
            plan.warnings.push("each copy will answer to its source's identity: never use both side by side".into());
        }
        Plan::require_space(&self.folder, plan.peak_extra_space)?;
        let unchanged = Unchanged::since_now(&source);
        Ok(CopyChainPlan { plan, request: self, source, unchanged, names })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// Bytes that a layer holds itself, at most.
fn own_data(layer: &dyn Image) -> Result<u64> {
    let mut total = 0;
    for_each_part(layer, |part| {
        if let Part::Data(data) = part {
            total += data.len;
        }
        Ok(())
    })?;
    Ok(total)
}

/// A checked plan to copy a chain.
pub struct CopyChainPlan {
    plan: Plan,
    request: CopyChain,
    source: Chain,
    unchanged: Unchanged,
    /// The current image's first.
    names: Vec<OsString>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CopyChainOutcome {
    /// The copy of the current image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The copies, the current image's first.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub layers: Vec<PathBuf>,
    /// Bytes of data that were written.
    pub bytes_written: u64,
    /// Whether all was read back and found to be the same.
    pub verified: bool,
}

impl Planned for CopyChainPlan {
    type Outcome = CopyChainOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Copies the chain, the base first. The folder appears under its name when all layers are complete and durable;
    /// stopped, failed or killed before, nothing stands there.
    ///
    /// # Errors
    /// `Cancelled`; `Damaged` when a layer cannot be read; `Refused` when something appeared at the folder's place, or
    /// another program changed the source; `Io`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        Plan::require_space(&self.request.folder, self.plan.peak_extra_space)?;
        refuse_existing(&self.request.folder)?;
        let folder = StagedFolder::create(&self.request.folder)?;
        let written = self.write_layers(folder.temporary(), progress);
        self.unchanged.verify()?;
        let bytes_written = written?;
        if self.request.verify {
            self.compare(folder.temporary(), progress)?;
            self.unchanged.verify()?;
        }
        progress.check()?;
        folder.publish()?;
        let layers: Vec<PathBuf> = self.names.iter().map(|name| self.request.folder.join(name)).collect();
        Ok(CopyChainOutcome { path: layers[0].clone(), layers, bytes_written, verified: self.request.verify })
    }
}

impl CopyChainPlan {
    fn write_layers(&self, folder: &Path, progress: &Progress) -> Result<u64> {
        // A chain is one disk to its guest.
        let disk_id = Uuid::new_v4();
        let mut written = 0;
        let mut parent: Option<ParentRecord> = None;
        let mut below: Option<PathBuf> = None;
        let total = self.source.layers().len();
        for (number, (layer, name)) in self.source.layers().iter().zip(&self.names).rev().enumerate() {
            let path = folder.join(name);
            progress.begin(format!("copying layer {} of {total}", number + 1), own_data(&**layer)?);
            written += self.write_layer(&**layer, &path, parent.take(), disk_id, progress)?;
            if let Some(parent) = below.replace(path.clone()) {
                let new = [child_at(&path)];
                let change = ChildrenChange { new: &new, freezes: true, ..ChildrenChange::default() };
                Companion::change_children(&parent, &change)?;
            }
            if number + 1 < total {
                mark_read_only(&path)?;
                parent = Some(record_of(&path, name)?);
            }
        }
        Ok(written)
    }

    fn write_layer(
        &self,
        layer: &dyn Image,
        path: &Path,
        parent: Option<ParentRecord>,
        disk_id: Uuid,
        progress: &Progress,
    ) -> Result<u64> {
        let (info, format) = (layer.info(), self.request.format_of(layer.info()));
        let kept = self.request.identity == Identity::Keep;
        let block_size = info.block_size.filter(|_| format == info.format && info.kind != Kind::Fixed);
        let staged = match parent {
            Some(parent) => {
                let file = StagedFile::create(path)?;
                // What an odd block size of another program's was chosen for is not ours to know.
                let blank = BlankChild::new(format, info, parent.clone(), block_size)
                    .or_else(|_| BlankChild::new(format, info, parent, None))?;
                blank.create_in(&*file.storage())?;
                Staged::File(file)
            }
            None => {
                let mut image = NewImage::new().with_format(format).with_kind(info.kind);
                if format == Format::Vhdx {
                    image = image.with_sectors((info.logical_sector, info.physical_sector));
                }
                let target = Target::choose(path, &image, &self.request.guard)?;
                let blank = |image: NewImage| Blank::new(format, &target, info.virtual_size, &image, Space::Reserved);
                let with_blocks = block_size.map(|bytes| blank(image.clone().with_block_size(bytes)));
                let blank = with_blocks.and_then(Result::ok).map_or_else(|| blank(image), Ok)?;
                let staged = target.begin(info.virtual_size, info.logical_sector)?;
                blank.lay_out(&staged, true, progress)?;
                staged
            }
        };
        let mut disk = ChainMut::from_parts(open_image_mut(staged.storage(), Some(format))?, Vec::new());
        let filling = Filling { source: Content::Layer(layer), staged: &staged, digest: self.request.verify, progress };
        let filled = filling.run(&mut disk)?;
        match (format, kept) {
            (Format::Vhdx, true) => disk.set_identity(info.identity.unwrap_or(disk_id))?,
            (Format::Vhdx, false) => disk.set_identity(disk_id)?,
            (_, true) => disk.set_identity(info.data_identity.unwrap_or(disk_id))?,
            // The identity of a VHD image is new already.
            _ => {}
        }
        disk.close()?;
        if let Some(expected) = filled.digest {
            staged.sync_so_far()?;
            staged.forget_cached();
            let image = open_image(staged.storage(), Some(format))?;
            if layer_digest(&*image, progress)? != expected {
                return Err(Error::VerifyFailed { path: path.to_owned() });
            }
        }
        progress.check()?;
        staged.publish(progress)?;
        Ok(filled.written)
    }

    /// Compares what a guest sees.
    fn compare(&self, folder: &Path, progress: &Progress) -> Result<()> {
        let path = folder.join(&self.names[0]);
        let size = self.source.virtual_size();
        let copied = Chain::open(&path, &OpenOptions::new())?;
        let expected = digest_of(&self.source, self.source.layers()[0].path(), size, progress)?;
        if digest_of(&copied, &path, size, progress)? == expected {
            Ok(())
        } else {
            Err(Error::VerifyFailed { path: path.clone() })
        }
    }
}

/// What a child in the same folder records of the image at `path`.
fn record_of(path: &Path, name: &std::ffi::OsStr) -> Result<ParentRecord> {
    let storage = FileStorage::open(path, Access::Read)?;
    let image = open_image(std::sync::Arc::new(storage), None)?;
    let text = name.to_str().filter(|name| !name.contains('\\')).ok_or_else(|| {
        let message = format!("the name {} cannot be recorded in a child", name.display());
        Error::usage(message, "rename the source: valid Unicode without backslashes can be recorded")
    })?;
    Ok(ParentRecord {
        identity: image.info().data_identity.unwrap_or_default(),
        also: None,
        time_stamp: image.info().time_stamp,
        name: text.to_owned(),
        relative: format!(".\\{text}"),
        absolute: None,
    })
}
