//! One file a command: arguments in, a library call, its answer in words.

mod abandon;
mod attach;
mod attachments;
mod bytes;
mod check;
mod checkpoint;
mod children;
mod compact;
mod completions;
mod copy;
mod copy_stream;
mod demo;
mod derive;
mod detach;
mod diff;
mod expose;
mod files;
mod files_deleted;
mod files_diff;
mod grove;
mod identity;
mod make;
mod manual;
mod merge;
mod move_image;
mod pin;
mod prepare;
mod relink;
mod remove;
mod repair;
mod resize;
mod resume;
mod run;
mod salvage;
mod serve;
mod settings;
mod several;
mod show;
mod status;
mod transplant;
mod tree;
mod unfreeze;
mod unpin;
mod words;

use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::family::{PlaceReport, Report};

use crate::args::{Args, Command};
use crate::console::Console;
use crate::exit::{Failure, Outcome};

pub(crate) fn run(args: &Args, console: &Console) -> Result<Outcome, Failure> {
    if !matches!(args.command, Command::Settings) {
        console.tell_settings_left_out();
    }
    match &args.command {
        Command::Abandon(typed) => abandon::run(console, typed),
        Command::Attachments(typed) => attachments::run(console, typed),
        Command::Bytes(typed) => bytes::run(console, typed),
        Command::Check(typed) => check::run(console, typed),
        Command::Checkpoint(typed) => checkpoint::run(console, typed),
        Command::Children(typed) => children::run(console, typed),
        Command::Compact(typed) => compact::run(console, typed),
        Command::Completions(typed) => completions::run(console, typed),
        Command::Copy(typed) => copy::run(console, typed),
        Command::Demo(typed) => demo::run(console, typed),
        Command::Derive(typed) => derive::run(console, typed),
        Command::Detach(typed) => detach::run(console, typed),
        Command::Diff(typed) => diff::run(console, typed),
        Command::Expose(typed) => expose::run(console, typed),
        Command::Files(typed) => files::run(console, typed),
        Command::Grove(typed) => grove::run(console, typed),
        Command::Identity(typed) => identity::run(console, typed),
        Command::Make(typed) => make::run(console, typed),
        Command::Manual(typed) => manual::run(console, typed),
        Command::Merge(typed) => merge::run(console, typed),
        Command::Move(typed) => move_image::run(console, typed),
        Command::Pin(typed) => pin::run(console, typed),
        Command::Prepare(typed) => prepare::run(console, typed),
        Command::Relink(typed) => relink::run(console, typed),
        Command::Remove(typed) => remove::run(console, typed),
        Command::Repair(typed) => repair::run(console, typed),
        Command::Resize(typed) => resize::run(console, typed),
        Command::Resume(typed) => resume::run(console, typed),
        Command::Salvage(typed) => salvage::run(console, typed),
        Command::Serve(typed) => serve::run(console, typed),
        Command::Settings => settings::run(console),
        Command::Show(typed) => show::run(console, typed),
        Command::Status(typed) => status::run(console, typed),
        Command::Transplant(typed) => transplant::run(console, typed),
        Command::Tree(typed) => tree::run(console, typed),
        Command::Unfreeze(typed) => unfreeze::run(console, typed),
        Command::Unpin(typed) => unpin::run(console, typed),
        Command::Words => words::run(console),
    }
}

fn io(action: &str, path: &Path, source: std::io::Error) -> Error {
    Error::Io { action: action.to_owned(), path: path.to_owned(), source }
}

/// What a new image takes of its host.
fn space_taken(console: &Console, report: &Report) -> String {
    match report.place {
        PlaceReport::Device => format!("  takes the whole device of {}", console.size(report.file_size)),
        _ => format!(
            "  takes {} of the host so far; {} are free",
            console.size(report.allocated_size),
            console.size(report.host_free)
        ),
    }
}
