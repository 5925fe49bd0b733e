//! What speaks against changing an image, whatever the change: others need it, it is pinned, something is under way with it,
//! or somebody has it open.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::Override;
use super::family::{Family, Node};
use super::kin::look;
use crate::chain::{OpenOptions, parent_of, refuse_pinned, refuse_under_way};
use crate::error::{Error, Refusal, Result};
use crate::image::folder_of;
use crate::storage::written_elsewhere;

/// The images in the same folder that directly grew from `image`. None found there does not mean that there are none
/// elsewhere.
///
/// # Errors
/// `Io` when the folder cannot be read or the image cannot be looked up.
pub fn children_beside(image: &Path) -> Result<Vec<PathBuf>> {
    let target = std::fs::metadata(image).map_err(|e| Error::io("look up", image, e))?;
    let family = Family::of_folder(&folder_of(image))?;
    let is_image = |path: &Path| {
        std::fs::metadata(path).is_ok_and(|found| (found.dev(), found.ino()) == (target.dev(), target.ino()))
    };
    let mut waiting: Vec<&Node> = family.roots.iter().collect();
    while let Some(node) = waiting.pop() {
        if is_image(&node.path) {
            return Ok(node.children.iter().map(|child| child.path.clone()).collect());
        }
        waiting.extend(&node.children);
    }
    Ok(Vec::new())
}

/// Refuses to change an image that is pinned, or with which something is under way.
pub(super) fn refuse_change(image: &Path) -> Result<()> {
    refuse_under_way(image)?;
    refuse_pinned(image)
}

/// Refuses images that other processes have open for writing, also those that take no locks.
pub(super) fn refuse_written_elsewhere<'a>(
    images: impl IntoIterator<Item = &'a Path>,
    overrides: &[Override],
) -> Result<()> {
    if overrides.contains(&Override::InUse) {
        return Ok(());
    }
    match written_elsewhere(images).first() {
        None => Ok(()),
        Some((path, holder)) => Err(Error::refused(
            Refusal::InUse,
            format!("{} is open for writing in {holder}", path.display()),
            "end that process, or say --force=in-use if it is certain to leave the image alone",
        )),
    }
}

/// The parent of an image, where it is found.
pub(super) fn parent_beside(image: &Path) -> Option<PathBuf> {
    let (child, identity) = look(image)?;
    let parent = parent_of(&*child, None, &[identity], &OpenOptions::new().with_look(true)).ok()??;
    Some(parent.image.path().to_owned())
}

/// Refuses to change an image that others in its folder grew from, that is pinned, or with which something is under way.
pub(super) fn refuse_if_parent(image: &Path, advice: &str) -> Result<()> {
    refuse_change(image)?;
    let children = children_beside(image)?;
    if children.is_empty() {
        return Ok(());
    }
    let names: Vec<String> = children.iter().map(|child| child.display().to_string()).collect();
    let message = format!("{} is the parent of {}", image.display(), names.join(", "));
    Err(Error::refused(Refusal::NeededByChildren, message, advice))
}
