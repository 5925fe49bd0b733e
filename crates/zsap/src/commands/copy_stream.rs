//! `zsap copy DISK -` and `zsap copy - DISK`: a raw disk on standard output, or from standard input.

use std::fs::File;
use std::io::{self, IsTerminal, Read};
use std::os::fd::AsFd;
use std::path::Path;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use zestful_sapling::Error;
use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::ops::{CopyStream, ReadBytes};

use super::copy;
use super::run::{asked, perform, perform_on_device};
use crate::args::copy::Copy;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};

/// Whether a path stands for standard input or output.
pub(super) fn is_stream(path: &Path) -> bool {
    path == Path::new("-")
}

pub(super) fn run(console: &Console, typed: &Copy) -> Result<Outcome, Failure> {
    let others = typed.onto.is_some() || typed.depth.is_some() || typed.identity.is_some();
    if others || typed.image.source_format.is_some() && is_stream(&typed.source) {
        return Err(usage("standard input and output carry the bytes of one raw disk", "leave the other options out"));
    }
    match (is_stream(&typed.source), is_stream(&typed.target)) {
        (true, true) => Err(usage("there is no disk between standard input and output", "name one of both")),
        (true, false) => take_in(console, typed),
        _ => give_out(console, typed),
    }
}

fn usage(message: impl Into<String>, advice: impl Into<String>) -> Failure {
    Error::usage(message, advice).into()
}

fn give_out(console: &Console, typed: &Copy) -> Result<Outcome, Failure> {
    let image = &typed.image;
    let shapes = [image.format.is_some(), image.kind.is_some(), image.block_size.is_some(), image.sectors.is_some()];
    if shapes.contains(&true) || image.space.is_some() || image.piece_size.is_some() || typed.size.is_some() {
        return Err(usage("standard output carries a raw disk, as it is", "leave out what the copy is to be"));
    }
    if typed.verify {
        return Err(usage("what went to standard output cannot be read back", "leave --verify out"));
    }
    let is_planned = console.common().plan;
    if console.json() && !is_planned {
        return Err(usage("the disk itself goes to standard output", "leave --json out"));
    }
    if io::stdout().is_terminal() && !is_planned {
        return Err(usage("a disk is nothing for a terminal", "send it into a pipe or a file"));
    }
    let source = typed.machine.image(&typed.source)?;
    let format = image.source_format(&source, &typed.force)?;
    let opening = with(OpenOptions::new(), format, OpenOptions::with_format);
    let len = Chain::open(&source, &opening.without_locks())?.virtual_size();
    let read = with(ReadBytes::new(&source, 0, len, io::stdout()), format, ReadBytes::with_format);
    match perform(console, &read) {
        // The reader of the pipe has seen enough; it has not seen all of it.
        Err(Failure::Library(Error::Io { source, .. })) if source.kind() == io::ErrorKind::BrokenPipe => {
            Err(Failure::Told(1))
        }
        other => other.map(|_| Outcome::Done),
    }
}

/// An input that says now and then that it has nothing yet, so that an interrupt is heard.
struct Patient(File);

impl Read for Patient {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let wait = Timespec { tv_sec: 0, tv_nsec: 200_000_000 };
        match poll(&mut [PollFd::new(&self.0, PollFlags::IN)], Some(&wait))? {
            0 => Err(io::ErrorKind::WouldBlock.into()),
            _ => self.0.read(buffer),
        }
    }
}

fn take_in(console: &Console, typed: &Copy) -> Result<Outcome, Failure> {
    let failed = |source| Error::Io { action: "open".to_owned(), path: "standard input".into(), source };
    let input: File = io::stdin().as_fd().try_clone_to_owned().map_err(failed)?.into();
    let found = input.metadata().map_err(failed)?;
    let size = typed.size.or_else(|| found.is_file().then_some(found.len())).ok_or_else(|| {
        usage("nobody knows beforehand how much standard input will give", "say the size of the disk with --size")
    })?;
    let copy = CopyStream::new(Patient(input), &typed.target, size)
        .with_image(typed.image.image(&typed.target))
        .with_verify(typed.verify);
    match perform_on_device(console, &asked(copy, None, &typed.force))? {
        Some(outcome) => copy::answer(console, &outcome),
        None => Ok(Outcome::Done),
    }
}
