//! The images of a folder, one by one.

use super::facts::{Report, look};
use super::folder::Listing;
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
            Err(error) => found.problems.push(Problem::of_error(path, &error)),
        }
    }
    found.problems.extend(listing.problems.iter().cloned());
    found.totals = Family::of_listing(listing, &[])?.totals;
    Ok(found)
}
