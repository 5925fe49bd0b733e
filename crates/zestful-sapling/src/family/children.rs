//! The children of an image, as far as they are known or found, and those of which that cannot be said.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::search::{Found, Search};
use crate::chain::{OpenOptions, direct_parent};
use crate::error::{Error, ParentProblemKind, Result};
use crate::image::{Image, recognise};
use crate::sidecar::{Companion, KnownChild};
use crate::storage::{Access, FileId, FileStorage, HostIdentity, folder_of, is_marked_read_only, real};

/// The children of an image, as far as was looked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Children {
    /// Images that read through it now.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub children: Vec<PathBuf>,
    /// Images that recorded it as their parent and do not find it.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub lost: Vec<PathBuf>,
    /// Images that may need it, of which it cannot be told.
    pub unknown: Vec<UnknownChild>,
    /// The folders that were looked into. None found there does not mean that there are none elsewhere.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub looked: Vec<PathBuf>,
    /// Whether the search came to its end.
    pub complete: bool,
}

/// An image that may have grown from another.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct UnknownChild {
    /// The file, or where it was.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Why it cannot be told.
    pub reason: String,
}

impl Children {
    /// All that certainly need it: whoever recorded the image does.
    pub fn all(&self) -> impl Iterator<Item = &PathBuf> {
        self.children.iter().chain(&self.lost)
    }

    /// Whether nothing needs the image, as far as was looked, and nothing speaks for there being more.
    pub fn is_none(&self) -> bool {
        self.children.is_empty() && self.lost.is_empty() && self.unknown.is_empty() && self.complete
    }

    /// Where was looked, in words.
    pub fn place(&self) -> String {
        let folders: Vec<String> = self.looked.iter().map(|folder| folder.display().to_string()).collect();
        let end =
            if self.complete { "" } else { " (and not to the end: too many files, or folders that cannot be read)" };
        format!("{}{end}", folders.join(", "))
    }
}

/// The images that grew from `image`: in its own folder, whatever they are called, where `search` says, and those
/// that its companion knows of.
///
/// # Errors
/// `Io` when a folder cannot be read or the image cannot be looked up; `Damaged` when its companion is; otherwise as
/// [`open_image`](crate::image::open_image) for the image itself.
pub fn children_of(image: &Path, search: &Search) -> Result<Children> {
    let mut each = children_of_each(&[image.to_owned()], search)?;
    each.pop().ok_or_else(|| Error::usage("no image was named", "name one"))
}

/// The same for several images, each file looked at once.
pub(crate) fn children_of_each(images: &[PathBuf], search: &Search) -> Result<Vec<Children>> {
    let Some(first) = images.first() else { return Ok(Vec::new()) };
    let search = images.iter().skip(1).fold(search.clone(), |search, image| search.and_beside(folder_of(image)));
    let mut found = search.files(first)?;
    let mut parents = images.iter().map(|image| Parent::new(image, &found)).collect::<Result<Vec<_>>>()?;
    for parent in &parents {
        let elsewhere = parent.known.iter().filter(|(path, _)| !found.looked.contains(&folder_of(path)));
        found.files.extend(elsewhere.filter(|(path, _)| path.is_file()).map(|(path, _)| path.clone()));
    }
    let mut seen: HashSet<HostIdentity> = HashSet::new();
    for path in &found.files {
        match recognise(path) {
            Ok(None) => {}
            Ok(Some((other, identity))) => {
                if seen.insert(identity) {
                    judge(path, &*other, identity, &mut parents);
                }
            }
            Err(error) => parents.iter_mut().for_each(|parent| parent.note_unreadable(path, &error)),
        }
    }
    Ok(parents.into_iter().map(|parent| parent.answer(&found)).collect())
}

/// Whether an image is a child of one of these.
fn judge(path: &Path, image: &dyn Image, identity: HostIdentity, parents: &mut [Parent]) {
    let file = FileId::of(path).ok();
    let Some(reference) = &image.info().parent else {
        parents.iter_mut().for_each(|parent| _ = parent.settle(path, file));
        return;
    };
    let found = direct_parent(image, identity, &OpenOptions::new().without_locks());
    for parent in parents {
        let named = parent.data_identity.is_some_and(|id| reference.accepted.contains(&id));
        match &found {
            _ if parent.identity == identity => {}
            Ok(Some(found)) if found.identity == parent.identity => {
                parent.settle(path, file);
                parent.children.push(path.to_owned());
            }
            // It grew from something else, that is there.
            Ok(_) => _ = parent.settle(path, file),
            Err(_) if named => {
                parent.settle(path, file);
                parent.lost.push(path.to_owned());
            }
            Err(error) => {
                let is_this = |there: &PathBuf| real(there).is_ok_and(|there| there == parent.real);
                let names_this = matches!(error, Error::Parent(problem) if matches!(&problem.kind,
                    ParentProblemKind::Mismatch { parent: there, .. } if is_this(there)));
                if parent.settle(path, file) || names_this {
                    let reason = format!("its parent cannot be told: {}", error.with_causes());
                    parent.unknown.push(UnknownChild { path: path.to_owned(), reason });
                }
            }
        }
    }
}

/// An image whose children are looked for.
struct Parent {
    real: PathBuf,
    identity: HostIdentity,
    data_identity: Option<Uuid>,
    /// Whether anything says that it may have children. Without that, a file beside it that cannot be read is no
    /// reason to refuse a change.
    may_have: bool,
    /// Those that are recorded, and not found yet.
    known: Vec<(PathBuf, KnownChild)>,
    children: Vec<PathBuf>,
    lost: Vec<PathBuf>,
    unknown: Vec<UnknownChild>,
}

impl Parent {
    fn new(image: &Path, found: &Found) -> Result<Self> {
        let identity = FileStorage::open(image, Access::ReadUnlocked)?.host_identity()?;
        // A raw disk has no identity, whatever it is called.
        let data_identity = recognise(image)?.and_then(|(image, _)| image.info().data_identity);
        let companion = Companion::joined(image, Companion::of(image)?, &found.lone)?;
        let may_have = companion.is_some() || is_marked_read_only(image)?;
        let known = companion.map_or_else(Vec::new, |companion| {
            companion.child_paths(image).into_iter().zip(companion.children).collect()
        });
        let (children, lost, unknown) = (Vec::new(), Vec::new(), Vec::new());
        Ok(Self { real: real(image)?, identity, data_identity, may_have, known, children, lost, unknown })
    }

    /// Strikes a file off those that are recorded and not found yet; tells whether it was among them, under its name
    /// or, renamed, as the same file.
    fn settle(&mut self, path: &Path, file: Option<FileId>) -> bool {
        let place = real(path).unwrap_or_else(|_| path.to_owned());
        let before = self.known.len();
        self.known.retain(|(known, child)| *known != place && (child.file.is_none() || child.file != file));
        before != self.known.len()
    }

    fn note_unreadable(&mut self, path: &Path, error: &Error) {
        if self.settle(path, FileId::of(path).ok()) || self.may_have {
            let reason =
                format!("it cannot be read, so that it is not known what it grew from: {}", error.with_causes());
            self.unknown.push(UnknownChild { path: path.to_owned(), reason });
        }
    }

    fn answer(mut self, found: &Found) -> Children {
        for (path, child) in self.known {
            // It was recorded, and never came to its name.
            if child.file.is_some_and(|file| found.staged.contains(&file)) && !path.exists() {
                continue;
            }
            let reason = match std::fs::symlink_metadata(&path) {
                Ok(_) => "what stands there now is no image".to_owned(),
                Err(_) => "it is not there any more: it was removed, or moved by hand and may need it still".to_owned(),
            };
            self.unknown.push(UnknownChild { path, reason });
        }
        Children {
            children: self.children,
            lost: self.lost,
            unknown: self.unknown,
            looked: found.looked.clone(),
            complete: found.complete,
        }
    }
}
