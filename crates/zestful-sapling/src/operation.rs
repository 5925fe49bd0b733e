//! The one shape of everything that this library does for somebody: asked for, planned, run.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;

use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, Search};
use crate::progress::Progress;
use crate::size::{exact_size, format_size};
use crate::storage::{folder_of, free_space};

/// Something that can be asked of this library.
///
/// It is asked for with what it is about and setters; planned, which changes nothing and tells what would happen; and
/// run, which finds out again whether all is as it was planned.
///
/// ```
/// use zestful_sapling::ops::{Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
/// # let folder = tempfile::tempdir().unwrap();
/// # let path = folder.path().join("herbarium.vhdx");
/// let plan = Make::new(&path, 64 << 30).plan()?;
/// assert_eq!(plan.summary().files.create, [path.clone()]);
/// plan.run(&Progress::new())?;
/// assert!(path.exists());
/// # Ok::<(), zestful_sapling::Error>(())
/// ```
pub trait Operation: Sized {
    /// The checked plan.
    type Planned: Planned;

    /// What it would do. Files that it is about stay locked as long as the plan lives.
    ///
    /// # Errors
    /// Each operation says which; all of them `Usage`, `Refused` and `Io`.
    fn plan(self) -> Result<Self::Planned>;

    /// Where it looks for relatives of its images, and what it goes over; `None` when it does neither.
    fn guard_mut(&mut self) -> Option<&mut Guard> {
        None
    }

    /// Looks for relatives of its images there as well, beside the folders of the images.
    fn with_search(mut self, search: Search) -> Self {
        if let Some(guard) = self.guard_mut() {
            *guard = std::mem::take(guard).with_search(search);
        }
        self
    }

    /// Allows something unusual; the operation's own description names what it knows.
    fn with_override(mut self, allowed: Override) -> Self {
        if let Some(guard) = self.guard_mut() {
            *guard = std::mem::take(guard).with_override(allowed);
        }
        self
    }
}

/// A checked plan.
pub trait Planned {
    /// What becomes of it.
    type Outcome;

    /// The plan as plain data.
    fn summary(&self) -> &Plan;

    /// Does it, telling how far it is; stopped or killed it leaves the state before, or one that can be carried on.
    ///
    /// # Errors
    /// Each plan says which; all of them `Refused` when something is not as it was planned, `Cancelled`, `Io`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome>;
}

/// What an operation would do. Sizes are in bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Plan {
    /// The operation's name.
    pub operation: &'static str,
    /// What happens, in order.
    pub steps: Vec<String>,
    /// The files it touches.
    pub files: FileChanges,
    /// Bytes that will be read at most.
    pub bytes_read: u64,
    /// Bytes that will be written at most.
    pub bytes_written: u64,
    /// Space that the host must have for it at the worst moment.
    pub peak_extra_space: u64,
    /// What the user should know before.
    pub warnings: Vec<String>,
}

/// The files that an operation touches.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct FileChanges {
    /// New files.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub create: Vec<PathBuf>,
    /// Files whose content or mode changes.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub change: Vec<PathBuf>,
    /// Files that get another name.
    pub rename: Vec<Renamed>,
    /// Files that vanish.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub remove: Vec<PathBuf>,
}

/// A file that gets another name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Renamed {
    /// The name that it has.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub from: PathBuf,
    /// The name that it gets.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub to: PathBuf,
}

impl Plan {
    /// A plan of something that changes no file by itself: its name and its steps.
    pub fn of(operation: &'static str, steps: Vec<String>) -> Self {
        Self { operation, steps, ..Self::default() }
    }

    /// One file more that gets another name.
    pub(crate) fn renames(&mut self, from: &Path, to: &Path) {
        self.files.rename.push(Renamed { from: from.to_owned(), to: to.to_owned() });
    }

    /// Refuses when the folder of `target` cannot hold `needed` more bytes.
    pub(crate) fn require_space(target: &Path, needed: u64) -> Result<()> {
        let free = free_space(&folder_of(target))?;
        if needed <= free {
            return Ok(());
        }
        Err(Error::refused(
            Refusal::NoSpace { path: target.to_owned(), needed, free },
            format!(
                "{} may need {}, but the host has {} free there",
                target.display(),
                exact_size(needed),
                exact_size(free)
            ),
            "make room, or choose a folder on another file system",
        ))
    }

    /// Warns when new disks of this size could outgrow the host together.
    pub(crate) fn warn_of_growth(&mut self, target: &Path, virtual_size: u64, disks: usize) -> Result<()> {
        let free = free_space(&folder_of(target))?;
        let most = virtual_size.saturating_mul(disks as u64);
        if most > free {
            let what = if disks == 1 { "the disk".to_owned() } else { format!("the {disks} disks together") };
            self.warnings.push(format!(
                "{what} can grow to {}, the host has {} free: watch it, or make it smaller",
                format_size(most),
                format_size(free)
            ));
        }
        Ok(())
    }
}
