//! `zsap`: make, derive, inspect, copy and check virtual disks and their chains.

mod args;
mod commands;
mod console;
mod exit;
mod table;
mod text;
mod watch;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let args = args::Args::parse();
    let console = console::Console::new(&args.common);
    exit::settle(&console, commands::run(&args, &console))
}
