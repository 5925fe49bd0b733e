//! A volume whose files can be read.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::ext::Ext;
use super::fat::Fat;
use super::ntfs::Ntfs;
use super::path::InnerPath;
use super::system::{EntryKind, Item, Place, System};
use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, InsideProblem, InsideProblemKind};
use crate::guest::FileSystem;
use crate::guest::trouble::Trouble;
use crate::guest::volume::{Volume, volumes_uncounted};
use crate::guest::window::Window;
use crate::progress::Progress;
use crate::storage::writers_of;

/// Zeros that are written at a time.
const ZEROS: usize = 16 << 10;

/// A volume whose files can be read: FAT12, FAT16, FAT32, ext2, ext3, ext4, NTFS. Nothing is ever written.
///
/// What comes out of it was made by whoever used the disk: names and sizes may be anything. Damage is told and passed
/// by, circles are cut, and what only its guest could read is refused, never given out as something else. A volume that
/// was not unmounted is read as it is; of ext the journal is played through in memory, and [`FileTree::notes`] says so.
///
/// ```
/// use zestful_sapling::chain::OpenOptions;
/// use zestful_sapling::guest::{FileTree, InnerPath};
///
/// fn list(image: &std::path::Path) -> zestful_sapling::Result<()> {
///     let (mut tree, notes) = FileTree::of_image(image, &OpenOptions::new(), None)?;
///     notes.iter().for_each(|note| eprintln!("{note}"));
///     tree.list(&InnerPath::root(), true, &mut |entry| {
///         println!("{:>12} {}", entry.size.unwrap_or(0), entry.path);
///         Ok(true)
///     })?;
///     Ok(())
/// }
/// ```
pub struct FileTree {
    disk: Arc<dyn Disk>,
    volume: Volume,
    context: Context,
    system: Box<dyn System>,
}

/// What messages name.
#[derive(Clone)]
pub(super) struct Context {
    image: PathBuf,
    volume: u32,
}

impl Context {
    pub(super) fn problem(&self, path: Option<&InnerPath>, kind: InsideProblemKind) -> Error {
        let path = path.map(ToString::to_string);
        Error::Inside(Box::new(InsideProblem { disk: self.image.clone(), volume: self.volume, path, kind }))
    }

    pub(super) fn error(&self, path: Option<&InnerPath>, trouble: Trouble) -> Error {
        let kind = match trouble {
            Trouble::Failed(error) => return error,
            Trouble::Damaged(what) => InsideProblemKind::Damaged(what),
            Trouble::Unsupported(what) => InsideProblemKind::Unsupported(what),
        };
        self.problem(path, kind)
    }
}

impl FileTree {
    /// The files of a volume, of a disk at any point of its chain.
    ///
    /// # Errors
    /// `Inside` when the files of such a volume are not read, or it is damaged at its root; as [`Disk::read_at`].
    pub fn open(disk: Arc<dyn Disk>, volume: &Volume) -> Result<Self, Error> {
        let image = disk.layer(0).map(|layer| layer.path().to_owned()).unwrap_or_default();
        let context = Context { image, volume: volume.number };
        let Some(content) = &volume.content else { return Err(context.problem(None, InsideProblemKind::Unknown)) };
        let file_system = content.file_system;
        if !file_system.has_readable_files() {
            return Err(context.problem(None, InsideProblemKind::NotRead(file_system.to_string())));
        }
        let window = Window::new(disk.clone(), volume.start, volume.len);
        let system: Result<Box<dyn System>, Trouble> = match file_system {
            FileSystem::Ntfs => Ntfs::open(window).map(|system| Box::new(system) as _),
            FileSystem::Fat12 | FileSystem::Fat16 | FileSystem::Fat32 => {
                Fat::open(window).map(|system| Box::new(system) as _)
            }
            _ => Ext::open(window).map(|system| Box::new(system) as _),
        };
        let system = system.map_err(|trouble| context.error(None, trouble))?;
        Ok(Self { disk, volume: volume.clone(), context, system })
    }

    /// The files of a volume of the disk whose current image is `image`, and what is to be known of it: that it was not
    /// unmounted, or that somebody writes to the disk meanwhile. `number` need not be said where only one volume has
    /// files.
    ///
    /// # Errors
    /// `Usage` when the volume must be named; as [`FileTree::open`] and [`Chain::open_for_look`].
    pub fn of_image(image: &Path, options: &OpenOptions, number: Option<u32>) -> Result<(Self, Vec<String>), Error> {
        let (chain, served) = Chain::open_for_look(image, options)?;
        let writers = writers_of(chain.layers().iter().map(|layer| layer.path())).found;
        let disk = Arc::new(chain);
        let volume = volumes_uncounted(&*disk)?.pick(image, number)?.clone();
        let tree = Self::open(disk, &volume)?;
        let mut notes = Vec::new();
        notes.extend(served.map(|holder| {
            format!(
                "{} is being served by {}, and may change while it is read: a checkpoint shows one moment for certain",
                image.display(),
                holder.name
            )
        }));
        // Those that take no locks: the server has told of itself.
        let writer = writers.first().filter(|_| notes.is_empty());
        notes.extend(writer.map(|(path, writer)| {
            let (path, who) = (path.display(), &writer.name);
            format!("{path} is open for writing by {who}: what is read may be of two moments, or of none")
        }));
        notes.extend(tree.notes().into_iter().map(|note| format!("volume {}: {note}", volume.number)));
        Ok((tree, notes))
    }

    /// The disk.
    pub(crate) fn disk(&self) -> Arc<dyn Disk> {
        self.disk.clone()
    }

    /// The volume.
    pub fn volume(&self) -> &Volume {
        &self.volume
    }

    /// What is to be known of it as it is read: that it was not unmounted, and what became of its journal.
    pub fn notes(&self) -> Vec<String> {
        let mut notes = self.system.notes();
        let is_unclean = self.volume.content.as_ref().is_some_and(|content| content.clean == Some(false));
        if is_unclean && notes.is_empty() {
            notes.push("it was not unmounted: what its guest had not written yet is missing, or half done".to_owned());
        }
        notes
    }

    /// Copies the content of one file into `out`, zeros for its holes.
    ///
    /// # Errors
    /// `Inside` when nothing stands at the path, it is no file, or is damaged, and then what was copied before is the
    /// right beginning; `Io` when `out` takes no more; as [`Disk::read_at`]; `Cancelled`.
    pub fn copy_to(&mut self, path: &InnerPath, out: &mut dyn Write, progress: &Progress) -> Result<u64, Error> {
        let entry = self.entry(path)?;
        if entry.kind == EntryKind::Folder {
            return Err(self.context.problem(Some(path), InsideProblemKind::IsAFolder));
        }
        let len = entry.size.unwrap_or(0);
        progress.begin("reading", len);
        let failed = |error| Error::io("write out the content of", Path::new(&path.to_string()), error);
        let mut end = 0;
        let mut put = |at: u64, bytes: &[u8]| -> Result<(), Error> {
            while end < at {
                progress.check()?;
                let zeros = &[0; ZEROS][..(at - end).min(ZEROS as u64) as usize];
                out.write_all(zeros).map_err(failed)?;
                end += zeros.len() as u64;
                progress.advance(zeros.len() as u64);
            }
            progress.check()?;
            out.write_all(bytes).map_err(failed)?;
            end += bytes.len() as u64;
            progress.advance(bytes.len() as u64);
            Ok(())
        };
        self.walk(path, false, &mut |found| found.read(&mut put).map(|()| true))?;
        put(len, &[])?;
        out.flush().map_err(failed)?;
        Ok(len)
    }

    /// What is wrong with the volume, told with its name.
    pub(in crate::guest) fn problem(&self, kind: InsideProblemKind) -> Error {
        self.context.problem(None, kind)
    }

    pub(super) fn context(&self) -> &Context {
        &self.context
    }

    pub(super) fn system(&mut self) -> &mut dyn System {
        &mut *self.system
    }

    /// Lends what stands at a path; a root is no item.
    pub(super) fn with_item<T>(
        &mut self,
        path: &InnerPath,
        look: &mut dyn FnMut(&mut dyn Item) -> Result<T, Trouble>,
    ) -> Result<T, Error> {
        let context = self.context.clone();
        let mut place = Place { number: self.system().root(), path: InnerPath::root() };
        let mut names = path.names().peekable();
        while let Some(name) = names.next() {
            let here = place.path.join(name);
            let is_last = names.peek().is_none();
            let mut step = |item: &mut dyn Item| -> Result<Step<T>, Trouble> {
                if is_last {
                    return look(item).map(Step::Last);
                }
                Ok(match item.facts()?.kind {
                    EntryKind::Folder => Step::Into(item.number()),
                    EntryKind::Link => Step::Link(item.target().unwrap_or_default()),
                    _ => Step::NoFolder,
                })
            };
            let system = self.system();
            let mut found = named(system, &place, &mut |other| other == name, &mut step);
            if matches!(found, Ok(None)) && system.ignores_case() {
                let wanted = String::from_utf8_lossy(name).to_lowercase();
                let same = &mut |other: &[u8]| String::from_utf8_lossy(other).to_lowercase() == wanted;
                found = named(system, &place, same, &mut step);
            }
            let kind = match found.map_err(|trouble| context.error(Some(&here), trouble))? {
                Some(Step::Last(found)) => return Ok(found),
                Some(Step::Into(number)) => {
                    place = Place { number, path: here };
                    continue;
                }
                Some(Step::Link(to)) => {
                    InsideProblemKind::IsALink(here.to_string(), String::from_utf8_lossy(&to).into_owned())
                }
                Some(Step::NoFolder) => InsideProblemKind::NotAFolder(here.to_string()),
                None => InsideProblemKind::NotFound { inside: place.path.to_string() },
            };
            return Err(context.problem(Some(path), kind));
        }
        Err(context.problem(Some(path), InsideProblemKind::IsAFolder))
    }
}

enum Step<T> {
    Last(T),
    Into(u64),
    Link(Vec<u8>),
    NoFolder,
}

/// What `look` makes of the first with such a name in a folder.
fn named<T>(
    system: &mut dyn System,
    folder: &Place,
    is_it: &mut dyn FnMut(&[u8]) -> bool,
    look: &mut dyn FnMut(&mut dyn Item) -> Result<T, Trouble>,
) -> Result<Option<T>, Trouble> {
    let mut found = None;
    let mut visit = |item: &mut dyn Item| {
        if is_it(item.name()) {
            found = Some(look(item)?);
        }
        Ok(found.is_none())
    };
    let walked = system.each(folder, &mut |_| true, &mut visit);
    if found.is_none() {
        walked?;
    }
    Ok(found)
}

impl std::fmt::Debug for FileTree {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("FileTree").field("volume", &self.volume).finish_non_exhaustive()
    }
}
