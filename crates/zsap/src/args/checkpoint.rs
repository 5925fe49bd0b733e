//! What `zsap checkpoint` is given.

use std::path::PathBuf;
use std::time::Duration;

use clap::{ArgGroup, Args, Subcommand};
use jiff::SignedDuration;
use zestful_sapling::family::Override;

use super::options::WorkOptions;
use super::overrides::overrides;
use super::values::span;

#[derive(Debug, Subcommand)]
pub(crate) enum Checkpoint {
    /// Keep what all tracked disks of a machine hold now, under a name
    Take(Take),
    /// The tree of checkpoints, and what each holds
    List(List),
    /// Go back: the tracked disks become equal to a checkpoint
    Revert(Revert),
    /// Forget checkpoints; what is still needed of them is merged
    Forget(Forget),
    /// Give a checkpoint another name
    Rename(Rename),
    /// Change a checkpoint's note, or protect it
    Note(Note),
}

/// What may be forced on disks that are frozen or let go of.
const SWITCH: &[&str] = &["unknown-children", "in-use", "hard-links", "saved-state", "attributes", "other-host"];

#[derive(Clone, Debug, Args)]
pub(crate) struct Take {
    /// The machine's folder
    pub(crate) grove: PathBuf,
    /// What the checkpoint is called
    pub(crate) name: String,
    /// What it is for
    #[arg(long, default_value = "")]
    pub(crate) note: String,
    /// Run this before: it has the guest let go of its disks, or, where they are served, come to rest. A program and
    /// its arguments, split as a shell would, and run without one; ZSAP_GROVE and ZSAP_CHECKPOINT tell it where it is
    #[arg(long, value_name = "COMMAND", value_parser = words)]
    pub(crate) before: Option<Words>,
    /// Run this at the end, whatever became of it; ZSAP_TAKEN tells (yes or no)
    #[arg(long, value_name = "COMMAND", value_parser = words)]
    pub(crate) after: Option<Words>,
    /// How long each of these commands may take, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    pub(crate) hook_timeout: u64,
    /// For how long requests may wait where this machine's disks are served: a number of seconds, such as 0.5
    #[arg(long, value_name = "SECONDS", default_value = "5", value_parser = seconds)]
    pub(crate) pause_at_most: Duration,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',', value_parser = overrides(SWITCH)
    )]
    pub(crate) force: Vec<Override>,
}

/// A program and its arguments.
#[derive(Clone, Debug)]
pub(crate) struct Words(pub(crate) Vec<String>);

fn words(typed: &str) -> Result<Words, String> {
    match shlex::split(typed) {
        None => Err("a quotation mark is never closed, or it ends in a backslash".to_owned()),
        Some(words) if words.is_empty() => Err("it names no program".to_owned()),
        Some(words) => Ok(Words(words)),
    }
}

fn seconds(typed: &str) -> Result<Duration, String> {
    let seconds = typed.parse::<f64>().map_err(|_| "it is no number of seconds".to_owned())?;
    match Duration::try_from_secs_f64(seconds) {
        Ok(duration) if duration <= Duration::from_secs(3600) => Ok(duration),
        _ => Err("from 0 to 3600".to_owned()),
    }
}

#[derive(Clone, Debug, Args)]
pub(crate) struct List {
    /// The machine's folder
    #[arg(default_value = ".")]
    pub(crate) grove: PathBuf,
}

#[derive(Clone, Debug, Args)]
#[command(group(ArgGroup::new("present").required(true).args(["keep_as", "discard"])))]
pub(crate) struct Revert {
    /// The machine's folder
    pub(crate) grove: PathBuf,
    /// The checkpoint to go back to
    pub(crate) name: String,
    /// Keep the present as a checkpoint of this name
    #[arg(long, value_name = "NAME")]
    pub(crate) keep_as: Option<String>,
    /// Throw the present away: all that was written since the last checkpoint
    #[arg(long)]
    pub(crate) discard: bool,
    /// With --keep-as: what that checkpoint is for
    #[arg(long, requires = "keep_as", default_value = "")]
    pub(crate) note: String,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',', value_parser = overrides(SWITCH)
    )]
    pub(crate) force: Vec<Override>,
}

#[derive(Clone, Debug, Args)]
#[command(group(ArgGroup::new("which").required(true).args(["name", "keep", "older_than"])))]
pub(crate) struct Forget {
    /// The machine's folder
    pub(crate) grove: PathBuf,
    /// The checkpoint
    pub(crate) name: Option<String>,
    /// And all that go on from it, but for those that the present goes on from
    #[arg(long, requires = "name")]
    pub(crate) with_descendants: bool,
    /// All but the youngest so many; protected ones stay
    #[arg(long, value_name = "N")]
    pub(crate) keep: Option<usize>,
    /// All that are older, such as 14d, 12h or 2w; protected ones stay
    #[arg(long, value_name = "AGE", value_parser = span)]
    pub(crate) older_than: Option<SignedDuration>,
    #[command(flatten)]
    pub(crate) options: WorkOptions,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Rename {
    /// The machine's folder
    pub(crate) grove: PathBuf,
    /// The checkpoint
    pub(crate) old: String,
    /// The name that it gets
    pub(crate) new: String,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct Note {
    /// The machine's folder
    pub(crate) grove: PathBuf,
    /// The checkpoint
    pub(crate) name: String,
    /// The note; an empty one takes it away
    pub(crate) text: Option<String>,
    /// Leave it alone when old checkpoints are forgotten
    #[arg(long)]
    pub(crate) protect: bool,
    /// No longer leave it alone
    #[arg(long, conflicts_with = "protect")]
    pub(crate) unprotect: bool,
}
