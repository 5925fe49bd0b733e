//! One file a command: arguments in, a library call, its answer in words.

mod bytes;
mod check;
mod copy;
mod demo;
mod derive;
mod make;
mod show;
mod tree;

use zestful_sapling::ops::{Copy, Make};

use crate::args::{Args, Command};
use crate::console::Console;
use crate::exit::{Failure, Outcome};

pub(crate) fn run(args: &Args, console: &Console) -> Result<Outcome, Failure> {
    match &args.command {
        Command::Make { path, size, image, sectors } => {
            let request = Make::new(path, *size)
                .with_format(image.format.map(Into::into))
                .with_kind(image.kind.map(Into::into))
                .with_block_size(image.block_size)
                .with_sectors(*sectors)
                .with_space(image.space.map(Into::into));
            make::run(console, path, request, image.format.map(Into::into))
        }
        Command::Derive { base, child, absolute, block_size } => {
            derive::run(console, base, child, *absolute, *block_size)
        }
        Command::Show { path, format } => show::run(console, path, format.map(Into::into)),
        Command::Tree { path } => tree::run(console, path),
        Command::Copy { source, target, image, source_format } => {
            let request = Copy::new(source, target)
                .with_format(image.format.map(Into::into))
                .with_source_format(source_format.map(Into::into))
                .with_kind(image.kind.map(Into::into))
                .with_block_size(image.block_size)
                .with_space(image.space.map(Into::into));
            copy::run(console, &request)
        }
        Command::Check { path, format } => check::run(console, path, format.map(Into::into)),
        Command::Bytes(command) => bytes::run(console, command),
        Command::Demo { folder } => demo::run(console, folder.as_deref()),
    }
}
