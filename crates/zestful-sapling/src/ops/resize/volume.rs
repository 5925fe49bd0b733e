//! The file system of a volume takes the space that its partition has grown by. Programs of the host do that, on a view
//! of the disk of which all changes are forgotten; what they changed is kept, and written into the disk only when they
//! are content.

use std::fmt::Debug;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::record::{ResizeRecord, StoredStep, read_or_zeros};
use crate::chain::{Chain, ChainMut, OpenOptions, SharedDisk};
use crate::error::{Error, Refusal, Result};
use crate::guest::{FileSystem, Volume, Volumes, volumes_of_shared};
use crate::image::Space;
use crate::program;
use crate::progress::Progress;
use crate::sidecar::{RedoWriter, StoredRedo};
use crate::size::format_size;

const PIECE: u64 = 1 << 20;
/// Less than a block of the file system is nothing to it.
const MOST_BLOCK: u64 = 64 << 10;
/// What is compared with what the disk holds.
const GRAIN: usize = 4096;

/// Shows a volume to programs of the host, as a file, for as long as they work on it.
pub trait ShowVolume: Send + Sync + Debug {
    /// Calls `work` with the path of a file that is the partition of this number, or the whole disk. What is written to
    /// the file goes into the disk; when this returns nobody has the file any more.
    ///
    /// # Errors
    /// What `work` returns; `Io` when the host does not let the disk be shown.
    fn show(
        &self,
        disk: Arc<SharedDisk>,
        partition: Option<u32>,
        work: &mut dyn FnMut(&Path) -> Result<()>,
    ) -> Result<()>;
}

/// A volume whose file system is to be extended, and what does it.
#[derive(Clone, Debug)]
pub(super) struct VolumeToExtend {
    pub(super) partition: Option<u32>,
    /// The size of its file system in bytes.
    size: u64,
    check: PathBuf,
    resize: PathBuf,
}

/// The partition that a volume stands in.
fn number_of(volume: &Volume) -> Option<u32> {
    volume.partition.as_ref().map(|one| one.number)
}

impl VolumeToExtend {
    /// The volume in the partition that grows, to this length; otherwise the only one, or the last, on a disk of size
    /// `to`.
    ///
    /// # Errors
    /// `Refused` when its file system is not extended from outside; `Usage` when there is none, it is not clean, or the
    /// host has no programs for it.
    pub(super) fn find(path: &Path, found: &Volumes, grown: Option<(u32, u64)>, to: u64) -> Result<Self> {
        let volume = match grown {
            Some((wanted, _)) => found.volumes.iter().find(|volume| number_of(volume) == Some(wanted)),
            None => found.volumes.iter().max_by_key(|volume| volume.start),
        };
        let path = path.display();
        let content = volume.and_then(|volume| volume.content.as_ref());
        let (Some(volume), Some(content)) = (volume, content) else {
            let message = format!("{path} has no file system there that is known, and none is extended");
            return Err(Error::usage(message, "leave that out, and extend what it is from inside"));
        };
        let is_ext = matches!(content.file_system, FileSystem::Ext2 | FileSystem::Ext3 | FileSystem::Ext4);
        if !is_ext || !content.also.is_empty() {
            let file_system = content.file_system;
            return Err(Error::refused(
                Refusal::ExtendedInside { file_system: file_system.name() },
                format!(
                    "volume {volume} of {path} holds {file_system}, which is not extended from outside: only what is \
                     mounted grows safely"
                ),
                "extend disk and partition now, and the file system in the guest, or where it is mounted",
            ));
        }
        if content.clean != Some(true) {
            return Err(Error::usage(
                format!("volume {volume} of {path} was not unmounted: something in it waits to be put right"),
                "start and stop the guest once, or check it where the disk is exposed, and try again",
            ));
        }
        let room = match (grown, &volume.partition) {
            (Some((_, len)), _) => len,
            (None, Some(_)) => volume.len,
            (None, None) => to,
        };
        if content.size.is_some_and(|size| room.saturating_sub(size) < MOST_BLOCK) {
            return Err(Error::usage(
                format!("volume {volume} of {path} has all of {} already, which is what there is", format_size(room)),
                "have its partition extended as well, or the disk",
            ));
        }
        let program = |name: &str| {
            program::find(name).ok_or_else(|| {
                let message = format!("there is no {name} on this host, which is needed for {}", content.file_system);
                Error::usage(message, "install the package e2fsprogs, or extend the file system in the guest")
            })
        };
        let size = content.size.unwrap_or(0);
        Ok(Self { partition: number_of(volume), size, check: program("e2fsck")?, resize: program("resize2fs")? })
    }

    pub(super) fn told(&self) -> String {
        let place = self.partition.map_or_else(|| "on the disk".to_owned(), |number| format!("in partition {number}"));
        format!(
            "have {} extend the file system {place}, on a view of the disk that is thrown away",
            self.resize.display()
        )
    }

    /// Has it done on a view of the disk, and keeps what was changed.
    ///
    /// # Errors
    /// `Io`, also with what a program said; `Cancelled`. Nothing of the disk is changed.
    pub(super) fn extend(
        &self,
        show: &dyn ShowVolume,
        image: &Path,
        scratch: &Path,
        record: &ResizeRecord,
        progress: &Progress,
    ) -> Result<StoredRedo> {
        let options = OpenOptions::new().with_format(record.format).without_locks();
        let before = Chain::open(image, &options)?;
        let mut view = ChainMut::over_scratch(Chain::open(image, &options)?, scratch)?;
        if record.to > record.from {
            view.grow(record.to, Space::Sparse)?;
        }
        for piece in record.table.iter().flat_map(StoredStep::pieces) {
            view.write_at(&piece.new, piece.offset)?;
        }
        let view = Arc::new(SharedDisk::new(view));
        progress.begin("extending the file system".to_owned(), 0);
        show.show(view.clone(), self.partition, &mut |file| {
            self.run(&self.check, &["-f", "-p"], file, progress)?;
            self.run(&self.resize, &[], file, progress)?;
            self.run(&self.check, &["-f", "-n"], file, progress)
        })?;
        self.refuse_unchanged(&volumes_of_shared(&view)?)?;
        progress.begin("keeping what was changed".to_owned(), 0);
        let mut writer = RedoWriter::new(image)?;
        let (mut new, mut old) = (vec![0; PIECE as usize], vec![0; PIECE as usize]);
        let range = self.range(&view)?;
        view.for_each_own(range, &mut |part| {
            let mut at = part.start;
            while at < part.end {
                progress.check()?;
                let len = (part.end - at).min(PIECE) as usize;
                let (new, old) = (&mut new[..len], &mut old[..len]);
                view.read_at(new, at)?;
                read_or_zeros(&before, old, at)?;
                for (number, (new, old)) in new.chunks(GRAIN).zip(old.chunks(GRAIN)).enumerate() {
                    if new != old {
                        writer.add(at + (number * GRAIN) as u64, new, old)?;
                    }
                }
                at += len as u64;
            }
            Ok(())
        })?;
        writer.finish()
    }

    /// A program that is content has not always done something: a little more is no use to some file systems.
    fn refuse_unchanged(&self, found: &Volumes) -> Result<()> {
        let volume = found.volumes.iter().find(|volume| number_of(volume) == self.partition);
        let size = volume.and_then(|volume| volume.content.as_ref()).and_then(|content| content.size);
        if size.is_some_and(|size| size > self.size) {
            return Ok(());
        }
        let told = format!("it was content, and left the file system as it was, with {} bytes", self.size);
        Err(Error::io("run", &self.resize, std::io::Error::other(told)))
    }

    /// Where the volume lies now.
    fn range(&self, view: &SharedDisk) -> Result<std::ops::Range<u64>> {
        let Some(number) = self.partition else { return Ok(0..view.virtual_size()) };
        let found = view.partitions()?;
        let one = found.usable.iter().find(|one| one.number == number);
        Ok(one.map_or(0..0, |one| one.start..one.start + one.len))
    }

    fn run(&self, program: &Path, arguments: &[&str], file: &Path, progress: &Progress) -> Result<()> {
        let mut command = program::command(program);
        command.args(arguments).arg(file);
        program::run(command, program, progress)
    }
}
