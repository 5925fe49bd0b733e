//! A damaged chain, opened all the same: every layer is mended in memory, and goes on where the host cannot read.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::draft::RepairStep;
use crate::chain::{Chain, MAX_DEPTH, OpenOptions, ShownLosses, candidates, direct_parent};
use crate::error::{Error, ParentProblemKind, Result};
use crate::family::{Search, find_parent};
use crate::finding::Losses;
use crate::image::{
    Format, Image, ParentReference, doubt_of_unreadable, format_of_name, mend, open_image, open_place, probe, vhd,
};
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::{Access, FileStorage, HostIdentity, Lenient, Overlay, ReadAt};

/// What is asked for beside the image.
#[derive(Clone, Debug, Default)]
pub(super) struct Wanted {
    pub(super) format: Option<Format>,
    /// Layers to be gone past.
    pub(super) without: Vec<PathBuf>,
    /// What stands below a layer that cannot tell.
    pub(super) below: Option<PathBuf>,
    pub(super) search: Search,
}

/// One layer, as far as it can be read.
pub(super) struct Layer {
    pub(super) path: PathBuf,
    /// What was mended in memory.
    pub(super) steps: Vec<RepairStep>,
    /// Knows what the host could not read.
    pub(super) file: Arc<Lenient>,
}

/// The chain.
pub(super) struct LenientChain {
    pub(super) chain: Chain,
    pub(super) layers: Vec<Layer>,
    /// Layers that were gone past.
    pub(super) skipped: Vec<PathBuf>,
    /// What all of it means for the disk.
    pub(super) content: Losses,
}

/// An image of which as much is mended as can be, and what is lost by that.
struct Opened {
    layer: Layer,
    image: Box<dyn Image>,
    content: Losses,
    identity: HostIdentity,
}

impl Opened {
    fn new(path: &Path, format: Option<Format>, progress: &Progress) -> Result<Self> {
        let place = open_place(path, Access::Read)?;
        Self::of(path, place.storage, place.identity, format, progress)
    }

    /// The same of a file that is open already.
    fn of(
        path: &Path,
        storage: Arc<dyn ReadAt>,
        identity: HostIdentity,
        format: Option<Format>,
        progress: &Progress,
    ) -> Result<Self> {
        let file = Arc::new(Lenient::new(storage));
        let storage = Arc::new(Overlay::new(file.clone())?);
        let format = match (format, probe(&*storage, None)) {
            (Some(format), _) => format,
            (None, Ok(format)) => format,
            // Without a signature only its name says what it was.
            (None, Err(error)) => format_of_name(path).filter(|format| *format != Format::Raw).ok_or(error)?,
        };
        let mut content = Losses::default();
        let mut steps = Vec::new();
        if format != Format::Raw {
            // Sectors that hold something though they were never written read as zero, and are in doubt.
            let mending = mend(&storage, format, &|code| code != "vhd-unwritten-data", progress)?;
            steps.extend(mending.done.into_iter().map(RepairStep::from));
        }
        steps.iter().for_each(|step: &RepairStep| content.join(&step.content));
        let image = open_image(storage.clone(), Some(format))?;
        if format == Format::Vhd {
            let unwritten = vhd::check_data(storage.clone(), progress)?;
            unwritten.iter().for_each(|finding| content.join(&finding.content));
        }
        let bad = file.bad();
        if !bad.is_empty() {
            content.join(&doubt_of_unreadable(&storage, format, &bad, progress)?);
        }
        let layer = Layer { path: path.to_owned(), steps, file };
        Ok(Self { layer, image, content, identity })
    }

    fn fits(&self, reference: &ParentReference) -> bool {
        self.image.info().data_identity.is_some_and(|id| reference.accepted.contains(&id))
    }
}

/// What became of the look for a parent.
enum Below {
    Found(Box<Opened>),
    /// It is to be gone past: where it should be, and, where it can tell that, what is below it.
    Skipped(PathBuf, Option<Box<Opened>>),
}

impl LenientChain {
    /// Opens the image at `path` and all that it reads through.
    ///
    /// # Errors
    /// `Damaged` when not even mending makes the image one that opens; `Parent` when a parent is none that can be used,
    /// and is not to be gone past; `Usage` when a layer that is to be gone past is none of the chain; `Io`.
    pub(super) fn open(path: &Path, wanted: &Wanted, progress: &Progress) -> Result<Self> {
        Self::below(path, Opened::new(path, wanted.format, progress)?, wanted, progress)
    }

    /// The same of an image whose file is open already.
    pub(super) fn of_open(path: &Path, file: &Arc<FileStorage>, wanted: &Wanted, progress: &Progress) -> Result<Self> {
        let first = Opened::of(path, file.clone(), file.host_identity()?, wanted.format, progress)?;
        Self::below(path, first, wanted, progress)
    }

    fn below(path: &Path, first: Opened, wanted: &Wanted, progress: &Progress) -> Result<Self> {
        let (mut shown, mut layers, mut skipped) = (ShownLosses::default(), Vec::new(), Vec::new());
        let size = first.image.info().virtual_size;
        let (mut seen, mut next) = (vec![first.identity], Some(Box::new(first)));
        // A layer that is gone past tells what is below it, and shows nothing.
        let mut shows = true;
        while let Some(opened) = next.take() {
            let Opened { layer, image, content, identity } = *opened;
            if shows {
                shown.note(&content)?;
            }
            let reference = image.info().parent.clone();
            let below = match &reference {
                None => None,
                Some(reference) => Some(look_below(&*image, identity, reference, &seen, wanted, progress)?),
            };
            if shows {
                layers.push(layer);
                shown.descend(image);
            }
            (next, shows) = match below {
                None => (None, true),
                Some(Below::Found(opened)) => (Some(opened), true),
                Some(Below::Skipped(path, opened)) => {
                    shown.note(&Losses::doubting(shown.not_held(size)?))?;
                    skipped.push(path);
                    match (opened, &wanted.below) {
                        (Some(opened), _) => (Some(opened), false),
                        (None, Some(below)) => (Some(Box::new(Opened::new(below, None, progress)?)), true),
                        (None, None) => (None, true),
                    }
                }
            };
            if let Some(opened) = &next {
                if seen.contains(&opened.identity) || seen.len() > MAX_DEPTH {
                    let again = opened.layer.path.clone();
                    return Err(Error::parent(path, ParentProblemKind::Cycle { again }));
                }
                seen.push(opened.identity);
            }
        }
        if let Some(path) = wanted.without.iter().find(|path| !skipped.iter().any(|other| is_meant(path, other))) {
            return Err(Error::usage(
                format!("{} is no layer that the chain reads through, or one above it is missing", path.display()),
                "name a layer where the chain looks for it",
            ));
        }
        let (images, content) = shown.into_parts();
        Ok(Self { chain: Chain::from_layers(images), layers, skipped, content })
    }

    /// What the host could not read of the data, as ranges of the disk.
    ///
    /// # Errors
    /// `Io`.
    pub(super) fn unread(chain: &Chain, layers: &[Layer]) -> Result<Ranges> {
        use crate::chain::Disk;
        let bad: Vec<Ranges> = layers.iter().map(|layer| layer.file.bad()).collect();
        let mut unread = Ranges::default();
        if bad.iter().all(Ranges::is_empty) {
            return Ok(unread);
        }
        let (mut offset, size) = (0, chain.virtual_size());
        while offset < size {
            let extent = chain.extent_at(offset, size - offset)?;
            if let Some((number, at)) = extent.data {
                for range in bad[number].within(at..at + extent.len) {
                    unread.add(offset + (range.offset - at)..offset + (range.end() - at));
                }
            }
            offset += extent.len;
        }
        Ok(unread)
    }
}

/// Whether a path that was named is where a layer is, or should be.
fn is_meant(named: &Path, place: &Path) -> bool {
    let real = |path: &Path| std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let same_folder = || {
        let folder = |path: &Path| std::fs::canonicalize(crate::storage::folder_of(path)).ok();
        named.file_name() == place.file_name() && folder(named).is_some() && folder(named) == folder(place)
    };
    real(named) == real(place) || same_folder()
}

fn look_below(
    image: &dyn Image,
    identity: HostIdentity,
    reference: &ParentReference,
    seen: &[HostIdentity],
    wanted: &Wanted,
    progress: &Progress,
) -> Result<Below> {
    let tried = candidates(image.path(), reference);
    if let Some(place) = tried.iter().find(|place| wanted.without.iter().any(|named| is_meant(named, place))) {
        let opened = Opened::new(place, None, progress).ok().filter(|opened| opened.image.info().parent.is_some());
        return Ok(Below::Skipped(place.clone(), opened.map(Box::new)));
    }
    let mut failed = None;
    for place in tried.iter().filter(|place| place.exists()) {
        match Opened::new(place, None, progress) {
            Ok(opened) if opened.fits(reference) && !seen.contains(&opened.identity) => {
                return Ok(Below::Found(Box::new(opened)));
            }
            Ok(_) => {}
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            Err(error) => {
                let kind = ParentProblemKind::Unreadable { parent: place.clone(), reason: error.with_causes() };
                failed.get_or_insert(kind);
            }
        }
    }
    match (find_parent(image, reference, identity, &wanted.search), failed) {
        (Ok(parent), _) => Opened::new(&parent, None, progress).map(|opened| Below::Found(Box::new(opened))),
        (Err(_), Some(kind)) => Err(Error::parent(image.path(), kind)),
        // The reason in the words of every other opening.
        (Err(error), None) => match direct_parent(image, identity, &OpenOptions::new().without_locks()) {
            Err(told) => Err(told),
            Ok(_) => Err(error),
        },
    }
}
