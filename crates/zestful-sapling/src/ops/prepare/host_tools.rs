//! The host's own programs that make file systems.

use std::io::Read;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::request::{NewFileSystem, NewVolume};
use crate::error::{Error, Result};
use crate::program::{Ended, wait_for};
use crate::progress::Progress;

/// Where such programs are; whatever the caller's environment says of others is not looked at.
const FOLDERS: [&str; 6] = ["/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"];
/// Of what a program says so much is told.
const MOST_TOLD: u64 = 2000;
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
    let found = find_in(&FOLDERS, tool.program).ok_or_else(|| {
        let program = tool.program;
        Error::usage(
            format!("there is no {program} on this host, which makes {file_system}"),
            format!("install the package {}, or leave the volume unformatted", tool.package),
        )
    })?;
    Ok(Some(found))
}

fn find_in(folders: &[&str], program: &str) -> Option<PathBuf> {
    folders.iter().map(|folder| Path::new(folder).join(program)).find(|path| path.is_file())
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
    let mut command = Command::new(program);
    command.env_clear().env("PATH", FOLDERS.join(":")).env("LC_ALL", "C.UTF-8");
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).process_group(0);
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
    let failed = |source: std::io::Error| Error::io("run", program, source);
    let mut child = command.spawn().map_err(failed)?;
    let errors = child.stderr.take();
    let said = std::thread::spawn(move || {
        let mut text = Vec::new();
        if let Some(mut errors) = errors {
            _ = errors.by_ref().take(MOST_TOLD).read_to_end(&mut text);
            // A program that nobody listens to any more would be ended by that.
            _ = std::io::copy(&mut errors, &mut std::io::sink());
        }
        String::from_utf8_lossy(&text).trim().to_owned()
    });
    let ended = wait_for(&mut child, Some(progress), None).map_err(failed)?;
    let said = said.join().unwrap_or_default();
    match ended {
        Ended::ByItself(status) if status.success() => Ok(()),
        Ended::Stopped(error) => Err(error),
        Ended::ByItself(status) => Err(failed(std::io::Error::other(match said.is_empty() {
            true => format!("it ended with {status}"),
            false => format!("it ended with {status}, and said: {said}"),
        }))),
        Ended::TooLate => Err(failed(std::io::ErrorKind::TimedOut.into())),
    }
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
    fn a_program_is_looked_for_in_the_folders_of_programs_alone() {
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().to_str().unwrap();
        assert_eq!(find_in(&[place], "mkfs.fen"), None);
        std::fs::write(folder.path().join("mkfs.fen"), "").unwrap();
        assert_eq!(find_in(&["/nowhere", place], "mkfs.fen"), Some(folder.path().join("mkfs.fen")));
    }

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
