//! What lies inside a disk, as far as this library must know it: partition tables.

mod gpt;
mod mbr;
mod partition;
mod partitions;
mod table;

pub use partition::{Partition, PartitionKind, PartitionProblem, Partitions};
pub use partitions::partitions;
pub use table::{PartitionTable, partition_table};
