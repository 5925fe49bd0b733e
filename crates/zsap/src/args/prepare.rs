//! What `zsap prepare` is given.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use zestful_sapling::family::Override;
use zestful_sapling::guest::PartitionTable;
use zestful_sapling::ops::{NewFileSystem, NewVolume, VolumeSize};

use super::disk::CurrentDisk;
use super::overrides::overrides;
use super::values::size;

#[derive(Clone, Debug, Args)]
pub(crate) struct Prepare {
    /// The partition table
    #[arg(long, value_enum, default_value = "gpt")]
    pub(crate) table: TableName,
    /// A volume: its size (100M, 25%, or rest), and what it gets. fs=fat, ext4, ntfs, xfs, btrfs or none (the default);
    /// label=TEXT; fill=FOLDER, last, puts the files of a folder in (fat, ext4). May be given several times
    #[arg(long = "volume", value_name = "SIZE[,fs=..][,label=..][,fill=..]", value_parser = volume)]
    pub(crate) volumes: Vec<NewVolume>,
    /// Zero every byte of the volumes, so that nothing old can show through
    #[arg(long)]
    pub(crate) wipe: bool,
    /// The folder for scratch files [default: that of the image]
    #[arg(long, value_name = "FOLDER")]
    pub(crate) scratch: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) on: CurrentDisk,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["not-blank", "ending", "unknown-children", "in-use", "hard-links", "saved-state"])
    )]
    pub(crate) force: Vec<Override>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum TableName {
    Gpt,
    Mbr,
}

impl From<TableName> for PartitionTable {
    fn from(name: TableName) -> Self {
        match name {
            TableName::Gpt => PartitionTable::Gpt,
            TableName::Mbr => PartitionTable::Mbr,
        }
    }
}

/// A volume as it is typed.
fn volume(text: &str) -> Result<NewVolume, String> {
    let (before, fill) = match text.split_once(",fill=") {
        Some((before, fill)) => (before, Some(PathBuf::from(fill))),
        None => (text, None),
    };
    let mut words = before.split(',');
    let size = volume_size(words.next().unwrap_or_default())?;
    let (mut file_system, mut label) = (NewFileSystem::None, String::new());
    for word in words {
        match word.split_once('=') {
            Some(("fs", name)) => file_system = file_system_of(name)?,
            Some(("label", text)) => text.clone_into(&mut label),
            _ => return Err(format!("{word:?} is neither fs=, label= nor fill=")),
        }
    }
    let volume = NewVolume::new(size, file_system).with_label(label);
    Ok(fill.into_iter().fold(volume, NewVolume::with_fill))
}

fn volume_size(text: &str) -> Result<VolumeSize, String> {
    if text == "rest" {
        return Ok(VolumeSize::Rest);
    }
    match text.strip_suffix('%') {
        Some(number) => match number.parse() {
            Ok(percent @ 1..=100) => Ok(VolumeSize::Percent(percent)),
            _ => Err("a share is a whole number from 1% to 100%".to_owned()),
        },
        None => size(text).map(VolumeSize::Bytes),
    }
}

fn file_system_of(name: &str) -> Result<NewFileSystem, String> {
    match name {
        "fat" => Ok(NewFileSystem::Fat),
        "ext4" => Ok(NewFileSystem::Ext4),
        "ntfs" => Ok(NewFileSystem::Ntfs),
        "xfs" => Ok(NewFileSystem::Xfs),
        "btrfs" => Ok(NewFileSystem::Btrfs),
        "none" => Ok(NewFileSystem::None),
        _ => Err(format!("{name:?} is none of fat, ext4, ntfs, xfs, btrfs, none")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn volumes_are_read_as_they_are_typed() {
        let new = NewVolume::new;
        let table = [
            ("100M", Ok(new(VolumeSize::Bytes(100 << 20), NewFileSystem::None))),
            ("rest,fs=ext4", Ok(new(VolumeSize::Rest, NewFileSystem::Ext4))),
            (
                "25%,label=seed bank,fs=fat",
                Ok(new(VolumeSize::Percent(25), NewFileSystem::Fat).with_label("seed bank")),
            ),
            (
                "1G,fs=ext4,fill=/srv/a,b,fs=c",
                Ok(new(VolumeSize::Bytes(1 << 30), NewFileSystem::Ext4).with_fill("/srv/a,b,fs=c")),
            ),
            ("0%", Err(())),
            ("101%", Err(())),
            ("", Err(())),
            ("10M,fs=fen", Err(())),
            ("10M,size=3", Err(())),
        ];
        for (text, expected) in table {
            assert_eq!(volume(text).map_err(|_| ()), expected, "{text}");
        }
    }
}
