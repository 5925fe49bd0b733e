//! What lies inside a disk: partition tables, volumes, and the files that they hold.

mod begun;
mod contained;
mod content;
mod ext;
mod fat;
mod files;
mod gpt;
mod impact;
mod mbr;
mod mft;
mod new_table;
mod partition;
mod partitions;
mod row;
mod table;
mod trouble;
mod view;
mod volume;
mod window;

pub(crate) use begun::{MARK_LEN, MARK_PLACE, mark};
pub use contained::catches_panics;
pub(crate) use contained::contained;
pub use content::{Content, FileSystem};
pub(crate) use files::FileComparison;
pub use files::{Certainty, DeletedFile};
pub use files::{ChangedBy, ComparedFiles, FileChange, TakeChange};
pub use files::{Entry, EntryKind, FileTree, Found, InnerPath, LeftOut, TakePart, Walked, Wanted};
pub(crate) use impact::TornDisk;
pub use impact::{Hit, HitKind, HitSum, Impact, free_space, impact};
pub(crate) use new_table::{LIST_ROOM, MOST_PRIMARY, NewKind, NewPartition, new_table, room};
pub use partition::{Partition, PartitionKind, PartitionProblem, Partitions};
pub use partitions::partitions;
pub use table::{PartitionTable, partition_table};
pub(crate) use volume::volumes_uncounted;
pub use volume::{Volume, Volumes, volumes};
