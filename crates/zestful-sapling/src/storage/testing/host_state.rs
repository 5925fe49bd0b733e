//! Files below a folder, and every state in which a loss of power may leave them after some changes.

use std::collections::BTreeMap;
use std::fs::Permissions;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use super::fault::{Random, apply, tear};
use crate::error::{Error, Result};
use crate::storage::changes::{FileChange, HostChange};
use crate::storage::{Access, FileStorage, MemoryStorage, ReadAt, Storage};

/// Files below a folder: their names, contents and modes.
#[derive(Clone, Debug, Default)]
pub struct HostState {
    names: BTreeMap<PathBuf, u64>,
    files: BTreeMap<u64, HostFile>,
    /// With their numbers, which stay.
    folders: BTreeMap<PathBuf, u64>,
}

#[derive(Clone, Debug, Default)]
struct HostFile {
    content: MemoryStorage,
    mode: Option<Permissions>,
    modified: Option<SystemTime>,
}

/// A file, and what the host says of it.
type FoundFile = (PathBuf, std::fs::Metadata);

/// The folders below this one, each before those in it, and the files.
fn found_below(root: &Path) -> Result<(Vec<PathBuf>, Vec<FoundFile>)> {
    let (mut waiting, mut folders, mut found) = (vec![root.to_owned()], Vec::new(), Vec::new());
    while let Some(folder) = waiting.pop() {
        let entries = std::fs::read_dir(&folder).map_err(|e| Error::io("look into", &folder, e))?;
        for path in entries.flatten().map(|entry| entry.path()) {
            let there = std::fs::symlink_metadata(&path).map_err(|e| Error::io("look up", &path, e))?;
            match there.is_dir() {
                true => waiting.push(path),
                false => found.push((path, there)),
            }
        }
        folders.push(folder);
    }
    Ok((folders, found))
}

impl HostState {
    pub(super) fn of(root: &Path) -> Result<Self> {
        let mut state = Self::default();
        let (folders, files) = found_below(root)?;
        let number = |path: &PathBuf| std::fs::metadata(path).map_or(0, |found| found.ino());
        state.folders.extend(folders.into_iter().map(|path| (path.clone(), number(&path))));
        for (path, found) in files.into_iter().filter(|(_, found)| found.is_file()) {
            let content = MemoryStorage::new();
            copy(&FileStorage::open(&path, Access::ReadUnlocked)?, &content)?;
            let (mode, modified) = (Some(found.permissions()), found.modified().ok());
            state.files.insert(found.ino(), HostFile { content, mode, modified });
            state.names.insert(path, found.ino());
        }
        Ok(state)
    }

    /// The state after some changes.
    pub(super) fn after(&self, changes: impl Iterator<Item = Option<HostChange>>) -> Result<Self> {
        let mut state = self.clone();
        for change in changes.flatten() {
            match change {
                HostChange::Create(path, file) => {
                    state.files.insert(file, HostFile::default());
                    state.names.insert(path, file);
                }
                HostChange::Content(file, operation, time) => {
                    let file = state.files.entry(file).or_default();
                    apply(&file.content, &operation)?;
                    file.modified = time.or(file.modified);
                }
                HostChange::Link(file, second) => {
                    if let Some(file) = state.names.get(&file).copied() {
                        state.names.insert(second, file);
                    }
                }
                HostChange::Rename(from, to) if state.folders.contains_key(&from) => state.rename_folder(&from, &to),
                HostChange::Rename(from, to) => {
                    if let Some(file) = state.names.remove(&from) {
                        state.names.insert(to, file);
                    }
                }
                HostChange::Remove(path) => _ = state.names.remove(&path),
                HostChange::Mode(path, mode) => {
                    if let Some(file) = state.names.get(&path).and_then(|file| state.files.get_mut(file)) {
                        file.mode = Some(mode);
                    }
                }
                HostChange::CreateFolder(path, number) => _ = state.folders.insert(path, number),
                HostChange::RemoveFolder(path) => _ = state.folders.remove(&path),
                HostChange::SyncFolder(_) => {}
            }
        }
        // What stands in a folder that was lost is lost with it.
        let is_there = |path: &Path| path.ancestors().skip(1).all(|folder| state.is_known_folder(folder));
        let lost: Vec<PathBuf> = state.names.keys().filter(|path| !is_there(path)).cloned().collect();
        lost.iter().for_each(|path| _ = state.names.remove(path));
        Ok(state)
    }

    /// A folder gets another name, with all in it.
    fn rename_folder(&mut self, from: &Path, to: &Path) {
        let moved = |path: PathBuf| path.strip_prefix(from).map(|way| to.join(way)).unwrap_or(path.clone());
        let names = std::mem::take(&mut self.names);
        self.names = names.into_iter().map(|(path, file)| (moved(path), file)).collect();
        let folders = std::mem::take(&mut self.folders);
        self.folders = folders.into_iter().map(|(path, number)| (moved(path), number)).collect();
    }

    /// Whether a folder is there; those outside of what is recorded are.
    fn is_known_folder(&self, folder: &Path) -> bool {
        let is_recorded = self.folders.keys().next().is_some_and(|root| folder.starts_with(root));
        !is_recorded || self.folders.contains_key(folder)
    }

    pub(super) fn crash_states(
        &self,
        changes: &[HostChange],
        seed: u64,
        subsets: usize,
    ) -> Result<Vec<(usize, HostState)>> {
        let mut random = Random::new(seed);
        let mut found = Vec::new();
        for issued in 0..=changes.len() {
            let (before, after) = (&changes[..issued], changes.get(issued.wrapping_sub(1)));
            let is_sync = |change: &HostChange| {
                matches!(change, HostChange::SyncFolder(_) | HostChange::Content(_, FileChange::Sync, _))
            };
            if !after.is_some_and(is_sync) {
                found.push((issued, self.after(before.iter().cloned().map(Some))?));
            }
            for _ in 0..subsets {
                found.push((issued, self.after(some_of(before, &mut random).into_iter())?));
            }
        }
        Ok(found)
    }

    /// Lays the files out below `root` again, in the place of whatever is there. Files that stand there now, or were
    /// kept
    /// `aside`, are the same ones under whatever names.
    pub(super) fn restore(&self, root: &Path, aside: &Path) -> Result<()> {
        let (folders, files) = found_below(root)?;
        for (path, found) in files {
            let io = |e| Error::io("clear away", &path, e);
            match found.is_file() && found.nlink() == 1 {
                true => std::fs::rename(&path, aside.join(found.ino().to_string())).map_err(io)?,
                false => std::fs::remove_file(&path).map_err(io)?,
            }
        }
        let number = |path: &Path| std::fs::metadata(path).map_or(0, |found| found.ino());
        for folder in folders.iter().rev().filter(|folder| self.folders.get(*folder) != Some(&number(folder))) {
            let kept = aside.join(number(folder).to_string());
            std::fs::rename(folder, kept).map_err(|e| Error::io("clear away", folder, e))?;
        }
        for (folder, number) in self.folders.iter().filter(|(folder, _)| !folder.exists()) {
            let kept = aside.join(number.to_string());
            let laid_out = if kept.exists() { std::fs::rename(&kept, folder) } else { std::fs::create_dir(folder) };
            laid_out.map_err(|e| Error::io("lay out", folder, e))?;
        }
        let mut written: BTreeMap<u64, &PathBuf> = BTreeMap::new();
        for (path, file) in &self.names {
            let io = |e| Error::io("lay out", path, e);
            if let Some(first) = written.get(file) {
                std::fs::hard_link(first, path).map_err(io)?;
                continue;
            }
            let kept = aside.join(file.to_string());
            if kept.exists() {
                std::fs::rename(&kept, path).map_err(io)?;
            }
            self.rewrite_at(*file, path)?;
            written.insert(*file, path);
        }
        Ok(())
    }

    /// Gives the file that has this number now the content that it has here.
    pub(super) fn rewrite(&self, file: u64, root: &Path) -> Result<()> {
        let found = found_below(root)?.1.into_iter().find(|(_, found)| found.ino() == file);
        found.map_or(Ok(()), |(path, _)| self.rewrite_at(file, &path))
    }

    fn rewrite_at(&self, file: u64, path: &Path) -> Result<()> {
        let Some(held) = self.files.get(&file) else { return Ok(()) };
        let io = |e| Error::io("lay out", path, e);
        if path.exists() {
            std::fs::set_permissions(path, Permissions::from_mode(0o644)).map_err(io)?;
        }
        let options = std::fs::OpenOptions::new().write(true).create(true).truncate(true).open(path).map_err(io)?;
        write_all(&held.content, &options).map_err(io)?;
        held.modified.map_or(Ok(()), |time| options.set_modified(time)).map_err(io)?;
        options.set_permissions(held.mode.clone().unwrap_or_else(|| Permissions::from_mode(0o644))).map_err(io)
    }
}

/// A legal choice among changes: what was lost is `None`.
fn some_of(changes: &[HostChange], random: &mut Random) -> Vec<Option<HostChange>> {
    let folders = Folders::of(changes);
    let mut upto: BTreeMap<PathBuf, usize> = BTreeMap::new();
    for folder in changes.iter().filter_map(folder_of).map(|folder| folders.system_of(&folder)) {
        let in_it = |change: &HostChange| match change {
            HostChange::SyncFolder(synced) => folders.system_of(synced) == folder,
            _ => false,
        };
        let durable = changes.iter().rposition(in_it).unwrap_or(0);
        upto.entry(folder).or_insert_with(|| durable + random.below(changes.len() + 1 - durable));
    }
    let mut chosen: Vec<Option<HostChange>> = Vec::new();
    for (number, change) in changes.iter().enumerate() {
        let kept = match change {
            HostChange::Content(file, operation, time) => {
                let synced =
                    |later: &HostChange| matches!(later, HostChange::Content(at, FileChange::Sync, _) if at == file);
                match (changes[number..].iter().any(synced), random.below(2), random.below(4)) {
                    (true, ..) => Some(change.clone()),
                    (false, 0, _) => None,
                    (false, _, 0) => Some(HostChange::Content(*file, tear(operation, random), *time)),
                    _ => Some(change.clone()),
                }
            }
            HostChange::SyncFolder(_) => None,
            _ => {
                let folder = folder_of(change).map(|folder| folders.system_of(&folder));
                let upto = folder.and_then(|folder| upto.get(&folder).copied()).unwrap_or(0);
                (number < upto).then(|| change.clone())
            }
        };
        chosen.push(kept);
    }
    chosen
}

/// The folder whose names a change is about.
fn folder_of(change: &HostChange) -> Option<PathBuf> {
    let path = match change {
        HostChange::Create(path, _) | HostChange::Remove(path) | HostChange::Mode(path, _) => path,
        HostChange::Link(_, path) | HostChange::Rename(_, path) => path,
        HostChange::CreateFolder(path, _) | HostChange::RemoveFolder(path) => path,
        HostChange::Content(..) | HostChange::SyncFolder(_) => return None,
    };
    path.parent().map(Path::to_owned)
}

/// Which folders must be of one file system: those between which a file was renamed.
struct Folders(Vec<(PathBuf, PathBuf)>);

impl Folders {
    fn of(changes: &[HostChange]) -> Self {
        let mut joined = Self(Vec::new());
        for change in changes {
            if let HostChange::Rename(from, to) = change
                && let (Some(from), Some(to)) = (from.parent(), to.parent())
                && from != to
            {
                let (one, other) = (joined.system_of(from), joined.system_of(to));
                if one != other {
                    joined.0.push((one, other));
                }
            }
        }
        joined
    }

    fn system_of(&self, folder: &Path) -> PathBuf {
        let mut system = folder.to_owned();
        while let Some((_, to)) = self.0.iter().find(|(from, _)| *from == system) {
            system.clone_from(to);
        }
        system
    }
}

fn copy(from: &dyn ReadAt, to: &dyn Storage) -> Result<()> {
    to.set_len(from.len()?)?;
    let mut at = 0;
    while let Some(data) = from.next_data(at)? {
        let mut buffer = vec![0; (data.end - data.start).min(1 << 20) as usize];
        from.read_at(&mut buffer, data.start)?;
        to.write_at(&buffer, data.start)?;
        at = data.start + buffer.len() as u64;
    }
    Ok(())
}

fn write_all(content: &MemoryStorage, file: &std::fs::File) -> std::io::Result<()> {
    use std::os::unix::fs::FileExt;
    let failed = |error: Error| std::io::Error::other(error);
    file.set_len(content.len().map_err(failed)?)?;
    let mut at = 0;
    while let Some(data) = content.next_data(at).map_err(failed)? {
        let mut buffer = vec![0; (data.end - data.start).min(1 << 20) as usize];
        content.read_at(&mut buffer, data.start).map_err(failed)?;
        file.write_all_at(&buffer, data.start)?;
        at = data.start + buffer.len() as u64;
    }
    Ok(())
}
