//! What `zsap resize` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;
use zestful_sapling::ops::{NewSize, PartitionToExtend};

use super::disk::CurrentDisk;
use super::overrides::overrides;
use super::values::{SpaceName, size};

#[derive(Clone, Debug, Args)]
pub(crate) struct Resize {
    /// The size that the disk is to have
    #[arg(long, value_name = "SIZE", value_parser = size, conflicts_with = "by")]
    pub(crate) to: Option<u64>,
    /// How much it is to grow (+20G) or to shrink (-20G)
    #[arg(long, value_name = "+SIZE|-SIZE", value_parser = difference, allow_hyphen_values = true)]
    pub(crate) by: Option<NewSize>,
    /// How a fixed disk takes the space that it grows by [default: reserved]
    #[arg(long, value_enum)]
    pub(crate) space: Option<SpaceName>,
    /// Have the last partition, or this one, take the free space behind it; without a size the disk keeps its own
    #[arg(long, value_name = "N", num_args = 0..=1, require_equals = true, default_missing_value = "last",
        value_parser = partition)]
    pub(crate) extend_partition: Option<PartitionToExtend>,
    /// Have the file system follow as well, of that partition, or of the last one (ext2, ext3, ext4): done by this
    /// host's e2fsck and resize2fs on a view of the disk, and written into the disk only when they are content
    #[arg(long, conflicts_with = "shrink_partition")]
    pub(crate) extend_volume: bool,
    /// The folder for what is thrown away with that view [default: that of the image]
    #[arg(long, value_name = "FOLDER", requires = "extend_volume")]
    pub(crate) scratch: Option<PathBuf>,
    /// Have this partition end before the new, smaller end; what it holds must be smaller already
    #[arg(long, value_name = "N", conflicts_with = "extend_partition")]
    pub(crate) shrink_partition: Option<u32>,
    #[command(flatten)]
    pub(crate) on: CurrentDisk,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&[
            "cut-partition", "discard-data", "ending", "unknown-children", "in-use", "hard-links", "saved-state",
        ])
    )]
    pub(crate) force: Vec<Override>,
}

impl Resize {
    /// The size that is asked for, if one is.
    pub(crate) fn size(&self) -> Option<NewSize> {
        self.to.map(NewSize::To).or(self.by)
    }
}

/// More or less, as it is typed.
fn difference(text: &str) -> Result<NewSize, String> {
    let (new, rest): (fn(u64) -> NewSize, &str) = match text.split_at_checked(1) {
        Some(("+", rest)) => (NewSize::More, rest),
        Some(("-", rest)) => (NewSize::Less, rest),
        _ => return Err("begin with + to grow or - to shrink; --to takes the size itself".to_owned()),
    };
    size(rest).map(new)
}

fn partition(text: &str) -> Result<PartitionToExtend, String> {
    match text.parse() {
        _ if text == "last" => Ok(PartitionToExtend::Last),
        Ok(number @ 1..) => Ok(PartitionToExtend::Number(number)),
        _ => Err("partitions are counted from 1, as hosts do".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_and_less_are_read_as_they_are_typed() {
        let table = [
            ("+20G", Ok(NewSize::More(20 << 30))),
            ("-512", Ok(NewSize::Less(512))),
            ("20G", Err(())),
            ("+", Err(())),
            ("", Err(())),
            ("+-1G", Err(())),
        ];
        for (text, expected) in table {
            assert_eq!(difference(text).map_err(|_| ()), expected, "{text}");
        }
        assert_eq!(partition("3"), Ok(PartitionToExtend::Number(3)));
        assert!(partition("0").is_err() && partition("fen").is_err());
    }
}
