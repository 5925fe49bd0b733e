//! The host's own programs that make file systems.

use std::path::{Path, PathBuf};

use super::request::{NewFileSystem, NewVolume};
use crate::error::{Error, Result};
use crate::program;
use crate::progress::Progress;

const MIB: u64 = 1 << 20;

/// A program, and what it is known by.
struct Tool {
    program: &'static str,
    package: &'static str,
    /// The smallest volume that it makes.
    least: u64,
    most_label: usize,
}

fn tool(file_system: NewFileSystem) -> Option<Tool> {
    let of = |program, package, least, most_label| Some(Tool { program, package, least, most_label });
    match file_system {
        NewFileSystem::Ext4 => of("mkfs.ext4", "e2fsprogs", MIB, 16),
        NewFileSystem::Ntfs => of("mkntfs", "ntfs-3g", 2 * MIB, 128),
        NewFileSystem::Xfs => of("mkfs.xfs", "xfsprogs", 300 * MIB, 12),
        NewFileSystem::Btrfs => of("mkfs.btrfs", "btrfs-progs", 114 * MIB, 255),
        NewFileSystem::Fat | NewFileSystem::None => None,
    }
}

/// Finds the program that formats such a volume, and makes sure that it can; none where no program is needed.
///
/// # Errors
/// `Usage` when the host has no such program, with the package that brings it, or the volume is nothing for it.
pub(super) fn find(number: usize, volume: &NewVolume, len: u64) -> Result<Option<PathBuf>> {
    let Some(tool) = tool(volume.file_system) else { return Ok(None) };
    let file_system = volume.file_system;
    if len < tool.least {
        return Err(Error::usage(
            format!("volume {number} of {} is too small for {file_system}", crate::size::format_size(len)),
            format!("give it at least {}", crate::size::format_size(tool.least)),
        ));
    }
    let wrong = volume.label.contains(char::is_control) || volume.label.starts_with('-');
    if wrong || volume.label.len() > tool.most_label {
        return Err(Error::usage(
            format!("{:?} is no label for {file_system}", volume.label),
            format!("it has at most {} bytes, without control characters", tool.most_label),
        ));
    }
    let found = program::find(tool.program).ok_or_else(|| {
        let program = tool.program;
        Error::usage(
            format!("there is no {program} on this host, which makes {file_system}"),
            format!("install the package {}, or leave the volume unformatted", tool.package),
        )
    })?;
    Ok(Some(found))
}

/// Makes the file system in a file, with the calling user's rights and an empty environment.
///
/// # Errors
/// `Io` with what the program said; `Cancelled`, and then it was ended.
pub(super) fn make(
    program: &Path,
    volume: &NewVolume,
    file: &Path,
    place: (u64, u64),
    progress: &Progress,
) -> Result<()> {
    let (start, sector) = place;
    let mut command = program::command(program);
    let sector = sector.to_string();
    match volume.file_system {
        NewFileSystem::Ext4 => {
            // Nothing is zeroed that is a hole of the file, and will be one of the disk.
            command.args(["-q", "-F", "-E", "lazy_itable_init=1,lazy_journal_init=1,nodiscard"]);
            if sector == "4096" {
                command.args(["-b", "4096"]);
            }
            command.args(["-L", &volume.label]);
            if let Some(folder) = &volume.fill {
                command.arg("-d").arg(folder);
            }
        }
        NewFileSystem::Ntfs => {
            let first = start / sector.parse::<u64>().unwrap_or(512);
            command.args(["-q", "-F", "-Q", "-s", &sector, "-p", &first.to_string(), "-H", "255", "-S", "63"]);
            command.args(["-L", &volume.label]);
        }
        NewFileSystem::Xfs => {
            command.args(["-q", "-f", "-K", "-s", &format!("size={sector}"), "-L", &volume.label]);
        }
        NewFileSystem::Btrfs => _ = command.args(["-q", "-f", "-K", "-L", &volume.label]),
        NewFileSystem::Fat | NewFileSystem::None => return Ok(()),
    }
    command.arg(file);
    program::run(command, program, progress)
}

/// What the scratch file, and the disk, take at most for an empty file system of this size: generous, as measured.
pub(super) fn most_written(file_system: NewFileSystem, len: u64) -> u64 {
    match file_system {
        NewFileSystem::Ext4 => 8 * MIB + len / 50_000,
        NewFileSystem::Ntfs => 64 * MIB + len / 28_000,
        NewFileSystem::Xfs => (68 * MIB + len / 2000).min(2100 * MIB),
        NewFileSystem::Btrfs => 8 * MIB,
        NewFileSystem::Fat => 2 * MIB,
        NewFileSystem::None => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_program_cannot_do_is_told_before_it_runs() {
        let volume =
            |file_system, label: &str| NewVolume::new(super::super::VolumeSize::Rest, file_system).with_label(label);
        let wrong = |volume: NewVolume, len| find(1, &volume, len).unwrap_err().to_string();
        assert!(wrong(volume(NewFileSystem::Xfs, "fen"), 100 * MIB).contains("at least 300 MiB"));
        assert!(wrong(volume(NewFileSystem::Ext4, "a label that is too long"), 100 * MIB).contains("at most 16 bytes"));
        assert!(wrong(volume(NewFileSystem::Ext4, "-d/etc"), 100 * MIB).contains("no label"));
    }
}
