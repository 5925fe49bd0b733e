//! What can be typed: a file a command, beside the options that several share.

pub(crate) mod abandon;
pub(crate) mod attach;
pub(crate) mod attachments;
pub(crate) mod bytes;
pub(crate) mod check;
pub(crate) mod checkpoint;
pub(crate) mod children;
pub(crate) mod compact;
pub(crate) mod completions;
pub(crate) mod copy;
pub(crate) mod demo;
pub(crate) mod derive;
pub(crate) mod detach;
pub(crate) mod diff;
pub(crate) mod disk;
mod examples;
pub(crate) mod expose;
pub(crate) mod files;
mod groups;
pub(crate) mod grove;
pub(crate) mod help;
pub(crate) mod identity;
pub(crate) mod make;
pub(crate) mod manual;
pub(crate) mod merge;
pub(crate) mod move_image;
pub(crate) mod options;
pub(crate) mod overrides;
pub(crate) mod pin;
pub(crate) mod prepare;
pub(crate) mod relink;
pub(crate) mod remove;
pub(crate) mod repair;
pub(crate) mod resize;
pub(crate) mod resume;
pub(crate) mod salvage;
pub(crate) mod serve;
pub(crate) mod show;
pub(crate) mod status;
pub(crate) mod transplant;
pub(crate) mod tree;
pub(crate) mod two_disks;
pub(crate) mod unfreeze;
pub(crate) mod unpin;
pub(crate) mod values;

use std::path::PathBuf;

use clap::{Args as ArgGroup, Parser, Subcommand, ValueEnum};
use serde::Deserialize;

use values::rate;

/// Make, derive, inspect, copy and check virtual disks and their chains.
///
/// Sizes: K M G T and KiB MiB GiB TiB are powers of 1024, kB MB GB TB powers of 1000, in capitals or not; plain digits
/// are bytes.
/// Exit status: 0 done, 1 failed, 2 wrong usage, 3 something is broken, 4 refused for safety, 5 something wants a look.
#[derive(Debug, Parser)]
#[command(name = "zsap", version, max_term_width = 100)]
pub(crate) struct Args {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) common: Common,
}

/// Options that every command knows.
#[derive(Clone, Debug, ArgGroup)]
#[command(next_help_heading = "Common options")]
pub(crate) struct Common {
    /// One JSON document: the answer on standard output, or the error on standard error
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Show what would be done, change nothing
    #[arg(long, global = true)]
    pub(crate) plan: bool,
    /// With --json: how far long work is, as lines of JSON on standard error, two a second
    #[arg(long, global = true, hide_short_help = true)]
    pub(crate) progress: bool,
    /// Sizes in plain bytes
    #[arg(long, global = true, hide_short_help = true)]
    pub(crate) bytes: bool,
    /// Only warnings and errors
    #[arg(short, long, global = true, hide_short_help = true)]
    pub(crate) quiet: bool,
    /// More: notes of `check`, every recorded path
    #[arg(short, long, global = true, hide_short_help = true)]
    pub(crate) verbose: bool,
    /// Ask nothing: what a question would ask is meant so
    #[arg(short, long, global = true, hide_short_help = true)]
    pub(crate) yes: bool,
    /// Wait so long for an image that another process holds
    #[arg(long, global = true, value_name = "SECONDS", default_value_t = 0, hide_short_help = true)]
    pub(crate) wait: u64,
    /// Hold bulk work to so much a second, such as 50M
    #[arg(long, global = true, value_name = "SIZE", value_parser = rate, hide_short_help = true)]
    pub(crate) rate_limit: Option<u64>,
    /// Append every message, with its time, to a file
    #[arg(long, global = true, value_name = "FILE", hide_short_help = true)]
    pub(crate) log_file: Option<PathBuf>,
    /// Colour in the output [default: auto]
    #[arg(long, global = true, value_name = "WHEN", hide_short_help = true)]
    pub(crate) color: Option<Color>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ValueEnum)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a new disk, empty or filled from another image
    Make(make::Make),
    /// Grow one or more differencing disks from a base image
    Derive(derive::Derive),
    /// Tell all about an image; for a folder one line an image
    Show(show::Show),
    /// Show the chain of an image, or all families in a folder
    Tree(tree::Tree),
    /// Copy a disk with its whole chain into one image or onto a device
    Copy(copy::Copy),
    /// Find a moved or renamed parent again, by its identity
    Relink(relink::Relink),
    /// Put a child onto another base, its content unchanged
    Transplant(transplant::Transplant),
    /// Merge a child with its parent, or with all down to an ancestor
    Merge(merge::Merge),
    /// The first look: what is whole, unfinished, in use; what fits
    Status(status::Status),
    /// Carry on what was begun and cut short
    Resume(resume::Resume),
    /// Give up what was cut short, where that is still possible
    Abandon(abandon::Abandon),
    /// Mark a base as never to change, and keep its digests
    Pin(pin::Pin),
    /// Take a pin away
    Unpin(unpin::Unpin),
    /// Free a former current disk from which nothing grows any more
    Unfreeze(unfreeze::Unfreeze),
    /// Where two disks, or two layers of one chain, differ
    Diff(diff::Diff),
    /// Give a blank disk a partition table, volumes and file systems
    Prepare(prepare::Prepare),
    /// Give a disk another size, and have its partition follow
    Resize(resize::Resize),
    /// Give back what an image does not need; put its blocks in order
    Compact(compact::Compact),
    /// Look at the files inside a disk or checkpoint; take them out
    #[command(subcommand)]
    Files(files::Files),
    /// Who depends on an image
    Children(children::Children),
    /// Move or rename an image and tell its children
    Move(move_image::Move),
    /// Delete an image that nothing needs
    Remove(remove::Remove),
    /// Give an image that was copied by hand an identity of its own
    Identity(identity::Identity),
    /// Verify images and all that they read through
    Check(check::Check),
    /// Mend a damaged image: a plan, a question, and a way back
    Repair(repair::Repair),
    /// Save all that can be read of a damaged image or a broken chain
    Salvage(salvage::Salvage),
    /// A machine's folder: its disks and their roles
    #[command(subcommand)]
    Grove(grove::Grove),
    /// A machine's checkpoints: take one, go back, forget
    #[command(subcommand)]
    Checkpoint(checkpoint::Checkpoint),
    /// Serve a disk to hypervisors and clients over a socket
    Serve(serve::Serve),
    /// Show a disk and its partitions as files of this host
    Expose(expose::Expose),
    /// What is served or exposed on this host now
    Attachments(attachments::Attachments),
    /// End what is served or exposed, cleanly
    Detach(detach::Detach),
    /// Read or write guest bytes, for scripts
    #[command(subcommand)]
    Bytes(bytes::Bytes),
    /// Build a sample world of made-up disks and walk through it
    Demo(demo::Demo),
    /// What the words mean that are used here
    Words,
    /// What is set once for all commands, and where
    Settings,
    /// What a shell loads to complete what is typed
    Completions(completions::Completions),
    /// Write the manual's pages, one a command
    Manual(manual::Manual),
}
