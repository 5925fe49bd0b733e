//! What disks were promised, what they take and what they can still take, added up in one way everywhere.

use std::collections::HashSet;

use schemars::JsonSchema;
use serde::Serialize;

use super::facts::Report;
use super::place::PlaceReport;
use crate::storage::real;

/// Sums over images that belong together, or stand in one folder. Sizes are in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Totals {
    /// All images, those that cannot be read as well.
    pub images: usize,
    /// Those of them that cannot be read; only what they take on the host is known.
    pub unreadable: usize,
    /// What guests were promised: the sizes that they see of the disks that they write to.
    pub promised: u64,
    /// What all images take on the host now.
    pub allocated: u64,
    /// The most that the disks that guests write to can still take.
    pub most_growth: u64,
}

impl Totals {
    /// The same over images that were looked at one by one; whoever is the parent of another is not written to.
    pub fn of_reports(reports: &[Report]) -> Self {
        let parents = reports.iter().filter_map(|report| report.parent.as_ref()?.found_path.as_deref());
        let parents: HashSet<_> = parents.filter_map(|path| real(path).ok()).collect();
        let mut totals = Self::default();
        for report in reports {
            let is_parent = !parents.is_empty() && real(&report.path).is_ok_and(|path| parents.contains(&path));
            let is_written = report.place != PlaceReport::Pieces && !report.read_only && !is_parent;
            totals.add(report.allocated_size, is_written.then_some((report.virtual_size, report.most_growth)));
        }
        totals
    }

    /// One image more that cannot be read, and what it takes on the host.
    pub(super) fn add_unreadable(&mut self, allocated: u64) {
        self.unreadable += 1;
        self.add(allocated, None);
    }

    /// These and others, of images that are not the same.
    pub fn join(&mut self, other: &Self) {
        self.images += other.images;
        self.unreadable += other.unreadable;
        self.allocated = self.allocated.saturating_add(other.allocated);
        self.promised = self.promised.saturating_add(other.promised);
        self.most_growth = self.most_growth.saturating_add(other.most_growth);
    }

    /// One image more; of one that is written to, the size that its guest was promised, and how far it can grow.
    pub(super) fn add(&mut self, allocated: u64, written: Option<(u64, u64)>) {
        let (promised, most_growth) = written.unwrap_or_default();
        self.images += 1;
        self.allocated = self.allocated.saturating_add(allocated);
        self.promised = self.promised.saturating_add(promised);
        self.most_growth = self.most_growth.saturating_add(most_growth);
    }
}
