//! What is told of what a volume holds.

use schemars::JsonSchema;
use serde::Serialize;

/// What a volume may hold. Those after [`FileSystem::Iso9660`] are known by their signature alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum FileSystem {
    /// FAT with entries of 12 bits.
    Fat12,
    /// FAT with entries of 16 bits.
    Fat16,
    /// FAT with entries of 32 bits.
    Fat32,
    /// exFAT.
    Exfat,
    /// ext2: no journal.
    Ext2,
    /// ext3: a journal, and no extents.
    Ext3,
    /// ext4.
    Ext4,
    /// NTFS.
    Ntfs,
    /// xfs.
    Xfs,
    /// btrfs.
    Btrfs,
    /// Swap space.
    Swap,
    /// ISO 9660, of optical discs.
    Iso9660,
    /// APFS.
    Apfs,
    /// HFS+.
    HfsPlus,
    /// ReFS.
    Refs,
    /// F2FS.
    F2fs,
    /// Squashfs.
    Squashfs,
    /// An encrypted container in the LUKS format.
    Luks,
    /// A volume that Windows has encrypted as a whole.
    Fve,
    /// A physical volume of the Linux volume manager.
    Lvm,
    /// A member of a Linux software RAID.
    MdRaid,
    /// A member of a ZFS pool.
    Zfs,
    /// A device of a Linux block cache.
    Bcache,
    /// A member of a Windows storage pool, or of a dynamic disk.
    StoragePool,
}

impl FileSystem {
    /// Its name, as scripts read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fat12 => "fat12",
            Self::Fat16 => "fat16",
            Self::Fat32 => "fat32",
            Self::Exfat => "exfat",
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::Ntfs => "ntfs",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
            Self::Swap => "swap",
            Self::Iso9660 => "iso9660",
            Self::Apfs => "apfs",
            Self::HfsPlus => "hfs_plus",
            Self::Refs => "refs",
            Self::F2fs => "f2fs",
            Self::Squashfs => "squashfs",
            Self::Luks => "luks",
            Self::Fve => "fve",
            Self::Lvm => "lvm",
            Self::MdRaid => "md_raid",
            Self::Zfs => "zfs",
            Self::Bcache => "bcache",
            Self::StoragePool => "storage_pool",
        }
    }

    /// Whether what lies in it belongs to more than this volume, or cannot be told from noise: an encrypted container,
    /// a volume manager, a RAID, a pool. Nothing outside of it knows which of its bytes are in use.
    pub fn is_opaque(self) -> bool {
        use FileSystem as F;
        matches!(self, F::Luks | F::Fve | F::Lvm | F::MdRaid | F::Zfs | F::Bcache | F::StoragePool)
    }

    /// Whether this library reads the files in it.
    pub fn has_readable_files(self) -> bool {
        use FileSystem as F;
        matches!(self, F::Fat12 | F::Fat16 | F::Fat32 | F::Ext2 | F::Ext3 | F::Ext4 | F::Ntfs)
    }
}

impl std::fmt::Display for FileSystem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Exfat => "exFAT",
            Self::Ntfs => "NTFS",
            Self::Iso9660 => "ISO 9660",
            Self::Apfs => "APFS",
            Self::HfsPlus => "HFS+",
            Self::Refs => "ReFS",
            Self::F2fs => "F2FS",
            Self::Luks => "encrypted (LUKS)",
            Self::Fve => "encrypted (Windows)",
            Self::Lvm => "volume manager (LVM)",
            Self::MdRaid => "software RAID",
            Self::Zfs => "pool (ZFS)",
            Self::Bcache => "block cache",
            Self::StoragePool => "pool (Windows)",
            other => other.name(),
        })
    }
}

/// What a volume holds, as far as it can be read. Sizes are in bytes; what is not known is `None`.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Content {
    /// What it is.
    pub file_system: FileSystem,
    /// Its label; whoever made it chose it.
    pub label: Option<String>,
    /// Its identifier: a UUID, or a serial number as hexadecimal digits.
    pub identifier: Option<String>,
    /// Its own size, which may differ from the volume's.
    pub size: Option<u64>,
    /// What is used of it.
    pub used: Option<u64>,
    /// What is free.
    pub free: Option<u64>,
    /// Whether it was unmounted after its last use. `Some(false)` also while it is mounted.
    pub clean: Option<bool>,
    /// What else has left its signature there.
    pub also: Vec<FileSystem>,
}

impl Content {
    pub(super) fn of(file_system: FileSystem) -> Self {
        Self {
            file_system,
            label: None,
            identifier: None,
            size: None,
            used: None,
            free: None,
            clean: None,
            also: Vec::new(),
        }
    }

    /// A member of a pool that only its partition's type tells of.
    pub(in crate::guest) fn of_pool() -> Self {
        Self::of(FileSystem::StoragePool)
    }

    /// Its size, and what of it is free, in units of so many bytes; told only when they can be true.
    pub(super) fn with_figures(mut self, unit: u64, all: u64, free: Option<u64>) -> Self {
        self.size = unit.checked_mul(all);
        if let (Some(size), Some(free)) = (self.size, free.filter(|free| *free <= all)) {
            self.free = Some(free.saturating_mul(unit));
            self.used = Some(size.saturating_sub(free.saturating_mul(unit)));
        }
        self
    }
}

/// The text in a field that ends with its first zero byte; none when it is empty.
pub(super) fn text(field: &[u8]) -> Option<String> {
    let end = field.iter().position(|byte| *byte == 0).unwrap_or(field.len());
    let text = String::from_utf8_lossy(&field[..end]);
    let text = text.trim_end();
    (!text.is_empty()).then(|| text.to_owned())
}

/// The UUID in a field; none when all of it is zero.
pub(super) fn uuid(field: &[u8]) -> Option<String> {
    let uuid = uuid::Uuid::from_slice(field).ok()?;
    (!uuid.is_nil()).then(|| uuid.to_string())
}
