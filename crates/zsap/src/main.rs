//! `zsap`: make, derive, inspect, copy and check virtual disks and their chains.

mod advice;
mod args;
mod commands;
mod console;
mod exit;
mod glossary;
mod report;
mod settings;
mod tips;
mod watch;

use std::process::ExitCode;

use clap::FromArgMatches;

/// A chain has one open file a layer, and may have more layers than a host allows open files at first.
fn allow_many_files() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    // Where it cannot be raised, a chain that is too long for it says so when it is opened.
    _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, ..limit });
}

/// What is caught and told as an error need not be told as a panic as well.
fn leave_caught_panics_untold() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !zestful_sapling::guest::catches_panics() {
            usual(panic);
        }
    }));
}

fn main() -> ExitCode {
    allow_many_files();
    leave_caught_panics_untold();
    let typed = args::help::command().try_get_matches().and_then(|typed| args::Args::from_arg_matches(&typed));
    let args = match typed {
        Ok(args) => args,
        Err(error) => return exit::misused(&error),
    };
    let console = console::Console::new(&args.common);
    exit::settle(&console, commands::run(&args, &console))
}
