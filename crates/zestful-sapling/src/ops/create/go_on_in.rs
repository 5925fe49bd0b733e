//! The current image of a disk in use is frozen, and a child of it takes its place.

use std::path::Path;
use std::sync::Arc;

use super::blank::BlankChild;
use crate::chain::{SharedDisk, identity_of, record_of};
use crate::error::{Error, Result};
use crate::family::{Guard, record_children};
use crate::image::{Image, ImageMut, format_of_name, is_single_file, open_image_mut};
use crate::sidecar::{ChildrenChange, Companion, refuse_under_way};
use crate::storage::{FileStorage, StagedFile, mark_read_only, remove, swapped, unmark_read_only};

impl SharedDisk {
    /// Freezes the current image, between two requests and after a flush, and goes on in a new differencing image at
    /// `child`, which is grown from it. Reads and writes that come meanwhile wait; what takes time, the flush, is done
    /// before they do. Both files stay locked: the child against everybody, the frozen image against writers, so that
    /// others may read and copy it from then on.
    ///
    /// The child is recorded in the companion of the frozen image, durably, before it appears, as
    /// [`Derive`](super::Derive) does it, and the frozen image is marked read-only. After a crash the disk is whole in
    /// one of the two: the child, if it is there, or the image that was current.
    ///
    /// # Errors
    /// `Usage` when the image is raw, which has no identity, stands on a device, or the child's name does not fit its
    /// format; `Refused` when something stands at `child`, another program has the image open for writing, it has a
    /// second name or another file stands in its place, or the child cannot be recorded; `Io`. The disk then goes on
    /// in the image that it had. Only when the lock of the frozen image is lost to somebody who keeps it is the change
    /// done and an error returned all the same.
    pub fn go_on_in(&self, child: &Path, guard: &Guard) -> Result<()> {
        self.grow_child(|frozen| grow(frozen, child, guard))
    }
}

fn grow(frozen: &dyn Image, child: &Path, guard: &Guard) -> Result<Box<dyn ImageMut>> {
    let (info, base) = (frozen.info(), frozen.path());
    identity_of(base, info)?;
    if format_of_name(child) != Some(info.format) || !is_single_file(base) {
        return Err(Error::usage(
            format!("{} cannot take the place of {}", child.display(), base.display()),
            format!("a child of a {0} image is a file that ends in .{0}", info.format),
        ));
    }
    refuse_under_way(base)?;
    guard.refuse_hard_links(base)?;
    // Another program would go on writing into what is frozen.
    guard.refuse_writers([base])?;
    if !frozen.storage().stands_at(base)? {
        return Err(swapped(base));
    }
    let blank = BlankChild::new(info.format, info, record_of(child, base, info, false)?, None)?;
    let staged = StagedFile::create(child)?;
    blank.create_in(&*staged.storage())?;
    let new = [(child.to_owned(), Some(staged.file_id()?))];
    let change = ChildrenChange { new: &new, freezes: true, ..ChildrenChange::default() };
    record_children(base, &change, guard)?;
    let published = mark_read_only(base).and_then(|()| staged.publish_open());
    let open =
        |storage: Arc<FileStorage>| open_image_mut(storage, Some(info.format)).inspect_err(|_| _ = remove(child));
    published.and_then(open).inspect_err(|_| {
        // An error here is left out: the one that ended the work is told.
        if !child.exists() {
            let gone = [child.to_owned()];
            let change = ChildrenChange { gone: &gone, thaws: true, ..ChildrenChange::default() };
            _ = Companion::change_children(base, &change);
            _ = unmark_read_only(base);
        }
    })
}
