//! What `serve` and `expose` have in common: their arguments.

use std::path::PathBuf;

use clap::Args as ArgGroup;
use zestful_sapling_attach::Mode;

use super::options::SearchOption;
use super::values::FormatName;

/// How others may use a disk.
#[derive(Debug, ArgGroup)]
pub(crate) struct Attaching {
    /// What is written to the disk stays
    #[arg(long, conflicts_with = "throwaway")]
    pub(crate) writable: bool,
    /// The disk may be written to, and all of that is forgotten at the end
    #[arg(long)]
    pub(crate) throwaway: bool,
    /// Where what is to be forgotten is kept meanwhile
    #[arg(long, value_name = "FOLDER", default_value = "/var/tmp", requires = "throwaway")]
    pub(crate) scratch: PathBuf,
    /// Return as soon as the disk is there; its process goes on
    #[arg(long)]
    pub(crate) background: bool,
    /// The format, whatever the signature says; one that the ending contradicts needs --force=ending
    #[arg(long, value_enum)]
    pub(crate) format: Option<FormatName>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// The process of `--background`: it says what it has to say first, and nothing more
    #[arg(long, hide = true)]
    pub(crate) detached: bool,
}

impl Attaching {
    pub(crate) fn mode(&self) -> Mode {
        match (self.writable, self.throwaway) {
            (true, _) => Mode::Writable,
            (_, true) => Mode::Throwaway,
            _ => Mode::ReadOnly,
        }
    }

    /// How, in words.
    pub(crate) fn words(&self) -> String {
        match self.mode() {
            Mode::Writable => "for reading and writing".to_owned(),
            Mode::Throwaway => format!(
                "for reading and writing, and forget what is written; it is kept in {} meanwhile",
                self.scratch.display()
            ),
            Mode::ReadOnly => "for reading".to_owned(),
        }
    }
}
