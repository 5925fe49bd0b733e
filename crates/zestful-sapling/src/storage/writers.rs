//! Who has files open, for writing or at all, whatever locks they take or do not take.

use std::ffi::OsStr;
use std::fs::File;
use std::io::{ErrorKind, Read};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::HostIdentity;
use super::file::is_ours;
use super::lock::process;
use crate::error::{Hold, Holder};

/// A process between its making and its program has all our files open for an instant, and another command of ours that
/// asks in vain for a lock has the file open meanwhile.
const INSTANT: Duration = Duration::from_millis(20);
const LOOKS: usize = 4;
/// A busy host takes its time to start a program that this process wants: so often it is looked for copies of it.
const MOST_LOOKS: usize = 100;
/// Room for the list of mappings of most processes, in bytes: one that grows is read in many small pieces.
const MAPS: usize = 64 << 10;

/// What a look at the host's lists of open files, mappings and loop devices found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Writers {
    /// The files that are open so, each with who has it open.
    pub(crate) found: Vec<(PathBuf, Holder)>,
    /// Processes whose open files the host does not show to us.
    pub(crate) unseen: usize,
}

impl Writers {
    /// What was not looked at, in words; nothing when everything was.
    pub(crate) fn not_seen(&self) -> Option<String> {
        let processes = match self.unseen {
            0 => return None,
            1 => "one process".to_owned(),
            many => format!("{many} processes"),
        };
        Some(format!("{processes} could not be looked at: whoever uses it there without a lock is not seen"))
    }
}

/// The files that are asked about.
struct Wanted<'a> {
    files: Vec<(HostIdentity, &'a Path)>,
    /// Whether those who only read them count.
    readers: bool,
}

impl<'a> Wanted<'a> {
    fn at(&self, identity: HostIdentity) -> Option<&'a Path> {
        self.files.iter().find(|(wanted, _)| *wanted == identity).map(|(_, path)| *path)
    }

    fn stands_at(&self, path: &Path) -> Option<&'a Path> {
        let found = std::fs::metadata(path).ok()?;
        self.at((found.dev(), found.ino()))
    }
}

/// Looks for writers of these files: other processes, handles of this process that are not ours, shared mappings, loop
/// devices.
pub(crate) fn writers_of<'a>(paths: impl IntoIterator<Item = &'a Path>) -> Writers {
    look_for(paths, false)
}

/// The same with those who only read: what they are about to read would move away under them.
pub(crate) fn users_of<'a>(paths: impl IntoIterator<Item = &'a Path>) -> Writers {
    look_for(paths, true)
}

fn look_for<'a>(paths: impl IntoIterator<Item = &'a Path>, readers: bool) -> Writers {
    let identity = |path: &'a Path| {
        // A device is opened exclusively, which the kernel sees to.
        let found = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file)?;
        Some(((found.dev(), found.ino()), path))
    };
    let wanted = Wanted { files: paths.into_iter().filter_map(identity).collect(), readers };
    let mut writers = Writers::default();
    if wanted.files.is_empty() {
        return writers;
    }
    for look in 1.. {
        look_at_processes(&wanted, &mut writers);
        let mut processes = writers.found.iter().filter_map(|(_, holder)| holder.process);
        if writers.found.is_empty() || look >= LOOKS && !(look < MOST_LOOKS && processes.any(is_copy_of_this)) {
            break;
        }
        std::thread::sleep(INSTANT);
        writers = Writers::default();
    }
    look_at_loop_devices(&wanted, &mut writers);
    writers.found.sort_by(|one, other| (&one.0, &one.1.name).cmp(&(&other.0, &other.1.name)));
    writers.found.dedup();
    writers
}

fn look_at_processes(wanted: &Wanted<'_>, writers: &mut Writers) {
    let Ok(processes) = std::fs::read_dir("/proc") else { return };
    let mut maps = Vec::with_capacity(MAPS);
    for entry in processes.flatten() {
        let name = entry.file_name();
        let Some(pid) = name.to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        let folder = entry.path();
        match std::fs::read_link(folder.join("exe")).map_err(|error| error.kind()) {
            // A part of the kernel has no program, and no files.
            Err(ErrorKind::NotFound) => continue,
            // The kernel asks the same of who looks at the program and of who looks at a file.
            Err(ErrorKind::PermissionDenied) => {
                writers.unseen += usize::from(!is_of_the_kernel(&folder));
                continue;
            }
            _ => {}
        }
        let who = || {
            let holder = process(pid, Hold::Unlocked);
            match pid == std::process::id() {
                true => Holder { name: "another part of this process".to_owned(), ..holder },
                false => holder,
            }
        };
        match open_files(&folder, pid, wanted) {
            Ok(found) => writers.found.extend(found.into_iter().map(|path| (path.to_owned(), who()))),
            Err(error) => writers.unseen += usize::from(error.kind() == ErrorKind::PermissionDenied),
        }
        // A mapping outlives the handle that it was made with.
        maps.clear();
        if File::open(folder.join("maps")).and_then(|mut file| file.read_to_end(&mut maps)).is_ok() {
            for path in maps.split(|byte| *byte == b'\n').filter_map(|line| mapped(line, wanted)) {
                let holder = who();
                let name = format!("a mapping of {}", holder.name);
                writers.found.push((path.to_owned(), Holder { name, ..holder }));
            }
        }
    }
}

/// Whether a process was made by this one and still runs its program.
fn is_copy_of_this(process: u32) -> bool {
    let program = |process: &str| std::fs::read_link(format!("/proc/{process}/exe")).ok();
    let state = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let maker = state.rsplit_once(')').and_then(|(_, rest)| rest.split_ascii_whitespace().nth(1)?.parse().ok());
    maker == Some(std::process::id()) && program("self").is_some_and(|own| program(&process.to_string()) == Some(own))
}

/// Whether a process is a thread of the kernel, which has no files, as its state tells everybody.
fn is_of_the_kernel(process: &Path) -> bool {
    const KERNEL_THREAD: u64 = 0x0020_0000;
    let state = std::fs::read_to_string(process.join("stat")).unwrap_or_default();
    // Behind the name, which may hold anything: state, parent, group, session, terminal, its group, flags.
    let flags = state.rsplit_once(')').and_then(|(_, rest)| rest.split_ascii_whitespace().nth(6)?.parse::<u64>().ok());
    flags.is_some_and(|flags| flags & KERNEL_THREAD != 0)
}

/// The wanted files that a process has open as asked.
fn open_files<'a>(process: &Path, pid: u32, wanted: &Wanted<'a>) -> std::io::Result<Vec<&'a Path>> {
    let mut found = Vec::new();
    for file in std::fs::read_dir(process.join("fd"))?.flatten() {
        let there = match std::fs::metadata(file.path()) {
            // The host shows that there are files, and not which.
            Err(error) if error.kind() == ErrorKind::PermissionDenied => return Err(error),
            other => other,
        };
        let Some(path) = there.ok().and_then(|there| wanted.at((there.dev(), there.ino()))) else { continue };
        let number = file.file_name();
        if pid == std::process::id() && number.to_str().and_then(|fd| fd.parse().ok()).is_some_and(is_ours) {
            continue;
        }
        let info = std::fs::read_to_string(process.join("fdinfo").join(&number)).unwrap_or_default();
        let flags = info.lines().find_map(|line| u32::from_str_radix(line.strip_prefix("flags:")?.trim(), 8).ok());
        if flags.is_some_and(|flags| wanted.readers || flags & 3 != 0) {
            found.push(path);
        }
    }
    Ok(found)
}

/// The file that a line of a process's mappings names, if it is one of those wanted, and shared and writable where
/// writers are asked for.
fn mapped<'a>(line: &[u8], wanted: &Wanted<'a>) -> Option<&'a Path> {
    let mode = line.iter().position(|byte| *byte == b' ')? + 1;
    // Most mappings are private, and are not looked at any closer.
    let is_writer = matches!(line.get(mode..)?, [_, b'w', _, b's', ..]);
    if !is_writer && !wanted.readers {
        return None;
    }
    // Behind the mode: offset, device, inode, name.
    let inode = line[mode..].split(|byte| *byte == b' ').nth(3)?;
    let inode = std::str::from_utf8(inode).ok()?.parse::<u64>().ok()?;
    wanted.files.iter().any(|((_, number), _)| *number == inode).then_some(())?;
    let name = line.iter().position(|byte| *byte == b'/')?;
    wanted.stands_at(Path::new(OsStr::from_bytes(&line[name..])))
}

/// A loop device holds its file inside the kernel, where no process shows it.
fn look_at_loop_devices(wanted: &Wanted<'_>, writers: &mut Writers) {
    let Ok(devices) = std::fs::read_dir("/sys/block") else { return };
    for device in devices.flatten().filter(|device| device.file_name().to_string_lossy().starts_with("loop")) {
        let told = |name: &str| std::fs::read_to_string(device.path().join(name)).unwrap_or_default();
        let file = told("loop/backing_file");
        let path = wanted.stands_at(Path::new(file.trim_end_matches('\n')));
        if let Some(path) = path.filter(|_| wanted.readers || told("ro").trim() != "1") {
            let name = format!("the loop device /dev/{}", device.file_name().to_string_lossy());
            writers.found.push((path.to_owned(), Holder { name, process: None, since: None, how: Hold::Unlocked }));
        }
    }
}
