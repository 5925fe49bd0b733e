//! What speaks against a change, whatever the change: others need the image, it is pinned, something is under way
//! with it, it has a second name, or somebody has it open for writing.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::children::{Children, children_of};
use super::overrides::Override;
use super::search::Search;
use crate::chain::{OpenOptions, direct_parent};
use crate::error::{Error, Refusal, Result};
use crate::image::{ImageInfo, is_single_file, open_place_mut, recognise};
use crate::sidecar::{Companion, Header, Kept, Role, kept_by_grove, refuse_pinned, refuse_under_way};
use crate::storage::{Access, HostIdentity, Storage, Writers, is_marked_read_only, swapped, users_of, writers_of};

/// So many images are told one by one; of more the number is.
const MOST_TOLD: usize = 3;

/// Where a change looks for what depends on its images, and what it goes over all the same.
///
/// It is asked by every operation, and by [`ChainMut::open`](crate::chain::ChainMut::open), while the files are locked.
#[derive(Clone, Debug, Default)]
pub struct Guard {
    pub(crate) search: Search,
    overrides: Vec<Override>,
    /// The grove that this is work of: what it keeps is its own.
    grove: Option<PathBuf>,
}

impl Guard {
    /// Looks into the companion and the folder of each image, and allows nothing unusual.
    pub fn new() -> Self {
        Self::default()
    }

    /// Looks for children there as well.
    pub fn with_search(mut self, search: Search) -> Self {
        self.search = search;
        self
    }

    /// Allows something unusual.
    pub fn with_override(mut self, allowed: Override) -> Self {
        self.overrides.push(allowed);
        self
    }

    /// For work of the grove in this folder.
    pub(crate) fn of_grove(mut self, folder: &Path) -> Self {
        self.grove = Some(folder.to_owned());
        self
    }

    /// Refuses to take away or rename what a grove keeps: a layer of a checkpoint, or one of its disks.
    pub(crate) fn refuse_kept(&self, image: &Path) -> Result<()> {
        self.refuse_kept_if(image, |_| true)
    }

    /// Refuses to write to a disk that forgets its changes at each attach.
    fn refuse_throwaway(&self, image: &Path) -> Result<()> {
        let kept = kept_by_grove(image)?.filter(|kept| kept.is_current && kept.role == Role::Throwaway);
        let Some(kept) = kept else { return Ok(()) };
        Err(Error::refused(
            Refusal::Throwaway { image: image.to_owned(), disk: kept.disk.clone() },
            format!(
                "{} is the disk {} of the machine in {}, whose file is never written to: what a guest writes to it is \
                 thrown away at the end",
                image.display(),
                kept.disk,
                kept.grove.display()
            ),
            "attach it so that its changes are thrown away; or give it another role",
        ))
    }

    /// Refuses to write to, or to rewrite, a layer that a grove keeps.
    pub(crate) fn refuse_kept_layer(&self, image: &Path) -> Result<()> {
        self.refuse_kept_if(image, |kept| !kept.is_current)
    }

    fn refuse_kept_if(&self, image: &Path, which: impl Fn(&Kept) -> bool) -> Result<()> {
        let kept = kept_by_grove(image)?.filter(|kept| self.grove.as_ref() != Some(&kept.grove) && which(kept));
        let Some(kept) = kept else { return Ok(()) };
        let (name, grove) = (image.display(), kept.grove.display());
        let (message, advice) = match (&kept.checkpoint, kept.is_current) {
            (Some(checkpoint), _) => (
                format!("{name} is the disk {} of the machine in {grove} at the checkpoint {checkpoint}", kept.disk),
                "forget the checkpoint, and what is needed of it is merged",
            ),
            (None, true) => (
                format!("{name} is the disk {} of the machine in {grove}", kept.disk),
                "release it from the machine first",
            ),
            (None, false) => (
                format!("{name} is a layer that checkpoints of the machine in {grove} share"),
                "forget one of these checkpoints, and what is needed of it is merged",
            ),
        };
        Err(Error::refused(kept.refusal(image), message, advice))
    }

    /// Whether something unusual is meant so.
    pub fn allows(&self, wanted: Override) -> bool {
        self.overrides.contains(&wanted)
    }

    /// Refuses to change the record, the content or the name of an image with which something is under way, that is
    /// pinned, or that has a second name.
    pub(crate) fn refuse_protected(&self, image: &Path) -> Result<()> {
        refuse_under_way(image)?;
        refuse_pinned(image)?;
        self.refuse_hard_links(image)
    }

    /// Refuses to move or change an image whose parent takes part in work that is under way: when that ends, it tells
    /// the children that its journal names, at the places that stand there.
    pub(crate) fn refuse_parent_under_way(&self, image: &Path) -> Result<()> {
        parent_beside(image).map_or(Ok(()), |parent| refuse_under_way(&parent))
    }

    /// Refuses a file that has a second name: under that name others may have grown from it, or go on to write to it.
    pub(crate) fn refuse_hard_links(&self, image: &Path) -> Result<()> {
        let found = std::fs::metadata(image).map_err(|e| Error::io("look up", image, e))?;
        if !found.is_file() || found.nlink() < 2 || self.allows(Override::HardLinks) {
            return Ok(());
        }
        Err(Error::refused(
            Refusal::HardLinks { path: image.to_owned(), names: found.nlink() },
            format!(
                "{} is one of {} names of the same file (hard links); what is known under the others, and who uses \
                 them, is not seen from here",
                image.display(),
                found.nlink()
            ),
            "take the other names away, or copy the image and work with that",
        ))
    }

    /// Refuses what another host began and may be at still.
    pub(crate) fn refuse_other_host(&self, header: &Header) -> Result<()> {
        match header.is_of_this_host() || self.allows(Override::OtherHost) {
            true => Ok(()),
            false => Err(Error::refused(
                Refusal::OtherHost { image: header.image().to_owned() },
                format!("{} was begun by another host, which may be at it still", header.work),
                "look there first, whether that host is gone for good",
            )),
        }
    }

    /// Refuses to change what a suspended machine goes on from: its memory holds parts of file systems as they were.
    pub(crate) fn refuse_saved_state(&self, image: &Path, info: &ImageInfo) -> Result<()> {
        if !info.saved_state || self.allows(Override::SavedState) {
            return Ok(());
        }
        Err(Error::refused(
            Refusal::SavedState { path: image.to_owned() },
            format!("{} says that a suspended machine goes on from it, which a change would harm", image.display()),
            "end the machine's suspension first, or copy the disk and change that",
        ))
    }

    /// Refuses images that somebody has open for writing, whatever lock that takes; returns what was not looked at.
    pub(crate) fn refuse_writers<'a>(&self, images: impl IntoIterator<Item = &'a Path>) -> Result<Option<String>> {
        self.refuse_found(" for writing", || writers_of(images))
    }

    /// The same of those who only read: what they go by moves away under them.
    pub(crate) fn refuse_users(&self, image: &Path) -> Result<Option<String>> {
        self.refuse_found("", || users_of([image]))
    }

    fn refuse_found(&self, how: &str, look: impl FnOnce() -> Writers) -> Result<Option<String>> {
        if self.allows(Override::InUse) {
            return Ok(None);
        }
        let writers = look();
        match writers.found.first() {
            None => Ok(writers.not_seen()),
            Some((path, holder)) => Err(Error::refused(
                Refusal::InUse { path: path.clone(), holder: Some(Box::new(holder.clone())) },
                format!("{} is open{how} in {}", path.display(), holder.name),
                "end that first",
            )),
        }
    }

    /// Refuses to go on when something may have grown from the image of which that cannot be told; with the override,
    /// says it.
    pub(crate) fn refuse_unknown(&self, image: &Path, children: &Children) -> Result<Option<String>> {
        if children.unknown.is_empty() && children.complete {
            return Ok(None);
        }
        // Of a folder full of damaged files the first ones say what it is about.
        let told = children.unknown.iter().take(MOST_TOLD);
        let mut reasons: Vec<String> =
            told.map(|child| format!("{} ({})", child.path.display(), child.reason)).collect();
        if let Some(more) = children.unknown.len().checked_sub(MOST_TOLD).filter(|more| *more > 0) {
            reasons.push(format!("{more} more"));
        }
        if !children.complete {
            reasons.push(format!("whatever was not looked at in {}", children.place()));
        }
        let message = format!("{} may be needed by {}", image.display(), reasons.join("; "));
        match self.allows(Override::UnknownChildren) {
            true => Ok(Some(message)),
            false => {
                Err(Error::refused(needed_by(image, children), message, "bring it back or mend it, or search further"))
            }
        }
    }

    /// Refuses to let go of, or to change, an image that others grew from or may have grown from; returns what is to
    /// be said of it all the same.
    pub(crate) fn refuse_needed(&self, image: &Path, advice: &str) -> Result<(Children, Vec<String>)> {
        let children = children_of(image, &self.search)?;
        let needed: Vec<String> = children.all().map(|child| child.display().to_string()).collect();
        if !needed.is_empty() {
            let message = format!("{} is the parent of {}", image.display(), needed.join(", "));
            return Err(Error::refused(needed_by(image, &children), message, advice));
        }
        let mut warnings = Vec::new();
        warnings.extend(self.refuse_unknown(image, &children)?);
        Ok((children, warnings))
    }

    /// The same for an image that was frozen: without a record of its children there may be some that nobody recorded.
    pub(crate) fn refuse_frozen(&self, image: &Path, children: &Children) -> Result<Option<String>> {
        let is_recorded = Companion::known(image)?.is_some_and(|companion| companion.frozen.is_some());
        if is_recorded || !is_marked_read_only(image)? {
            return Ok(None);
        }
        let message = format!(
            "{} is marked read-only, as images are that others grew from; nobody recorded who, and none was found in \
             {}",
            image.display(),
            children.place()
        );
        match self.allows(Override::UnknownChildren) {
            true => Ok(Some(message)),
            false => Err(Error::refused(needed_by(image, children), message, "search further")),
        }
    }

    /// Opens an image that is to be written to, alone, and finds out under its lock whether anything speaks against it.
    pub(crate) fn open_for_writing(&self, image: &Path) -> Result<OpenForWriting> {
        let opened = open_place_mut(image, Access::Write);
        let mut warnings = Vec::new();
        // Why a file is marked read-only says more than that it is.
        if is_single_file(image) && matches!(opened, Ok(_) | Err(Error::Refused(Refusal::ReadOnly { .. }, _))) {
            warnings = self.refuse_for_writing(image)?;
        }
        let (storage, identity) = opened?;
        Ok(OpenForWriting { storage, identity, warnings })
    }

    /// Opens an image whose file changes while everything that anybody reads from it stays: so a frozen parent, too,
    /// that nobody uses. Says whether it is one.
    pub(crate) fn open_to_compact(&self, image: &Path) -> Result<(OpenForWriting, bool)> {
        if !is_single_file(image) {
            return self.open_for_writing(image).map(|locked| (locked, false));
        }
        let (storage, identity) = open_place_mut(image, Access::AmendMetadata)?;
        let is_recorded = Companion::known(image)?.is_some_and(|companion| companion.frozen.is_some());
        if !is_recorded && children_of(image, &self.search)?.all().next().is_none() {
            drop(storage);
            let locked = self.open_for_writing(image)?;
            self.refuse_users(image)?;
            return Ok((locked, false));
        }
        self.refuse_protected(image)?;
        let warnings = self.refuse_users(image)?.into_iter().collect();
        Ok((OpenForWriting { storage, identity, warnings }, true))
    }

    /// Everything that speaks against writing into an image that is locked by now.
    fn refuse_for_writing(&self, image: &Path) -> Result<Vec<String>> {
        self.refuse_protected(image)?;
        self.refuse_kept_layer(image)?;
        self.refuse_throwaway(image)?;
        if let Some((found, _)) = recognise(image).ok().flatten() {
            self.refuse_saved_state(image, found.info())?;
        }
        let advice = "write to a child, or to a new one: a change here would break them all";
        let mut warnings = self.refuse_needed(image, advice)?.1;
        warnings.extend(self.refuse_writers([image])?);
        Ok(warnings)
    }
}

/// An image that is locked, and that nothing speaks against writing to.
#[derive(Clone)]
pub(crate) struct OpenForWriting {
    pub(crate) storage: Arc<dyn Storage>,
    pub(crate) identity: HostIdentity,
    /// What is to be said all the same.
    pub(crate) warnings: Vec<String>,
}

impl OpenForWriting {
    /// Refuses when another file stands at `path` by now.
    pub(crate) fn refuse_swapped(&self, path: &Path) -> Result<()> {
        let found = std::fs::metadata(path).map_err(|e| Error::io("look up", path, e))?;
        match !found.is_file() || (found.dev(), found.ino()) == self.identity {
            true => Ok(()),
            false => Err(swapped(path)),
        }
    }
}

/// The parent of an image, where it is found.
pub(crate) fn parent_beside(image: &Path) -> Option<PathBuf> {
    let (child, identity) = recognise(image).ok()??;
    let parent = direct_parent(&*child, identity, &OpenOptions::new().without_locks()).ok()??;
    Some(parent.image.path().to_owned())
}

pub(crate) fn needed_by(image: &Path, children: &Children) -> Refusal {
    Refusal::NeededByChildren {
        image: image.to_owned(),
        children: children.all().cloned().collect(),
        unknown: children.unknown.iter().map(|child| child.path.clone()).collect(),
    }
}

/// Refuses a symbolic link where the file itself is to get another name or to go.
pub(crate) fn refuse_link(path: &Path) -> Result<()> {
    match std::fs::symlink_metadata(path) {
        Ok(found) if found.is_symlink() => Err(Error::usage(
            format!("{} is a link to an image", path.display()),
            "name the image itself; the link can be moved or removed as any other file",
        )),
        _ => Ok(()),
    }
}
