//! The images of a folder, one by one.

use super::facts::{Report, look};
use super::folder::{Listing, is_gone};
use super::health::Problem;
use super::pinned::PinDoubts;
use super::totals::Totals;
use super::tree::Family;
use crate::error::Result;

/// The images of a folder, one by one.
#[derive(Debug, Default)]
#[non_exhaustive]
pub struct FolderReport {
    /// What is known of each, sorted by path.
    pub images: Vec<Report>,
    /// Those that cannot be read.
    pub problems: Vec<Problem>,
    /// The images added up, as [`Family::totals`] has them.
    pub totals: Totals,
}

/// Looks at the images of a folder, one by one, as [`inspect`] does.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub(crate) fn inspect_listing(listing: Listing) -> Result<FolderReport> {
    let (mut found, mut doubts) = (FolderReport::default(), PinDoubts::default());
    for path in &listing.images {
        match look(path, None, &mut doubts) {
            Ok(report) => found.images.push(report),
            Err(_) if is_gone(path) => {}
            Err(error) => found.problems.push(Problem::of_error(path, &error)),
        }
    }
    found.problems.extend(listing.problems.iter().cloned());
    found.totals = Family::of_listing(listing, &[])?.totals;
    Ok(found)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test ends where it fails")]

    use super::super::folder::Folder;
    use super::*;
    use crate::ops::{Make, Operation, Planned};
    use crate::progress::Progress;

    /// What others take away while a folder is looked at is not broken: a monitor would wake somebody for it.
    #[test]
    fn what_goes_meanwhile_is_not_broken() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("below")).unwrap();
        for name in ["fen-base.vhdx", "records.raw", "below/ledger.vhd"] {
            Make::new(folder.path().join(name), 4 << 20).plan().unwrap().run(&Progress::new()).unwrap();
        }
        let list = || Folder::from(folder.path()).with_folders_below(true).list().unwrap();
        let (tree, each) = (list(), list());
        std::fs::remove_file(folder.path().join("records.raw")).unwrap();
        std::fs::remove_dir_all(folder.path().join("below")).unwrap();
        let family = Family::of_listing(tree, &[]).unwrap();
        assert_eq!((family.problems, family.totals.images), (Vec::new(), 1));
        let report = inspect_listing(each).unwrap();
        assert_eq!((report.problems, report.images.len(), report.totals.images), (Vec::new(), 1, 1));
    }
}
