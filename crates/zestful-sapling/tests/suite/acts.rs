//! A family in three folders, all that can be done with it, and what each of its disks must read whatever happens.
//!
//! ```text
//! a/base ── a/mid ── b/low ── c/child ── c/leaf
//!    └──── b/other          b/full, which stands alone, is a copy of c/leaf
//! ```

use std::path::{Path, PathBuf};

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions, SharedDisk};
use zestful_sapling::error::Error;
use zestful_sapling::family::{Guard, children_of};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{
    Compact, CopyDisk, CopyOnto, Derive, Direction, FreshIdentity, KeepName, Merge, MoveImage, NewSize, Operation,
    PinImage, Planned, Relink, Remove, Resize, Transplant,
};
use zestful_sapling::progress::Progress;

use crate::family_model::{SIZE, all_files, derive, make, quick_folder, write};
use crate::support::Model;
use crate::support::resume;

/// Something that changes the family.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Act {
    DeriveFromChild,
    DeriveFromBase,
    MergeIntoParent,
    MergeIntoChild,
    MergeDeep,
    MergeBelow,
    Transplant,
    MoveLow,
    MoveChild,
    Relink,
    PinMid,
    PinChild,
    RemoveOther,
    RemoveLeaf,
    RenewLeaf,
    WriteLeaf,
    WriteOther,
    GoOnFromLeaf,
    CopyOntoChild,
    GrowOther,
    ShrinkLeaf,
    CompactMid,
    ReorderLeaf,
}

pub const ACTS: [Act; 23] = [
    Act::DeriveFromChild,
    Act::DeriveFromBase,
    Act::MergeIntoParent,
    Act::MergeIntoChild,
    Act::MergeDeep,
    Act::MergeBelow,
    Act::Transplant,
    Act::MoveLow,
    Act::MoveChild,
    Act::Relink,
    Act::PinMid,
    Act::PinChild,
    Act::RemoveOther,
    Act::RemoveLeaf,
    Act::RenewLeaf,
    Act::WriteLeaf,
    Act::WriteOther,
    Act::GoOnFromLeaf,
    Act::CopyOntoChild,
    Act::GrowOther,
    Act::ShrinkLeaf,
    Act::CompactMid,
    Act::ReorderLeaf,
];

/// Where the writers among the acts write, and what.
const WRITTEN: (u64, u64, u8) = (3 << 20, 256 << 10, 0xEE);
/// The sizes that disks get.
const GROWN: u64 = SIZE + (5 << 20);
const SHRUNK: u64 = SIZE - (1 << 20);

pub struct Cast {
    pub root: PathBuf,
    pub format: Format,
}

impl Cast {
    pub fn path(&self, name: &str) -> PathBuf {
        self.root.join(format!("{name}.{}", self.format))
    }

    /// The files that an act changes, renames, removes, or has others grow from: whoever writes to one of these,
    /// without asking for a lock, stops it.
    pub fn touched(&self, act: Act) -> Vec<PathBuf> {
        let names: &[&str] = match act {
            Act::DeriveFromChild | Act::PinChild | Act::CopyOntoChild => &["c/child"],
            Act::DeriveFromBase => &["a/base"],
            Act::MergeIntoParent | Act::MergeIntoChild => &["c/child", "b/low", "c/leaf"],
            Act::MergeDeep => &["c/child", "b/low", "a/mid", "c/leaf"],
            // The child of what is merged is kept as it is, too, whether it is to be told or not.
            Act::MergeBelow => &["b/low", "a/mid", "c/child"],
            Act::Transplant => &["c/child", "b/other"],
            Act::MoveLow => &["b/low", "c/child"],
            Act::MoveChild => &["c/child", "c/leaf"],
            Act::Relink | Act::RemoveLeaf | Act::RenewLeaf | Act::WriteLeaf => &["c/leaf"],
            Act::GoOnFromLeaf | Act::ShrinkLeaf | Act::ReorderLeaf => &["c/leaf"],
            Act::PinMid | Act::CompactMid => &["a/mid"],
            Act::RemoveOther | Act::WriteOther | Act::GrowOther => &["b/other"],
        };
        names.iter().map(|name| self.path(name)).collect()
    }

    /// Does it, as whoever types the command.
    pub fn perform(&self, act: Act) -> zestful_sapling::Result<()> {
        let (progress, path) = (Progress::new(), |name: &str| self.path(name));
        let merge = |child: &str, into: &str, direction, keep| {
            let request =
                Merge::new(path(child)).with_ancestor(path(into)).with_direction(direction).with_name_of(keep);
            request.plan()?.run(&progress).map(|_| ())
        };
        let write = |name: &str| {
            let disk = ChainMut::open(&path(name), &OpenOptions::new())?;
            disk.write_at(&vec![WRITTEN.2; WRITTEN.1 as usize], WRITTEN.0)?;
            disk.close()
        };
        let derive =
            |base: &str, child: &str| Derive::new(path(base), vec![path(child)]).plan()?.run(&progress).map(|_| ());
        let resize =
            |name: &str, to| Resize::new(path(name)).with_size(NewSize::To(to)).plan()?.run(&progress).map(|_| ());
        match act {
            Act::DeriveFromChild => derive("c/child", "a/new"),
            Act::DeriveFromBase => derive("a/base", "b/fresh"),
            Act::MergeIntoParent => merge("c/child", "b/low", Direction::IntoParent, KeepName::Child),
            Act::MergeIntoChild => merge("c/child", "b/low", Direction::IntoChild, KeepName::Parent),
            Act::MergeDeep => merge("c/child", "a/mid", Direction::IntoParent, KeepName::Parent),
            Act::MergeBelow => merge("b/low", "a/mid", Direction::IntoChild, KeepName::Child),
            Act::Transplant => Transplant::new(path("c/child"), path("b/other")).plan()?.run(&progress).map(|_| ()),
            Act::MoveLow => MoveImage::new(path("b/low"), path("a/moved")).plan()?.run(&Progress::new()).map(|_| ()),
            Act::MoveChild => {
                MoveImage::new(path("c/child"), path("a/there")).plan()?.run(&Progress::new()).map(|_| ())
            }
            Act::Relink => {
                Relink::new(path("c/leaf")).with_parent(path("c/child")).plan()?.run(&Progress::new()).map(|_| ())
            }
            Act::PinMid => PinImage::new(path("a/mid")).plan()?.run(&progress).map(|_| ()),
            Act::PinChild => PinImage::new(path("c/child")).plan()?.run(&progress).map(|_| ()),
            Act::RemoveOther => Remove::new(path("b/other")).plan()?.run(&Progress::new()).map(|_| ()),
            Act::RemoveLeaf => Remove::new(path("c/leaf")).plan()?.run(&Progress::new()).map(|_| ()),
            Act::RenewLeaf => FreshIdentity::new(path("c/leaf")).plan()?.run(&Progress::new()).map(|_| ()),
            Act::WriteLeaf => write("c/leaf"),
            Act::WriteOther => write("b/other"),
            Act::GoOnFromLeaf => {
                let disk = SharedDisk::new(ChainMut::open(&path("c/leaf"), &OpenOptions::new())?);
                disk.go_on_in(&path("a/after"), &Guard::new())?;
                disk.close()
            }
            Act::CopyOntoChild => {
                CopyOnto::new(path("b/full"), path("c/child"), path("a/onto")).plan()?.run(&progress).map(|_| ())
            }
            Act::GrowOther => resize("b/other", GROWN),
            Act::ShrinkLeaf => resize("c/leaf", SHRUNK),
            Act::CompactMid => Compact::new(path("a/mid")).plan()?.run(&progress).map(|_| ()),
            Act::ReorderLeaf => {
                let request = Compact::new(path("c/leaf")).with_same_as_parent(true).in_order(true);
                request.plan()?.run(&progress).map(|_| ())
            }
        }
    }

    /// Carries on whatever is unfinished.
    pub fn finish(&self, when: &str) {
        while let Some(journal) = all_files(&self.root).into_iter().find(|name| name.ends_with(".zsap.journal")) {
            let resumed = resume(Path::new(&journal), &[]);
            resumed.unwrap_or_else(|error| panic!("{when}: {journal}: {error}"));
        }
    }
}

/// The family as it is at first, and what its disks hold.
pub struct Stage {
    _folder: tempfile::TempDir,
    pub cast: Cast,
    base: Model,
    child: Model,
    leaf: Model,
    other: Model,
}

impl Stage {
    pub fn new(format: Format) -> Self {
        let folder = quick_folder();
        for sub in ["a", "b", "c"] {
            std::fs::create_dir(folder.path().join(sub)).unwrap();
        }
        let cast = Cast { root: folder.path().canonicalize().unwrap(), format };
        let mut content = Model::default();
        let put = |name: &str, content: &mut Model, units: &[(u64, u8)]| {
            for (at, byte) in units {
                write(&cast.path(name), at * 4096, *byte);
                content.fill(at * 4096, 4096, *byte);
            }
        };
        make(&cast.path("a/base"));
        put("a/base", &mut content, &[(0, 1), (1, 1), (2, 1), (700, 1), (1000, 1)]);
        let base = content.clone();
        derive(&cast.path("a/base"), &cast.path("b/other"), false);
        let mut other = base.clone();
        put("b/other", &mut other, &[(2, 9), (701, 9)]);
        derive(&cast.path("a/base"), &cast.path("a/mid"), false);
        // A block of zeros stands before what others hold.
        put("a/mid", &mut content, &[(1600, 0), (1, 2), (300, 2)]);
        derive(&cast.path("a/mid"), &cast.path("b/low"), true);
        put("b/low", &mut content, &[(301, 3), (1, 3)]);
        derive(&cast.path("b/low"), &cast.path("c/child"), false);
        put("c/child", &mut content, &[(302, 4), (0, 4)]);
        let mut leaf = content.clone();
        derive(&cast.path("c/child"), &cast.path("c/leaf"), false);
        put("c/leaf", &mut leaf, &[(1601, 0), (1100, 5), (5, 5), (300, 5)]);
        let full = CopyDisk::new(cast.path("c/leaf"), cast.path("b/full"));
        full.plan().unwrap().run(&Progress::new()).unwrap();
        Self { _folder: folder, cast, base, child: content, leaf, other }
    }

    /// Every disk reads what it read, or what its own writer wrote; and whoever must know of it knows it.
    pub fn judge(&self, done: &[(Act, bool)], when: &str) {
        let is_done = |act: Act| done.iter().any(|(other, ok)| *other == act && *ok);
        let was_tried = |act: Act| done.iter().any(|(other, _)| *other == act);
        for (name, model, made, gone, writer, resizer) in [
            ("c/leaf", &self.leaf, None, Some(Act::RemoveLeaf), Some(Act::WriteLeaf), Some((Act::ShrinkLeaf, SHRUNK))),
            (
                "b/other",
                &self.other,
                None,
                Some(Act::RemoveOther),
                Some(Act::WriteOther),
                Some((Act::GrowOther, GROWN)),
            ),
            (
                "a/after",
                &self.leaf,
                Some(Act::GoOnFromLeaf),
                None,
                Some(Act::WriteLeaf),
                Some((Act::ShrinkLeaf, SHRUNK)),
            ),
            ("a/new", &self.child, Some(Act::DeriveFromChild), None, None, None),
            ("b/fresh", &self.base, Some(Act::DeriveFromBase), None, None, None),
            ("a/onto", &self.leaf, Some(Act::CopyOntoChild), None, None, None),
        ] {
            let path = self.cast.path(name);
            if gone.is_some_and(is_done) || made.is_some_and(|made| !is_done(made)) && !path.exists() {
                assert!(!path.exists(), "{when}: {name} is there");
                continue;
            }
            if !path.exists() && gone.is_some_and(was_tried) {
                continue;
            }
            let chain = Chain::open(&path, &OpenOptions::new());
            let chain = chain.unwrap_or_else(|error| panic!("{when}: {name}: {error}"));
            let mut expected = model.clone();
            let size = chain.virtual_size();
            expected.size = Some(match resizer {
                Some((act, size)) if is_done(act) => size,
                // One that failed may have been carried on.
                Some((act, new)) if was_tried(act) && size == new => size,
                _ => SIZE,
            });
            if writer.is_some_and(is_done) {
                expected.fill(WRITTEN.0, WRITTEN.1, WRITTEN.2);
            } else if writer.is_some_and(was_tried) {
                // A write that failed may have left any part of itself.
                for unit in WRITTEN.0 / 512..(WRITTEN.0 + WRITTEN.1) / 512 {
                    let mut found = [0; 512];
                    chain.read_at(&mut found, unit * 512).unwrap();
                    if found == [WRITTEN.2; 512] {
                        expected.fill(unit * 512, 512, WRITTEN.2);
                    }
                }
            }
            expected.assert_same(&chain);
            let parent = chain.layers()[1].path().to_owned();
            drop(chain);
            let known = children_of(&parent, &zestful_sapling::family::Search::default());
            let known = known.unwrap_or_else(|error| panic!("{when}: {}: {error}", parent.display()));
            let is_known = known.all().any(|child| child.canonicalize().is_ok_and(|child| child == path));
            assert!(is_known, "{when}: {} does not know {name}: {known:?}", parent.display());
        }
    }
}

/// What an act may end with when something stands in its way.
pub fn is_orderly(ended: &zestful_sapling::Result<()>) -> bool {
    matches!(
        ended,
        Ok(())
            | Err(Error::Refused(..) | Error::Io { .. } | Error::UnderWay { .. } | Error::Parent(_) | Error::Usage(_))
    )
}
