//! `zsap bytes`.

use std::fs::{File, OpenOptions};
use std::io::{self, IsTerminal, Read, Seek, SeekFrom, Write};
use std::os::fd::AsFd;
use std::path::Path;

use tempfile::SpooledTempFile;
use zestful_sapling::Error;
use zestful_sapling::chain::{self, Chain, Disk};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{ReadBytes, WriteBytes};

use super::copy_stream::is_stream;
use super::run::{asked, perform};
use crate::args::bytes::{Bytes, BytesRead, BytesWrite};
use crate::args::disk::image;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::BytesMoved;
use crate::report::text;

/// More than this is no answer for a terminal or a JSON document.
const MOST_TO_SHOW: u64 = 64 << 10;
/// What a pipe gives goes to a temporary file when it is more.
const MOST_IN_MEMORY: usize = 16 << 20;

pub(super) fn run(console: &Console, typed: &Bytes) -> Result<Outcome, Failure> {
    match typed {
        Bytes::Read(typed) => read(console, typed),
        Bytes::Write(typed) => write(console, typed),
    }
}

fn read(console: &Console, typed: &BytesRead) -> Result<Outcome, Failure> {
    let typed = &BytesRead { path: typed.machine.image(&typed.path)?, ..typed.clone() };
    let (at, len) = (typed.at, typed.len);
    let format = typed.format.of(&typed.path)?;
    if console.common().plan {
        perform(console, &reading(typed, format, io::sink()))?;
        return Ok(Outcome::Done);
    }
    match typed.output.as_ref().filter(|file| !is_stream(file)) {
        Some(file) => {
            let out = create_new(file)?;
            // Half a file under the name that was asked for would look like a whole one.
            let done = perform(console, &reading(typed, format, out));
            done.inspect_err(|_| _ = std::fs::remove_file(file))?;
            let line = format!("wrote {} to {}", console.size(len), text::path(file));
            let file = Some(file.as_path().into());
            console.answer(&BytesMoved { offset: at, length: len, file, hex: None }, [line])?;
        }
        None if console.json() || io::stdout().is_terminal() => {
            if len > MOST_TO_SHOW {
                let message = format!("{len} bytes are too many to show");
                return Err(Error::usage(message, "name a file with -o, or pipe the bytes somewhere").into());
            }
            let mut bytes = Vec::new();
            perform(console, &reading(typed, format, &mut bytes))?;
            let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
            let answer = BytesMoved { offset: at, length: len, file: None, hex: Some(hex) };
            console.answer(&answer, hex_lines(at, &bytes))?;
        }
        None => match perform(console, &reading(typed, format, io::stdout())) {
            // The reader of the pipe has seen enough.
            Err(Failure::Library(Error::Io { source, .. })) if source.kind() == io::ErrorKind::BrokenPipe => {}
            other => _ = other?,
        },
    }
    Ok(Outcome::Done)
}

fn reading<'a>(typed: &BytesRead, format: Option<Format>, out: impl Write + Send + 'a) -> ReadBytes<'a> {
    with(ReadBytes::new(&typed.path, typed.at, typed.len, out), format, ReadBytes::with_format)
}

fn write(console: &Console, typed: &BytesWrite) -> Result<Outcome, Failure> {
    let path = &image(&typed.path, typed.disk.as_deref(), None)?;
    let (at, options) = (typed.at, &typed.options);
    let format = options.format(path)?;
    let opening = with(chain::OpenOptions::new(), format, chain::OpenOptions::with_format);
    let size = Chain::open(path, &opening.without_locks())?.virtual_size();
    let mut source = Source::open(typed.input.as_deref().filter(|file| !is_stream(file)), size)?;
    let len = source.len()?;
    let request = with(WriteBytes::new(path, at, len, source), format, WriteBytes::with_format);
    let request = asked(request, Some(&options.search), &options.force);
    if perform(console, &request)?.is_none() {
        return Ok(Outcome::Done);
    }
    let line = format!("wrote {} at byte {at} of {}", console.size(len), text::path(path));
    console.answer(&BytesMoved { offset: at, length: len, file: None, hex: None }, [line])?;
    Ok(Outcome::Done)
}

/// Input whose length is known before any of it is used, so that too much of it changes nothing.
enum Source {
    File(File),
    /// What a pipe gave, kept until it ended.
    Kept(SpooledTempFile),
}

impl Source {
    /// Of a pipe no more is read than shows that it is more than `most`.
    fn open(path: Option<&Path>, most: u64) -> Result<Self, Error> {
        let failed = |source| io_error("open", path.unwrap_or(Path::new("standard input")), source);
        let file = match path {
            Some(path) => File::open(path).map_err(failed)?,
            None => io::stdin().as_fd().try_clone_to_owned().map_err(failed)?.into(),
        };
        let kind = file.metadata().map_err(failed)?.file_type();
        if kind.is_file() {
            return Ok(Self::File(file));
        }
        if kind.is_dir() {
            return Err(failed(io::ErrorKind::IsADirectory.into()));
        }
        let mut kept = SpooledTempFile::new(MOST_IN_MEMORY);
        let copied = io::copy(&mut file.take(most + 1), &mut kept).and_then(|_| kept.rewind());
        let place = std::env::temp_dir();
        copied.map_err(|source| {
            io_error("keep the input until it has ended (a file, named with -i, needs no room) in", &place, source)
        })?;
        Ok(Self::Kept(kept))
    }

    /// Bytes from here to the end.
    fn len(&mut self) -> Result<u64, Error> {
        let mut measure = || {
            let at = self.stream_position()?;
            let end = self.seek(SeekFrom::End(0))?;
            self.seek(SeekFrom::Start(at)).map(|_| end.saturating_sub(at))
        };
        measure().map_err(|source| io_error("measure", Path::new("the input"), source))
    }
}

impl Read for Source {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::File(file) => file.read(buffer),
            Self::Kept(kept) => kept.read(buffer),
        }
    }
}

impl Seek for Source {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        match self {
            Self::File(file) => file.seek(to),
            Self::Kept(kept) => kept.seek(to),
        }
    }
}

fn io_error(action: &str, path: &Path, source: io::Error) -> Error {
    Error::Io { action: action.to_owned(), path: path.to_owned(), source }
}

fn create_new(path: &Path) -> Result<File, Error> {
    let created = OpenOptions::new().write(true).create_new(true).open(path);
    created.map_err(|source| io_error("create", path, source))
}

/// Sixteen bytes a line, with the place on the disk and what is text.
fn hex_lines(at: u64, bytes: &[u8]) -> Vec<String> {
    let lines = bytes.chunks(16).enumerate().map(|(number, line)| {
        let hex: Vec<String> = line.iter().map(|byte| format!("{byte:02x}")).collect();
        let text: String =
            line.iter().map(|byte| if (32..127).contains(byte) { char::from(*byte) } else { '.' }).collect();
        format!("{:>14}  {:<47}  {text}", at + 16 * number as u64, hex.join(" "))
    });
    lines.collect()
}
