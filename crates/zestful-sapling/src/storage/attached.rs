//! Who serves an image: a process of our command that was told to, as its own words say.

use std::ffi::{OsStr, OsString};
use std::fs::Metadata;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::folder_of;

/// The name of our command, and the word that has it serve.
const COMMAND: &str = "zsap";
const SERVES: &str = "serve";

/// A process that serves images.
pub(super) struct Server {
    words: Vec<OsString>,
    folder: PathBuf,
}

impl Server {
    /// The process of this number, if it serves something.
    pub(super) fn of(process: u32) -> Option<Self> {
        let program = std::fs::read_to_string(format!("/proc/{process}/comm")).ok()?;
        if program.trim() != COMMAND {
            return None;
        }
        let words = std::fs::read(format!("/proc/{process}/cmdline")).ok()?;
        let words = words.split(|byte| *byte == 0).skip(1).filter(|word| !word.is_empty());
        let words: Vec<OsString> = words.map(|word| OsStr::from_bytes(word).to_owned()).collect();
        let folder = std::fs::read_link(format!("/proc/{process}/cwd")).ok()?;
        words.iter().any(|word| word == SERVES).then_some(Self { words, folder })
    }

    /// What it was told, as it was typed.
    pub(super) fn told(&self) -> String {
        let words = self.words.iter().map(|word| word.to_string_lossy().into_owned());
        std::iter::once(COMMAND.to_owned()).chain(words).collect::<Vec<_>>().join(" ")
    }

    /// Whether it was told to serve this file, by its name or with its folder.
    pub(super) fn serves(&self, path: &Path, file: &Metadata) -> bool {
        let is_same = |one: &Metadata, other: &Metadata| (one.dev(), one.ino()) == (other.dev(), other.ino());
        let own_folder = std::fs::metadata(folder_of(path)).ok();
        let named = self.words.iter().filter_map(|word| std::fs::metadata(self.folder.join(word)).ok());
        let mut named = named.filter(|found| found.is_file() || found.is_dir());
        named.any(|found| is_same(&found, file) || own_folder.as_ref().is_some_and(|folder| is_same(&found, folder)))
    }
}
