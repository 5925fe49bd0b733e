//! A disk as files for as long as programs of the host work on one of them.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::Error;
use zestful_sapling::chain::SharedDisk;
use zestful_sapling::ops::ShowVolume;

use super::exposure::Exposure;
use super::mounts::unmount;
use crate::control::runtime_folder;
use crate::error::AttachError;
use crate::export::{Backing, Export};
use crate::front::{Ending, Front};

/// Shows disks as files (FUSE) in a folder of this user that nobody else sees, and takes them away again.
#[derive(Clone, Copy, Debug, Default)]
pub struct HostFiles;

/// The folder of one view, gone with it.
struct Folder(PathBuf);

impl Folder {
    fn new() -> Result<Self, AttachError> {
        let around = runtime_folder()?;
        clear(&around);
        for number in 0.. {
            let path = around.join(format!("{}.view-{number}", std::process::id()));
            match std::fs::create_dir(&path) {
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists && number < 1000 => {}
                other => {
                    other.map_err(|error| AttachError::io(format!("make the folder {}", path.display()), error))?;
                    return Ok(Self(path));
                }
            }
        }
        Err(AttachError::io("make a folder", std::io::Error::from(std::io::ErrorKind::AlreadyExists)))
    }
}

/// Takes away the views that killed processes have left.
fn clear(around: &Path) {
    let entries = std::fs::read_dir(around).into_iter().flatten().flatten().map(|entry| entry.path());
    for path in entries {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let Some((process, _)) = name.split_once(".view-") else { continue };
        let is_gone = process.parse::<u32>().is_ok() && !Path::new("/proc").join(process).exists();
        if is_gone {
            _ = unmount(&path, true);
            _ = std::fs::remove_dir(&path);
        }
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        _ = std::fs::remove_dir(&self.0);
    }
}

impl ShowVolume for HostFiles {
    fn show(
        &self,
        disk: Arc<SharedDisk>,
        partition: Option<u32>,
        work: &mut dyn FnMut(&Path) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let folder = Folder::new().map_err(told)?;
        let export = Arc::new(Export::new("view", "a view that is thrown away", Backing::Writable(disk)));
        let exposure = Exposure::for_one(&folder.0, &folder.0, export).map_err(told)?;
        let file = match partition {
            None => exposure.disk(),
            Some(number) => {
                let parts = exposure.partitions();
                let found = parts.into_iter().find(|(_, partition)| partition.number == number);
                let gone =
                    || Error::usage(format!("there is no partition {number} any more"), "look at the disk again");
                found.map(|(path, _)| path).ok_or_else(gone)?
            }
        };
        std::thread::scope(|scope| {
            let running = scope.spawn(|| exposure.run(&|_| {}));
            let worked = work(&file);
            // A program that was ended lets go a moment later.
            if exposure.end(Ending::Asked).is_err() {
                _ = exposure.end(Ending::AtOnce);
            }
            let ran = running.join().unwrap_or(Ok(()));
            worked.and(ran.map_err(told))
        })
    }
}

/// The same as an error of the library.
fn told(error: AttachError) -> Error {
    match error {
        AttachError::Disk(error) => error,
        other => Error::Io {
            action: "show a view of the disk in".to_owned(),
            path: runtime_folder().unwrap_or_default(),
            source: std::io::Error::other(other.to_string()),
        },
    }
}
