//! FAT volumes, by the `fatfs` crate, in a scratch file.

use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;

use fatfs::{FatType, FormatVolumeOptions};

use super::scratch::Scratch;
use crate::bytes::{is_zero, sought};
use crate::error::{Error, Result};

/// A FAT counts its sectors in 32 bits.
pub(super) const MOST_SECTORS: u64 = u32::MAX as u64;
const MOST_LABEL: usize = 11;
const NO_LABEL: [u8; MOST_LABEL] = *b"NO NAME    ";
/// Where a boot sector tells how many sectors come before the volume, and where FAT32 keeps a copy of it.
const HIDDEN_AT: u64 = 28;
const COPY_OF_BOOT: u64 = 6;

/// The label as it stands in the volume: capital letters and digits, and a few signs.
///
/// # Errors
/// `Usage` when it cannot be one.
pub(super) fn label_of(text: &str) -> Result<[u8; MOST_LABEL]> {
    let text = text.to_uppercase();
    let fits = |byte: u8| byte.is_ascii_alphanumeric() || b" _-!#$%&'()@^`{}~".contains(&byte);
    if text.len() > MOST_LABEL || !text.bytes().all(fits) || text.starts_with(' ') {
        return Err(Error::usage(
            format!("{text:?} is no label for FAT"),
            "it has at most eleven letters, digits, spaces and signs such as _ and -",
        ));
    }
    let mut label = if text.is_empty() { NO_LABEL } else { [b' '; MOST_LABEL] };
    label[..text.len()].copy_from_slice(text.as_bytes());
    Ok(label)
}

/// Formats the scratch file. Returns how many bits the entries have.
pub(super) fn format(scratch: &Scratch, label: &str, start: u64, sector: u64) -> Result<u8> {
    let failed = |error: io::Error| Error::io("format", scratch.path(), error);
    let label = label_of(label)?;
    let sectors = u32::try_from(scratch.len() / sector).map_err(|_| Error::usage("too large for FAT", ""))?;
    let mut options = FormatVolumeOptions::new().bytes_per_sector(sector as u16).total_sectors(sectors);
    options = options.volume_id(uuid::Uuid::new_v4().as_fields().0);
    if label != NO_LABEL {
        options = options.volume_label(label);
    }
    let file = scratch.open()?;
    let formatted = crate::guest::contained(|| fatfs::format_volume(Sparse::new(&file), options));
    formatted.map_err(|panic| failed(io::Error::other(panic)))?.map_err(failed)?;
    let kind = fatfs::FileSystem::new(Sparse::new(&file), fatfs::FsOptions::new()).map_err(failed)?.fat_type();
    let hidden = u32::try_from(start / sector).unwrap_or(0).to_le_bytes();
    let copies = if kind == FatType::Fat32 { &[0, COPY_OF_BOOT][..] } else { &[0] };
    for copy in copies {
        file.write_all_at(&hidden, copy * sector + HIDDEN_AT).map_err(failed)?;
    }
    Ok(match kind {
        FatType::Fat12 => 12,
        FatType::Fat16 => 16,
        FatType::Fat32 => 32,
    })
}

/// A file that stays sparse: what is zero and was never written stays a hole.
struct Sparse<'a> {
    file: &'a std::fs::File,
    position: u64,
}

impl<'a> Sparse<'a> {
    fn new(file: &'a std::fs::File) -> Self {
        Self { file, position: 0 }
    }
}

impl Read for Sparse<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.file.read_at(buffer, self.position)?;
        self.position += len as u64;
        Ok(len)
    }
}

impl Write for Sparse<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let is_hole = || -> io::Result<bool> {
            let end = self.position + bytes.len() as u64;
            match rustix::fs::seek(self.file, rustix::fs::SeekFrom::Data(self.position)) {
                Ok(data) => Ok(data >= end),
                Err(rustix::io::Errno::NXIO) => Ok(true),
                Err(_) => Ok(false),
            }
        };
        if !is_zero(bytes) || !is_hole()? {
            self.file.write_all_at(bytes, self.position)?;
        }
        self.position += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Sparse<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.position = sought(to, self.position, self.file.metadata()?.len())?;
        Ok(self.position)
    }
}
