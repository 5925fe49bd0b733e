//! What `zsap grove` is given.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use zestful_sapling::family::Override;
use zestful_sapling::grove::Role;

use super::options::LettingGoOptions;
use super::overrides::overrides;
use super::values::{FormatName, IdentityName};

#[derive(Debug, Subcommand)]
pub(crate) enum Grove {
    /// Make a folder the grove of a machine: its disks and its checkpoints
    New(New),
    /// Make an image a disk of the machine
    Add(Add),
    /// Let a disk go; its image and the checkpoints that hold it stay
    Release(Release),
    /// The machine's disks
    List(List),
    /// Make the catalogue anew from the files alone
    Rebuild(Rebuild),
    /// Copy the whole machine, all disks of one moment, into a new folder
    Copy(Copy),
    /// Remove the machine with all its checkpoints
    Remove(Remove),
}

#[derive(Clone, Debug, Args)]
pub(crate) struct New {
    /// The folder; it is made if it is not there
    pub(crate) folder: PathBuf,
    /// What the machine is called
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: String,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Add {
    /// The machine's folder
    pub(crate) folder: PathBuf,
    /// The image that the guest writes to, in that folder
    pub(crate) image: PathBuf,
    /// What the disk is called [default: the file's name without its ending]
    #[arg(long)]
    pub(crate) label: Option<String>,
    /// What becomes of it
    #[arg(long, value_enum, default_value = "tracked")]
    pub(crate) role: RoleName,
    /// Move the image into the folder first, if it lies elsewhere
    #[arg(long = "move")]
    pub(crate) moved: bool,
    /// The format, whatever the signature says
    #[arg(long, value_enum)]
    pub(crate) format: Option<FormatName>,
    #[command(flatten)]
    pub(crate) options: LettingGoOptions,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum RoleName {
    /// In every checkpoint: what belongs together goes back together
    Tracked,
    /// In no checkpoint, and left as it is when the machine goes back: data that must not be lost with a revert
    Apart,
    /// In no checkpoint, and its file is never written to by zsap: it is attached with --throwaway only, and forgets
    /// its changes then; a guest that opens the file itself does change it
    Throwaway,
}

impl From<RoleName> for Role {
    fn from(name: RoleName) -> Self {
        match name {
            RoleName::Tracked => Role::Tracked,
            RoleName::Apart => Role::Apart,
            RoleName::Throwaway => Role::Throwaway,
        }
    }
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Release {
    /// The machine's folder
    pub(crate) folder: PathBuf,
    /// The disk's label
    pub(crate) disk: String,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct List {
    /// The machine's folder
    #[arg(default_value = ".")]
    pub(crate) folder: PathBuf,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Rebuild {
    /// The machine's folder
    pub(crate) folder: PathBuf,
    /// What the machine is called, where no file tells
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: Option<String>,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Copy {
    /// The machine's folder
    pub(crate) folder: PathBuf,
    /// The new folder
    pub(crate) target: PathBuf,
    /// The disks as they were at this checkpoint; with --flat
    #[arg(long, value_name = "NAME", requires = "flat")]
    pub(crate) checkpoint: Option<String>,
    /// Each disk as one image, whatever it reads through, and without history
    #[arg(long)]
    pub(crate) flat: bool,
    /// Whether the copies have identities of their own
    #[arg(long, value_enum, default_value = "fresh")]
    pub(crate) identity: IdentityName,
    /// What the copy is called [default: the new folder's name]
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: Option<String>,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',', value_parser = overrides(&["in-use"])
    )]
    pub(crate) force: Vec<Override>,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Remove {
    /// The machine's folder
    pub(crate) folder: PathBuf,
    #[command(flatten)]
    pub(crate) options: LettingGoOptions,
}
