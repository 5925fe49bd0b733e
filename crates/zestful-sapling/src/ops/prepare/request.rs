//! What is asked for.

use std::path::PathBuf;

use crate::family::Guard;
use crate::guest::PartitionTable;
use crate::image::Format;

/// Volumes for a blank disk.
///
/// FAT is formatted here, ext4, NTFS, xfs and btrfs by the host's own programs, which run as the calling user on a
/// scratch file beside the image. A disk that is not blank is refused, with what is there.
///
/// What it can be allowed to do all the same: [`NotBlank`](crate::family::Override::NotBlank), and what
/// [`WriteBytes`](crate::ops::WriteBytes) can be.
///
/// ```
/// use zestful_sapling::chain::{Chain, OpenOptions};
/// use zestful_sapling::guest::volumes;
/// use zestful_sapling::ops::{Make, NewFileSystem, NewVolume, Operation, Planned, Prepare, VolumeSize};
/// use zestful_sapling::progress::Progress;
///
/// # fn main() -> zestful_sapling::Result<()> {
/// # let folder = tempfile::tempdir().unwrap();
/// let path = folder.path().join("herbarium.vhdx");
/// Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let records = NewVolume::new(VolumeSize::Rest, NewFileSystem::Fat).with_label("RECORDS");
/// Prepare::new(&path).with_volume(records).plan()?.run(&Progress::new())?;
///
/// let found = volumes(&Chain::open(&path, &OpenOptions::new())?)?;
/// assert_eq!(found.volumes[0].content.as_ref().unwrap().label.as_deref(), Some("RECORDS"));
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Prepare {
    pub(super) path: PathBuf,
    pub(super) table: PartitionTable,
    pub(super) volumes: Vec<NewVolume>,
    pub(super) wipe: bool,
    pub(super) scratch: Option<PathBuf>,
    pub(super) format: Option<Format>,
    pub(super) guard: Guard,
}

impl Prepare {
    /// The disk whose current image is `path` gets a GPT, without any volumes yet.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self {
            path: path.into(),
            table: PartitionTable::Gpt,
            volumes: Vec::new(),
            wipe: false,
            scratch: None,
            format: None,
            guard: Guard::new(),
        }
    }

    /// A table of this kind. An MBR reaches 2 TiB of a disk with sectors of 512 bytes.
    pub fn with_table(mut self, table: PartitionTable) -> Self {
        self.table = table;
        self
    }

    /// One volume more, behind those before.
    pub fn with_volume(mut self, volume: NewVolume) -> Self {
        self.volumes.push(volume);
        self
    }

    /// Every byte of the volumes is zeroed before, so that nothing old can show through; without, only what their file
    /// systems write is written.
    pub fn with_wipe(mut self, wipe: bool) -> Self {
        self.wipe = wipe;
        self
    }

    /// The folder for the scratch files: that of the image, unless told otherwise.
    pub fn with_scratch(mut self, folder: impl Into<PathBuf>) -> Self {
        self.scratch = Some(folder.into());
        self
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

/// A volume to be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewVolume {
    pub(super) size: VolumeSize,
    pub(super) file_system: NewFileSystem,
    pub(super) label: String,
    pub(super) fill: Option<PathBuf>,
}

impl NewVolume {
    /// So large, and with such a file system.
    pub fn new(size: VolumeSize, file_system: NewFileSystem) -> Self {
        Self { size, file_system, label: String::new(), fill: None }
    }

    /// With this label, which a GPT knows as the partition's name, too.
    pub fn with_label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into();
        self
    }

    /// With the files of this folder of the host in it: for FAT and ext4.
    pub fn with_fill(mut self, folder: impl Into<PathBuf>) -> Self {
        self.fill = Some(folder.into());
        self
    }
}

/// How large a volume is to be. Volumes are made of whole MiB.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum VolumeSize {
    /// So many bytes, rounded up.
    Bytes(u64),
    /// So much of the disk, in percent.
    Percent(u8),
    /// All that the others leave.
    Rest,
}

/// What a volume is to be formatted as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NewFileSystem {
    /// FAT12, FAT16 or FAT32, as its size asks for.
    Fat,
    /// ext4.
    Ext4,
    /// NTFS.
    Ntfs,
    /// xfs.
    Xfs,
    /// btrfs.
    Btrfs,
    /// Nothing: the volume holds what the disk held there.
    None,
}

impl std::fmt::Display for NewFileSystem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Self::Fat => "FAT",
            Self::Ext4 => "ext4",
            Self::Ntfs => "NTFS",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
            Self::None => "unformatted",
        })
    }
}
