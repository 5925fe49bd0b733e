//! A disk as the guest sees it: an image and all its parents.
//!
//! [`Chain`] reads; [`ChainMut`] writes to the current image, over parents that it holds as read-only types;
//! [`SharedDisk`] is one that is used by many while its chain changes. There is no call that writes to a parent through
//! its child:
//!
//! ```compile_fail
//! # fn never(chain: &mut zestful_sapling::chain::ChainMut) {
//! chain.parents()[0].write_at(b"never", 0);
//! # }
//! ```

#![cfg_attr(not(test), deny(clippy::as_conversions, clippy::arithmetic_side_effects))]

mod cache;
mod compare;
mod disk;
mod extents;
mod gate;
mod locate;
mod open;
mod options;
mod resolve;
mod scratch;
mod shared;
mod shown;
mod standstill;
mod stream;
mod walk;
mod write;

pub(crate) use compare::{Comparison, DiskSide};
pub use disk::{Disk, DiskExtent, DiskStatus};
pub(crate) use extents::{DataExtent, Part, data_len, for_each_data_extent, for_each_part, split_by_holes};
pub(crate) use locate::{candidates, identity_of, record_of, records_absolute};
pub use open::Chain;
pub use options::{MAX_DEPTH, OpenOptions};
pub(crate) use resolve::{Ascent, direct_parent, judge_pair, open_parents};
pub use shared::SharedDisk;
pub(crate) use shown::{ShownLosses, read_from_parent};
pub(crate) use standstill::{Standstill, too_long};
pub use stream::{DiskStream, DiskWindow};
pub(crate) use walk::{Origin, Walk};
pub use write::ChainMut;
pub(crate) use write::NextLayer;
