//! The work that was begun in a folder and is not finished.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::error::Result;
use crate::sidecar::{Header, Work, is_journal, read_header, under_way_at};
use crate::storage::{files_in, user_of};

/// Work that was begun and is not finished.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct UnderWay {
    /// The image, or the machine's folder, with which it was begun.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What it is.
    pub work: Work,
    /// The other image that it is about: the ancestor of a merge, the new base of a transplant, the place where a move
    /// leads to.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub other: Option<PathBuf>,
    /// When it was begun.
    pub started: Timestamp,
    /// How it stands.
    pub state: UnderWayState,
    /// Who is at it now, as far as this host tells; without, it was cut short.
    pub holder: Option<String>,
    /// All this in words.
    pub message: String,
}

/// How work stands that was begun.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum UnderWayState {
    /// Somebody is at it now.
    Held,
    /// It was cut short; everything reads as before. It can be carried on, or given up.
    CutShort,
    /// It is over; only a copy of its journal is left.
    Over,
    /// It was begun with other files: these are copies, and the originals may still need it.
    OfOtherFiles,
}

impl UnderWay {
    /// What is under way with an image, if anything is.
    ///
    /// # Errors
    /// `Damaged` when its journal is; `Unsupported` when another version wrote it; `Io`.
    pub fn of_image(image: &Path) -> Result<Option<Self>> {
        Ok(under_way_at(image)?.as_ref().map(Self::of))
    }

    pub(crate) fn of(header: &Header) -> Self {
        let other = match header.work {
            Work::Move => Some(header.result.as_path()),
            Work::Transplant => header.parent.as_ref().map(|base| base.path.as_path()),
            Work::Merge => header.members.last().map(|ancestor| ancestor.path.as_path()),
            Work::Take | Work::Revert | Work::Forget | Work::Copy | Work::Repair | Work::Undo | Work::Resize => None,
        };
        let with = match (header.work, other) {
            (_, None) => String::new(),
            (Work::Move, Some(other)) => format!(" to {}", other.display()),
            (Work::Transplant, Some(other)) => format!(" onto {}", other.display()),
            (_, Some(other)) => format!(" with {}", other.display()),
        };
        let holder = user_of(&header.journal()).ok().flatten().map(|holder| holder.name);
        let (state, end) = match &holder {
            Some(holder) => (UnderWayState::Held, format!("{holder} is at it now")),
            None if !header.unproven.is_empty() => (
                UnderWayState::OfOtherFiles,
                "cannot be finished here: these are copies, and the originals may still need it".to_owned(),
            ),
            None if header.is_over().is_ok_and(|over| over) => {
                (UnderWayState::Over, "is over; a copy of its journal is left".to_owned())
            }
            None if [Work::Repair, Work::Undo, Work::Resize].contains(&header.work) => (
                UnderWayState::CutShort,
                "is not finished; parts of it may be as before, and parts as they are to be".to_owned(),
            ),
            None => (UnderWayState::CutShort, "is not finished; it reads as before".to_owned()),
        };
        let image = header.image().display();
        let message = format!("{} of {image}{with} was begun {:.0} and {end}", header.work, header.started);
        Self {
            path: header.image().to_owned(),
            work: header.work,
            other: other.map(Path::to_owned),
            started: header.started,
            state,
            holder,
            message,
        }
    }
}

/// Journals, and the work that each tells of.
type Journals = Vec<(PathBuf, Result<Header>)>;

/// All that is under way in a folder; a journal that cannot be read is an error among them.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub(crate) fn journals_in(folder: &Path) -> Result<Journals> {
    let mut found: Journals = Vec::new();
    for path in files_in(folder)?.into_iter().filter(|path| is_journal(path)) {
        let header = read_header(&path);
        let is_known = |one: &Header| found.iter().any(|(_, other)| other.as_ref().is_ok_and(|it| it.is_same(one)));
        if !header.as_ref().is_ok_and(is_known) {
            found.push((path, header));
        }
    }
    Ok(found)
}

/// All work that was begun in a folder and is not finished, by its journals; one that cannot be read is an error among
/// them.
///
/// # Errors
/// As [`UnderWay::of_image`], file by file; `Io` when the folder cannot be read.
pub fn unfinished_in(folder: &Path) -> Result<Vec<(PathBuf, Result<UnderWay>)>> {
    let told = |(path, header): (PathBuf, Result<Header>)| (path, header.map(|header| UnderWay::of(&header)));
    Ok(journals_in(folder)?.into_iter().map(told).collect())
}
