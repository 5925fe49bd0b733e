//! What disks were promised, what they take and what they can still take, added up in one way everywhere.

use serde::Serialize;

use super::family::{Node, Role};

/// Sums over images that belong together, or stand in one folder. Sizes are in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Totals {
    /// All images.
    pub images: usize,
    /// What guests were promised: the sizes that they see of the disks that they write to.
    pub promised: u64,
    /// What all images, and disks in pieces, take on the host now.
    pub allocated: u64,
    /// The most that the disks that guests write to can still take.
    pub most_growth: u64,
}

impl Totals {
    pub(super) fn of(roots: &[Node]) -> Self {
        let mut totals = Self::default();
        let mut waiting: Vec<&Node> = roots.iter().collect();
        while let Some(node) = waiting.pop() {
            totals.images += 1;
            totals.allocated = totals.allocated.saturating_add(node.allocated_size);
            totals.most_growth = totals.most_growth.saturating_add(node.most_growth);
            // One that was frozen and has no child in sight is no disk that a guest writes to.
            if node.role == Role::Current && !node.read_only {
                totals.promised = totals.promised.saturating_add(node.virtual_size);
            }
            waiting.extend(&node.children);
        }
        totals
    }
}
