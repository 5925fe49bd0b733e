//! A folder to work in, and the real binary.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::documents::assert_fit;

pub struct Scene {
    folder: tempfile::TempDir,
    /// What is attached by others on this host is no matter of a scene.
    runtime: tempfile::TempDir,
}

/// What a run of the command gave.
pub struct Outcome {
    pub status: i32,
    pub out: String,
    pub err: String,
}

impl Outcome {
    /// The status, and a part of each stream; nothing stands for an empty stream.
    #[track_caller]
    pub fn expect(&self, case: &str, status: i32, out: &str, err: &str) {
        let all = format!("\n--- {case}: status {}\n{}--- standard error\n{}", self.status, self.out, self.err);
        assert_eq!(self.status, status, "{all}");
        // Messages break between words wherever the line ends.
        let holds = |text: &str, part: &str| {
            text.contains(part) || text.split_whitespace().collect::<Vec<_>>().join(" ").contains(part)
        };
        assert!(holds(&self.out, out), "standard output lacks {out:?}{all}");
        assert!(!out.is_empty() || self.out.is_empty(), "something on standard output{all}");
        assert!(holds(&self.err, err), "standard error lacks {err:?}{all}");
        if err.is_empty() {
            // What this host lets us see of other processes is no matter of the case.
            let usual = |line: &&str| {
                line.starts_with("warning: ") && line.contains(" can grow to ")
                    || line.contains("could not be looked at")
            };
            let surprise = self.err.lines().find(|line| !usual(line));
            assert_eq!(surprise, None, "{all}");
        }
    }
}

fn outcome_of(mut command: Command) -> Outcome {
    let output = command.stdin(Stdio::null()).output().unwrap();
    Outcome {
        status: output.status.code().unwrap_or(-1),
        out: String::from_utf8(output.stdout).unwrap(),
        err: String::from_utf8(output.stderr).unwrap(),
    }
}

impl Scene {
    pub fn new() -> Self {
        let scene = Self { folder: tempfile::tempdir().unwrap(), runtime: tempfile::tempdir().unwrap() };
        std::fs::write(scene.path("seeds.txt"), "Caltha palustris\n\n").unwrap();
        scene
    }

    /// The same in the host's memory, where it has such a place: for thousands of files.
    pub fn in_memory() -> Self {
        let memory = std::path::Path::new("/dev/shm");
        let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() };
        Self { folder: folder.unwrap(), runtime: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn command(&self, typed: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_zsap"));
        command.args(typed.split(' ')).current_dir(self.folder.path());
        command.env("XDG_RUNTIME_DIR", self.runtime.path()).env("XDG_CONFIG_HOME", self.runtime.path());
        command
    }

    /// The folder of sockets that are given no other place.
    pub fn runtime(&self) -> PathBuf {
        self.runtime.path().join("zsap")
    }

    /// The same, started by another program, to which the command is handed over.
    pub fn run_behind(&self, starter: &[&str], typed: &str) -> Outcome {
        let command = self.command(typed);
        let mut behind = Command::new(starter[0]);
        behind.args(&starter[1..]).arg(command.get_program()).args(command.get_args());
        behind.current_dir(self.folder.path()).env("XDG_RUNTIME_DIR", self.runtime.path());
        outcome_of(behind)
    }

    pub fn run(&self, typed: &str) -> Outcome {
        let outcome = outcome_of(self.command(typed));
        if typed.split(' ').any(|word| word == "--json") {
            assert_fit(typed, outcome.status, &outcome.out, &outcome.err);
        }
        outcome
    }

    /// The same at a terminal of so many columns, in a folder of the scene; names that are no Unicode are told as such.
    pub fn run_at(&self, columns: usize, folder: &str, typed: &str) -> Outcome {
        let mut command = self.command(typed);
        command.current_dir(self.path(folder)).env("COLUMNS", columns.to_string());
        outcome_of(command)
    }

    /// What a shell does with this, in the scene, where `zsap` is the real binary.
    pub fn shell(&self, typed: &str) -> Outcome {
        let folder = std::path::Path::new(env!("CARGO_BIN_EXE_zsap")).parent().unwrap();
        let path = format!("{}:{}", folder.display(), std::env::var("PATH").unwrap());
        let mut shell = Command::new("sh");
        shell.args(["-c", typed]).current_dir(self.folder.path()).env("PATH", path);
        shell.env("XDG_RUNTIME_DIR", self.runtime.path()).env("XDG_CONFIG_HOME", self.runtime.path());
        outcome_of(shell)
    }

    pub fn json(&self, typed: &str) -> serde_json::Value {
        let outcome = self.run(&format!("{typed} --json"));
        // What is broken, or wants a look, is an answer as well.
        assert!([0, 3, 5].contains(&outcome.status), "{typed}: {}", outcome.err);
        let document: serde_json::Value = serde_json::from_str(&outcome.out).unwrap();
        assert_eq!(document["schema_version"], 1, "{typed}");
        document
    }

    /// All about one image.
    pub fn shown(&self, image: &str) -> serde_json::Value {
        self.json(&format!("show {image}"))["images"][0].clone()
    }

    /// What a command that failed says of it on standard error, and nowhere else.
    pub fn error(&self, typed: &str, status: i32) -> serde_json::Value {
        let outcome = self.run(&format!("{typed} --json"));
        assert_eq!((outcome.status, outcome.out.as_str()), (status, ""), "{typed}");
        let document: serde_json::Value = serde_json::from_str(&outcome.err).unwrap();
        assert_eq!(document["schema_version"], 1, "{typed}");
        document["error"].clone()
    }

    pub fn start(&self, typed: &str) -> Child {
        let mut command = self.command(typed);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        command.spawn().unwrap()
    }

    pub fn interrupt(&self, child: &Child) {
        let killed = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
        assert!(killed.success());
    }

    /// All names in the folder but those of companions, sorted.
    pub fn files(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.folder.path()).unwrap();
        let mut names: Vec<String> = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
        names.retain(|name| !name.ends_with(".zsap.json"));
        names.sort();
        names
    }

    pub fn wait(&self, what: &str, mut there: impl FnMut() -> bool) {
        let start = Instant::now();
        while !there() {
            assert!(start.elapsed() < Duration::from_secs(120), "waited in vain for {what}");
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Waits for a file whose name holds this.
    pub fn wait_for_file(&self, part: &str) {
        self.wait(part, || self.files().iter().any(|name| name.contains(part)));
    }

    pub fn wait_until_locked(&self, name: &str) {
        let file = File::open(self.path(name)).unwrap();
        self.wait("a lock", || match file.try_lock_shared() {
            Ok(()) => {
                file.unlock().unwrap();
                false
            }
            Err(_) => true,
        });
    }

    /// The same for a writer that may be quicker than this look.
    pub fn wait_until_locked_or_done(&self, name: &str, writer: &mut Child) {
        let file = File::open(self.path(name)).unwrap();
        self.wait("a lock", || {
            let free = file.try_lock_shared().is_ok();
            if free {
                file.unlock().unwrap();
            }
            !free || writer.try_wait().unwrap().is_some()
        });
    }

    /// Gives a file its write permission back.
    pub fn make_writable(&self, name: &str) {
        let path = self.path(name);
        let mut permissions = std::fs::metadata(&path).unwrap().permissions();
        std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, 0o644);
        std::fs::set_permissions(&path, permissions).unwrap();
    }

    /// Turns one byte of a file over.
    pub fn spoil(&self, name: &str, at: u64) {
        let path = self.path(name);
        self.make_writable(name);
        let mut file = File::options().read(true).write(true).open(path).unwrap();
        let mut byte = [0];
        file.seek(SeekFrom::Start(at)).unwrap();
        file.read_exact(&mut byte).unwrap();
        file.seek(SeekFrom::Start(at)).unwrap();
        file.write_all(&[byte[0] ^ 0xFF]).unwrap();
    }

    /// Writes to a new file until its file system holds not a byte more.
    pub fn fill_up(&self, name: &str) {
        let mut file = File::create(self.path(name)).unwrap();
        while file.write_all(&[1; 4096]).is_ok() {}
    }

    /// A file system of 8 MiB at `small`, where this user may mount one.
    pub fn small_file_system(&self) -> Option<Mounted> {
        let place = self.path("small");
        std::fs::create_dir(&place).unwrap();
        let mount = Command::new("mount").args(["-t", "tmpfs", "-o", "size=8m", "tmpfs"]).arg(&place).output().ok()?;
        mount.status.success().then_some(Mounted(place))
    }
}

/// Unmounts when dropped.
pub struct Mounted(PathBuf);

impl Mounted {
    pub fn at(place: PathBuf) -> Self {
        Self(place)
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // A program that another test starts holds copies of all our open files until it runs.
        let until = Instant::now() + Duration::from_secs(60);
        loop {
            let ended = Command::new("umount").arg(&self.0).output().unwrap();
            let told = String::from_utf8_lossy(&ended.stderr);
            if !told.contains("busy") || Instant::now() > until {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
