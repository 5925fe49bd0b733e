//! Which image depends on which: the chain of one image, or all families in a folder.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{Folder, Listing, is_gone};
use super::health::{Health, Problem, ProblemKind};
use super::place::PlaceReport;
use super::scatter::Scatter;
use super::survey::{Seen, Survey};
use super::totals::Totals;
use super::unfinished::{UnderWay, journals_in};
use crate::error::Result;
use crate::image::{Format, Kind};
use crate::sidecar::{Work, image_of_journal, lone_companions};
use crate::storage::real;

/// Images and who depends on whom.
#[derive(Debug, Default, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Family {
    /// How the worst of it is.
    pub state: Health,
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
#[derive(Debug, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Node {
    /// The file.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The on-disk layout.
    pub format: Format,
    /// How it takes its space.
    pub kind: Kind,
    /// What kind of place holds it.
    pub place: PlaceReport,
    /// Whether it stands elsewhere than where was looked, and is told because an image there depends on it, or it on
    /// one of those. It is no part of the totals.
    pub elsewhere: bool,
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
    pub grown: Option<u64>,
    /// Since when it grows: when it was derived, as far as that is known.
    pub since: Option<Timestamp>,
    /// When the file was last changed.
    pub modified: Option<Timestamp>,
    /// The process that writes to it, as far as this host tells.
    pub in_use: Option<String>,
    /// How scattered its blocks are; `None` for an image without any, or with a very large table.
    pub scatter: Option<Scatter>,
    /// How it is, with all that it reads through.
    pub state: Health,
    /// The images that grew from it.
    pub children: Vec<Node>,
}

/// What an image is in its family.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
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

/// What the tree is drawn from: who grew from each image, and since when each of them grows.
struct Drawing {
    children: Vec<Vec<usize>>,
    since: Vec<Option<Timestamp>>,
    /// The worst that was told of each file.
    told: HashMap<PathBuf, Health>,
}

impl Family {
    /// The chain of one image.
    ///
    /// # Errors
    /// As for opening the image itself; what is wrong with its parents is among the problems.
    pub fn of_image(path: &Path, format: Option<Format>) -> Result<Self> {
        let mut survey = Survey::default();
        survey.add(path, format)?;
        // What was asked for is the chain, wherever its layers are.
        survey.images.iter_mut().for_each(|image| image.elsewhere = false);
        Ok(survey.assemble())
    }

    /// All images in a folder, and those elsewhere that they grew from, or that are known to have grown from them.
    /// Files that should open and do not are among the problems.
    ///
    /// # Errors
    /// `Io` when the folder cannot be read.
    pub fn of_folder(folder: impl Into<Folder>) -> Result<Self> {
        Self::of_listing(folder.into().list()?, &[])
    }

    /// The same, with these images besides; of those that are not there nothing is told.
    pub(crate) fn of_listing(listing: Listing, others: &[PathBuf]) -> Result<Self> {
        let lone = listing.folders.iter().flat_map(|folder| lone_companions(folder)).collect();
        let mut survey = Survey { lone, problems: listing.problems, ..Survey::default() };
        listing.entries.iter().for_each(|path| survey.tell_broken_link(path));
        let others = others.iter().filter(|path| path.is_file()).cloned();
        let paths: Vec<PathBuf> = listing.images.into_iter().chain(others).collect();
        for path in &paths {
            if let Ok(found) = std::fs::metadata(path) {
                survey.names.entry((found.dev(), found.ino())).or_insert_with(|| path.clone());
            }
        }
        paths.iter().for_each(|path| survey.add_or_tell(path));
        survey.add_known_children();
        for folder in &listing.folders {
            match survey.note_journals(folder) {
                Err(_) if is_gone(folder) => {}
                other => other?,
            }
        }
        survey.tell_lone_companions();
        survey.find_twins();
        Ok(survey.assemble())
    }
}

impl Survey {
    fn note_journals(&mut self, folder: &Path) -> Result<()> {
        for (path, found) in journals_in(folder)? {
            match found {
                Ok(header) => _ = self.note_under_way(&header),
                // Told with its image already.
                Err(_) if image_of_journal(&path).is_some_and(|image| self.tells(&image)) => {}
                Err(error) => {
                    self.problems.push(Problem::new(&path, ProblemKind::JournalDamaged, error.with_causes()));
                }
            }
        }
        Ok(())
    }

    /// Whether the journal of an image was found to be damaged already.
    fn tells(&self, image: &Path) -> bool {
        let is_same = |path: &Path| path == image || real(path).ok().is_some_and(|path| real(image).ok() == Some(path));
        let mut damaged = self.problems.iter().filter(|problem| problem.code == ProblemKind::JournalDamaged);
        damaged.any(|problem| is_same(&problem.path))
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

    /// What forgetting checkpoints has begun with single images is carried on, and given up, with all of it.
    fn leave_out_parts_of_forgetting(&mut self) {
        let is_whole = |work: &&UnderWay| work.work == Work::Forget;
        let machines: Vec<PathBuf> = self.under_way.iter().filter(is_whole).map(|work| work.path.clone()).collect();
        let is_part = |path: &Path| machines.iter().any(|machine| path != machine && path.starts_with(machine));
        self.under_way.retain(|work| !is_part(&work.path));
    }

    fn assemble(mut self) -> Family {
        self.break_cycles();
        self.leave_out_parts_of_forgetting();
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
        let mut told: HashMap<PathBuf, Health> = HashMap::new();
        for problem in &self.problems {
            let worst = told.entry(problem.path.clone()).or_default();
            *worst = problem.severity.max(*worst);
        }
        let cut_short = |work: &UnderWay| work.holder.is_none().then_some(Health::Unfinished);
        let broken = |image: &Seen| image.broken.then_some(Health::Broken);
        let states = self.images.iter().filter_map(broken).chain(self.under_way.iter().filter_map(cut_short));
        let state = states.chain(told.values().copied()).max().unwrap_or_default();
        let drawing = Drawing { children, since: self.growing_since(), told };
        let roots: Vec<Node> =
            roots.into_iter().map(|number| self.node(number, 0, Health::Healthy, &drawing)).collect();
        let totals = totals_of(&roots, self.unreadable);
        let saved = copies.saturating_sub(all);
        Family { state, roots, totals, saved, problems: self.problems, under_way: self.under_way }
    }

    fn node(&self, number: usize, depth: usize, below: Health, drawing: &Drawing) -> Node {
        let (image, children) = (&self.images[number], &drawing.children);
        let role = match (children[number].is_empty(), image.info.kind) {
            (true, _) => Role::Current,
            (false, Kind::Differencing) => Role::Frozen,
            (false, _) => Role::Base,
        };
        // An image that reads through a broken one is broken, too.
        let broken = if image.broken { Health::Broken } else { below };
        let own = if image.cut_short { Health::Unfinished } else { Health::Healthy };
        let told = drawing.told.get(&image.path).copied().unwrap_or_default();
        let state = told.max(broken).max(own);
        Node {
            path: image.path.clone(),
            format: image.info.format,
            kind: image.info.kind,
            place: image.place,
            elsewhere: image.elsewhere,
            role,
            depth,
            pinned: image.companion.as_ref().is_some_and(|companion| companion.pin.is_some()),
            read_only: image.read_only,
            under_way: image.under_way,
            most_growth: match role {
                Role::Current if image.grows() => image.info.most_growth(image.allocated_size),
                _ => 0,
            },
            grown: (image.info.kind == Kind::Differencing).then_some(image.allocated_size),
            since: drawing.since[number],
            virtual_size: image.info.virtual_size,
            file_size: image.file_size,
            allocated_size: image.allocated_size,
            modified: image.modified,
            in_use: image.in_use.clone(),
            scatter: image.scatter,
            state,
            children: children[number].iter().map(|child| self.node(*child, depth + 1, broken, drawing)).collect(),
        }
    }
}

fn totals_of(roots: &[Node], unreadable: Totals) -> Totals {
    let mut totals = unreadable;
    let mut waiting: Vec<&Node> = roots.iter().collect();
    while let Some(node) = waiting.pop() {
        waiting.extend(&node.children);
        if !node.elsewhere {
            let is_written = node.is_written();
            totals.add(node.allocated_size, is_written.then_some((node.virtual_size, node.most_growth)));
        }
    }
    totals
}

impl Node {
    /// Whether it is a disk that a guest writes to: the end of a chain, and neither frozen, though no child is in
    /// sight, nor in pieces, into which nothing is written.
    pub fn is_written(&self) -> bool {
        self.role == Role::Current && !self.read_only && self.place != PlaceReport::Pieces
    }
}
