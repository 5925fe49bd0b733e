//! One file a command: arguments in, a library call, its answer in words.

mod bytes;
mod check;
mod copy;
mod demo;
mod derive;
mod make;
mod show;
mod tree;

use crate::args::{Args, Command};
use crate::console::Console;
use crate::exit::{Failure, Outcome};

pub(crate) fn run(args: &Args, console: &Console) -> Result<Outcome, Failure> {
    match &args.command {
        Command::Make { path, size, format, block_size, sectors } => {
            make::run(console, path, *size, format.map(Into::into), *block_size, *sectors)
        }
        Command::Derive { base, child, absolute, block_size } => {
            derive::run(console, base, child, *absolute, *block_size)
        }
        Command::Show { path, format } => show::run(console, path, format.map(Into::into)),
        Command::Tree { path } => tree::run(console, path),
        Command::Copy { source, target, format, source_format, block_size } => {
            let request = zestful_sapling::ops::Copy::new(source, target)
                .with_format(format.map(Into::into))
                .with_source_format(source_format.map(Into::into))
                .with_block_size(*block_size);
            copy::run(console, &request)
        }
        Command::Check { path, format } => check::run(console, path, format.map(Into::into)),
        Command::Bytes(command) => bytes::run(console, command),
        Command::Demo { folder } => demo::run(console, folder.as_deref()),
    }
}
