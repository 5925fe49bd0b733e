//! Which image depends on which: the chain of one image, or all families in a folder.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::Serialize;
use uuid::Uuid;

use super::facts::open_for_look;
use super::totals::Totals;
use super::unfinished::{UnderWay, journals_in};
use crate::chain::{MAX_DEPTH, OpenOptions, candidates, parent_of};
use crate::error::{Error, ParentProblemKind, Result};
use crate::image::pieces::is_descriptor;
use crate::image::{Format, Image, ImageInfo, Kind, format_of_name, recognise};
use crate::sidecar::{Companion, Header, lone_companions, touched_since, under_way_at};
use crate::storage::{HostIdentity, ReadAt, files_in, is_temporary_name};

/// Images and who depends on whom.
#[derive(Debug, Default, Serialize)]
#[non_exhaustive]
pub struct Family {
    /// Images without a parent, or whose parent is not known, with all that grew from them.
    pub roots: Vec<Node>,
    /// What is wrong, file by file.
    pub problems: Vec<Problem>,
    /// What was begun and is not finished.
    pub under_way: Vec<UnderWay>,
    /// What they take together.
    pub totals: Totals,
    /// Bytes that full copies of all current disks would take on the host beyond what all images take now.
    pub saved: u64,
}

/// One image in a family. Sizes are in bytes.
#[derive(Debug, Serialize)]
#[non_exhaustive]
pub struct Node {
    /// The file.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// The on-disk layout.
    pub format: Format,
    /// How it takes its space.
    pub kind: Kind,
    /// What it is in its family.
    pub role: Role,
    /// Layers below it.
    pub depth: usize,
    /// Whether it is pinned, never to change.
    pub pinned: bool,
    /// Whether the host's file mode forbids writing, as for parents.
    pub read_only: bool,
    /// Whether something was begun with it and is not finished.
    pub under_way: bool,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// The length of the file.
    pub file_size: u64,
    /// What the host has really set aside for the file.
    pub allocated_size: u64,
    /// The most bytes that it can still take on the host; 0 for what nothing is written to.
    pub most_growth: u64,
    /// What the layer has taken on the host since its parent was frozen; `None` for a base.
    pub growth: Option<u64>,
    /// Since when it grows: when it was derived, as far as that is known.
    pub since: Option<Timestamp>,
    /// When the file was last changed.
    pub modified: Option<Timestamp>,
    /// The process that writes to it, as far as this host tells.
    pub in_use: Option<String>,
    /// Whether something is wrong with it or its parent.
    pub broken: bool,
    /// The images that grew from it.
    pub children: Vec<Node>,
}

/// What an image is in its family.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Role {
    /// No parent, and others grow from it: it must not change.
    Base,
    /// A parent in between: it must not change.
    Frozen,
    /// The end of a chain: what a guest writes to.
    Current,
}

/// Something wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Problem {
    /// The file.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// What is wrong and what to do.
    pub message: String,
}

/// Whether a file carries the signature of an image, and opens as one, though its name speaks of none.
fn is_image_under_another_name(path: &Path) -> bool {
    !is_temporary_name(path) && recognise(path).is_ok_and(|found| found.is_some())
}

struct Seen {
    path: PathBuf,
    info: ImageInfo,
    file_size: u64,
    allocated_size: u64,
    modified: Option<Timestamp>,
    created: Option<Timestamp>,
    companion: Option<Companion>,
    read_only: bool,
    under_way: bool,
    in_use: Option<String>,
    parent: Option<usize>,
    broken: bool,
}

/// What the tree is drawn from: who grew from each image, and since when each of them grows.
struct Drawing {
    children: Vec<Vec<usize>>,
    since: Vec<Option<Timestamp>>,
}

#[derive(Default)]
struct Survey {
    /// What the images of the folder are called there; a child may lead to them by another path.
    names: HashMap<HostIdentity, PathBuf>,
    images: Vec<Seen>,
    by_identity: HashMap<HostIdentity, usize>,
    problems: Vec<Problem>,
    under_way: Vec<UnderWay>,
    /// Companions in the folder whose image is not there, until one fits.
    lone: Vec<PathBuf>,
    /// What disks in pieces take on the host.
    in_pieces: u64,
}

impl Family {
    /// The chain of one image.
    ///
    /// # Errors
    /// As for opening the image itself; what is wrong with its parents is among the problems.
    pub fn of_image(path: &Path, format: Option<Format>) -> Result<Self> {
        let mut survey = Survey::default();
        survey.add(path, format)?;
        Ok(survey.assemble())
    }

    /// All images in a folder (not in folders below it), and those elsewhere that they grew from. Files count as
    /// images by their endings, or by the signature that they carry. Files that should open and do not are among the
    /// problems.
    ///
    /// # Errors
    /// `Io` when the folder cannot be read.
    pub fn of_folder(folder: &Path) -> Result<Self> {
        let mut survey = Survey { lone: lone_companions(folder), ..Survey::default() };
        let mut paths = Vec::new();
        for path in files_in(folder)? {
            if !path.is_file() {
                survey.tell_broken_link(&path);
            } else if is_descriptor(&path) {
                survey.tell_broken_pieces(&path);
            } else if format_of_name(&path).is_some() || is_image_under_another_name(&path) {
                paths.push(path);
            }
        }
        for path in &paths {
            if let Ok(found) = std::fs::metadata(path) {
                survey.names.entry((found.dev(), found.ino())).or_insert_with(|| path.clone());
            }
        }
        for path in paths {
            if let Err(error) = survey.add(&path, None) {
                survey.problems.push(Problem { path, message: error.with_causes() });
            }
        }
        for (path, found) in journals_in(folder)? {
            match found {
                Ok(header) => survey.note_under_way(&header),
                Err(error) => survey.problems.push(Problem { path, message: error.with_causes() }),
            }
        }
        survey.tell_lone_companions();
        survey.find_twins();
        Ok(survey.assemble())
    }
}

impl Survey {
    /// Adds an image and all its parents that are not known yet.
    fn add(&mut self, path: &Path, format: Option<Format>) -> Result<()> {
        let options = OpenOptions::new().without_locks();
        let mut child: Option<usize> = None;
        let mut next = path.to_owned();
        for level in 0..=MAX_DEPTH {
            let opened = open_for_look(&next, format.filter(|_| level == 0), false)?;
            let identity = opened.identity;
            let known = self.by_identity.get(&identity).copied();
            let number = match known {
                Some(number) => number,
                None => self.note(&next, identity, &*opened.storage, opened.image.info(), opened.in_use)?,
            };
            if let Some(child) = child {
                self.images[child].parent = Some(number);
            }
            if known.is_some() {
                return Ok(());
            }
            if let Some(parent) = self.known_parent(&*opened.image) {
                self.images[number].parent = Some(parent);
                return Ok(());
            }
            match parent_of(&*opened.image, None, &[identity], &options) {
                Ok(None) => return Ok(()),
                Ok(Some(found)) => next = found.image.path().to_owned(),
                Err(error @ (Error::Parent(_) | Error::Io { .. })) => {
                    self.images[number].broken = true;
                    self.problems
                        .push(Problem { path: self.images[number].path.clone(), message: error.with_causes() });
                    return Ok(());
                }
                Err(other) => return Err(other),
            }
            child = Some(number);
        }
        let too_deep = Error::parent(path, ParentProblemKind::TooDeep { limit: MAX_DEPTH });
        self.problems.push(Problem { path: path.to_owned(), message: too_deep.to_string() });
        Ok(())
    }

    fn note(
        &mut self,
        path: &Path,
        identity: HostIdentity,
        storage: &dyn ReadAt,
        info: &ImageInfo,
        in_use: Option<String>,
    ) -> Result<usize> {
        let found = std::fs::metadata(path).ok();
        let time =
            |time: std::io::Result<std::time::SystemTime>| time.ok().and_then(|time| Timestamp::try_from(time).ok());
        let known = Companion::of(path).and_then(|own| Companion::joined(path, own, &self.lone));
        let companion = known.unwrap_or_else(|error| {
            self.problems.push(Problem { path: path.to_owned(), message: error.with_causes() });
            None
        });
        let under_way = under_way_at(path).unwrap_or_else(|error| {
            self.problems.push(Problem { path: path.to_owned(), message: error.with_causes() });
            None
        });
        if let Some(header) = &under_way {
            self.note_under_way(header);
        }
        let pin = companion.as_ref().and_then(|companion| companion.pin.as_ref());
        if let Some(message) = pin.and_then(|pin| touched_since(path, pin)) {
            self.problems.push(Problem { path: path.to_owned(), message });
        }
        self.images.push(Seen {
            path: self.names.get(&identity).map_or(path, PathBuf::as_path).to_owned(),
            info: info.clone(),
            file_size: storage.len()?,
            allocated_size: storage.allocated()?,
            modified: found.as_ref().and_then(|found| time(found.modified())),
            created: found.as_ref().and_then(|found| time(found.created())),
            companion,
            read_only: found.as_ref().is_some_and(|found| found.permissions().readonly()),
            under_way: under_way.is_some(),
            in_use,
            parent: None,
            broken: false,
        });
        self.by_identity.insert(identity, self.images.len() - 1);
        Ok(self.images.len() - 1)
    }

    fn note_under_way(&mut self, header: &Header) {
        let found = UnderWay::of(header);
        if !self.under_way.contains(&found) {
            self.under_way.push(found);
        }
    }

    /// The parent of an image where it is an image that was seen already: many children share one, which need not be
    /// opened for each of them.
    fn known_parent(&self, child: &dyn Image) -> Option<usize> {
        let reference = child.info().parent.as_ref()?;
        let first = candidates(child.path(), reference).into_iter().find_map(|path| std::fs::metadata(path).ok())?;
        let number = *self.by_identity.get(&(first.dev(), first.ino()))?;
        let info = &self.images[number].info;
        let fits = info.data_identity.is_some_and(|id| reference.accepted.contains(&id))
            && info.logical_sector == child.info().logical_sector;
        fits.then_some(number)
    }

    /// A disk in pieces is nobody's parent and nobody's current disk; whether all of it is there counts all the same.
    fn tell_broken_pieces(&mut self, path: &Path) {
        match open_for_look(path, None, false).and_then(|opened| opened.storage.allocated()) {
            Ok(allocated) => self.in_pieces = self.in_pieces.saturating_add(allocated),
            Err(error) => self.problems.push(Problem { path: path.to_owned(), message: error.with_causes() }),
        }
    }

    /// A link with the name of an image that leads nowhere.
    fn tell_broken_link(&mut self, path: &Path) {
        let Some(target) = std::fs::read_link(path).ok().filter(|_| !path.exists()) else { return };
        if format_of_name(path).is_some() || is_descriptor(path) {
            let message = format!(
                "{} is a link to {}, and nothing is there: bring that back, or remove the link",
                path.display(),
                target.display()
            );
            self.problems.push(Problem { path: path.to_owned(), message });
        }
    }

    /// Companions whose image is not there, and that belong to none of those that are: what they know is out of sight.
    fn tell_lone_companions(&mut self) {
        let images: Vec<PathBuf> = self.images.iter().map(|image| image.path.clone()).collect();
        for path in std::mem::take(&mut self.lone) {
            let fits = |image: &PathBuf| Companion::joined(image, None, std::slice::from_ref(&path));
            if images.iter().any(|image| fits(image).is_ok_and(|found| found.is_some())) {
                continue;
            }
            let message = format!(
                "{} is the companion of an image that is not there: one that was moved or removed by hand has left \
                 its pin and its known children behind; bring it back, or have a child find it, or remove the \
                 companion if the image is gone for good",
                path.display()
            );
            self.problems.push(Problem { path, message });
        }
    }

    /// Images that others cannot tell apart.
    fn find_twins(&mut self) {
        let mut by_data: HashMap<Uuid, &Seen> = HashMap::new();
        let mut twins = Vec::new();
        for image in &self.images {
            let Some(id) = image.info.data_identity else { continue };
            if let Some(first) = by_data.get(&id) {
                let message = format!(
                    "{} has the same identity as {}: it was copied by hand; whoever searches for a parent may find \
                     either (a fresh identity tells the copy apart)",
                    image.path.display(),
                    first.path.display()
                );
                twins.push(Problem { path: image.path.clone(), message });
            } else {
                by_data.insert(id, image);
            }
        }
        self.problems.append(&mut twins);
    }

    /// How many images stand below one, and what they and it take on the host.
    fn line(&self, number: usize) -> (usize, u64) {
        let line = std::iter::successors(Some(number), |number| self.images[*number].parent);
        line.fold((0, 0), |(depth, total), number| (depth + 1, total + self.images[number].allocated_size))
    }

    /// Since when each image grows: since it was derived, as its parent's companion tells, or else since it was made.
    fn growing_since(&self) -> Vec<Option<Timestamp>> {
        let mut known: HashMap<(usize, &OsStr), Timestamp> = HashMap::new();
        for (number, image) in self.images.iter().enumerate() {
            for child in image.companion.iter().flat_map(|companion| &companion.children) {
                if let Some(name) = child.path.file_name() {
                    known.insert((number, name), child.since);
                }
            }
        }
        let since = |image: &Seen| {
            let derived = known.get(&(image.parent?, image.path.file_name()?)).copied();
            derived.or(image.created)
        };
        self.images.iter().map(since).collect()
    }

    fn assemble(mut self) -> Family {
        self.break_cycles();
        let mut children: Vec<Vec<usize>> = vec![Vec::new(); self.images.len()];
        let mut roots = Vec::new();
        for (number, image) in self.images.iter().enumerate() {
            match image.parent {
                Some(parent) => children[parent].push(number),
                None => roots.push(number),
            }
        }
        let by_path = |numbers: &mut Vec<usize>| numbers.sort_by_key(|number| &self.images[*number].path);
        children.iter_mut().chain([&mut roots]).for_each(by_path);
        let all: u64 = self.images.iter().map(|image| image.allocated_size).sum();
        let current = (0..self.images.len()).filter(|number| children[*number].is_empty());
        let copies: u64 = current.map(|number| self.line(number).1).sum();
        let drawing = Drawing { children, since: self.growing_since() };
        let roots: Vec<Node> = roots.into_iter().map(|number| self.node(number, 0, &drawing)).collect();
        let mut totals = totals_of(&roots);
        totals.allocated = totals.allocated.saturating_add(self.in_pieces);
        Family { roots, totals, saved: copies.saturating_sub(all), problems: self.problems, under_way: self.under_way }
    }

    /// A chain that leads back to itself is cut at one place, which is told.
    fn break_cycles(&mut self) {
        for start in 0..self.images.len() {
            let (mut at, mut steps) = (start, 0);
            while let Some(parent) = self.images[at].parent {
                if parent == start {
                    self.images[start].parent = None;
                    self.images[start].broken = true;
                    let path = self.images[start].path.clone();
                    let message = format!("{}: its chain of parents leads back to itself", path.display());
                    self.problems.push(Problem { path, message });
                    break;
                }
                steps += 1;
                if steps > self.images.len() {
                    break;
                }
                at = parent;
            }
        }
    }

    fn node(&self, number: usize, depth: usize, drawing: &Drawing) -> Node {
        let (image, children) = (&self.images[number], &drawing.children);
        let role = match (children[number].is_empty(), image.info.kind) {
            (true, _) => Role::Current,
            (false, Kind::Differencing) => Role::Frozen,
            (false, _) => Role::Base,
        };
        Node {
            path: image.path.clone(),
            format: image.info.format,
            kind: image.info.kind,
            role,
            depth,
            pinned: image.companion.as_ref().is_some_and(|companion| companion.pin.is_some()),
            read_only: image.read_only,
            under_way: image.under_way,
            most_growth: match role {
                Role::Current if !image.read_only => image.info.most_growth(image.allocated_size),
                _ => 0,
            },
            growth: (image.info.kind == Kind::Differencing).then_some(image.allocated_size),
            since: drawing.since[number],
            virtual_size: image.info.virtual_size,
            file_size: image.file_size,
            allocated_size: image.allocated_size,
            modified: image.modified,
            in_use: image.in_use.clone(),
            broken: image.broken,
            children: children[number].iter().map(|child| self.node(*child, depth + 1, drawing)).collect(),
        }
    }
}

fn totals_of(roots: &[Node]) -> Totals {
    let mut totals = Totals::default();
    let mut waiting: Vec<&Node> = roots.iter().collect();
    while let Some(node) = waiting.pop() {
        // One that was frozen and has no child in sight is no disk that a guest writes to.
        let is_written = node.role == Role::Current && !node.read_only;
        totals.add(node.allocated_size, is_written.then_some((node.virtual_size, node.most_growth)));
        waiting.extend(&node.children);
    }
    totals
}
