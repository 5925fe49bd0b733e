//! Who on this host uses the files of a folder, and what would let go.

use std::fs::read_to_string;
use std::path::{Path, PathBuf};

use super::mounts::{Mount, mounts};

/// A line for each: what it holds, and what would let go. Processes of other users are seen by root alone.
pub(crate) fn holders_of(folder: &Path) -> Vec<String> {
    let mounts = mounts().unwrap_or_default();
    let mut found: Vec<String> = Vec::new();
    for device in loop_devices(folder) {
        found.push(device.told(&mounts));
    }
    let below = mounts.iter().filter(|mount| mount.point.starts_with(folder) && mount.point != folder);
    found.extend(below.map(|mount| format!("something is mounted at {0}: umount {0}", mount.point.display())));
    found.extend(processes(folder));
    found
}

/// A loop device over a file.
pub(super) struct LoopDevice {
    pub(super) name: String,
    file: PathBuf,
    /// The numbers of the device and of its partitions.
    numbers: Vec<String>,
    /// Devices that are made out of it.
    over: Vec<String>,
}

/// The loop devices over files of this folder.
pub(super) fn loop_devices(folder: &Path) -> Vec<LoopDevice> {
    let names = |path: PathBuf| {
        let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
        entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect::<Vec<_>>()
    };
    let block = Path::new("/sys/block");
    let device = |name: String| {
        let told = block.join(&name);
        let file = PathBuf::from(read_to_string(told.join("loop/backing_file")).ok()?.trim_end_matches('\n'));
        if !file.starts_with(folder) {
            return None;
        }
        let parts = names(told.clone()).into_iter().filter(|part| part.starts_with(&name)).map(|part| told.join(part));
        let all: Vec<PathBuf> = std::iter::once(told.clone()).chain(parts).collect();
        let number = |place: &PathBuf| Some(read_to_string(place.join("dev")).ok()?.trim().to_owned());
        Some(LoopDevice {
            numbers: all.iter().filter_map(number).collect(),
            over: all.iter().flat_map(|place| names(place.join("holders"))).collect(),
            name: format!("/dev/{name}"),
            file,
        })
    };
    let mut devices: Vec<LoopDevice> =
        names(block.to_owned()).into_iter().filter(|name| name.starts_with("loop")).filter_map(device).collect();
    devices.sort_by(|one, other| one.name.cmp(&other.name));
    devices
}

impl LoopDevice {
    fn told(&self, mounts: &[Mount]) -> String {
        let (name, file) = (&self.name, self.file.display());
        let mounted: Vec<String> = mounts
            .iter()
            .filter(|mount| self.numbers.contains(&mount.device))
            .map(|mount| mount.point.display().to_string())
            .collect();
        match (&mounted[..], &self.over[..]) {
            ([], []) => format!("{name} stands on {file}: losetup -d {name}"),
            ([], over) => format!("{name} stands on {file}, and {} on that: take that away first", over.join(", ")),
            (mounted, _) => {
                format!(
                    "{name} stands on {file} and is mounted at {}: umount {}",
                    mounted.join(", "),
                    mounted.join(" ")
                )
            }
        }
    }
}

/// Other processes that have one of the files open, or work in the folder.
fn processes(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(process) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        if process == std::process::id() {
            continue;
        }
        let open = std::fs::read_dir(entry.path().join("fd")).into_iter().flatten().flatten().map(|open| open.path());
        let mut links = open.chain(["cwd", "root"].map(|name| entry.path().join(name)));
        let held = links.find_map(|link| std::fs::read_link(link).ok().filter(|path| path.starts_with(folder)));
        if let Some(held) = held {
            let program = read_to_string(entry.path().join("comm")).unwrap_or_default();
            found.push(format!("process {process} ({}) is in {}: let it end", program.trim(), held.display()));
        }
    }
    found
}
