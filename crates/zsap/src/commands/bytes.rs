//! `zsap bytes`.

use std::fs::{File, OpenOptions};
use std::io::{self, IsTerminal, Read, Seek, SeekFrom, Write};
use std::os::fd::AsFd;
use std::path::Path;

use serde_json::json;
use tempfile::SpooledTempFile;
use zestful_sapling::Error;
use zestful_sapling::chain::{self, Chain, Disk};
use zestful_sapling::ops::{WriteBytes, read_bytes};

use crate::args::BytesCommand;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

/// More than this is no answer for a terminal or a JSON document.
const MOST_TO_SHOW: u64 = 64 << 10;
/// What a pipe gives goes to a temporary file when it is more.
const MOST_IN_MEMORY: usize = 16 << 20;

pub(super) fn run(console: &Console, command: &BytesCommand) -> Result<Outcome, Failure> {
    match command {
        BytesCommand::Read { path, at, len, output, format } => {
            let format = format.of(path)?;
            let read = |out: &mut (dyn Write + Send)| {
                watch::run(console, |progress| {
                    watch::patiently(console, || read_bytes(path, format, *at, *len, out, progress))
                })
            };
            match output {
                Some(file) => {
                    let mut out = create_new(file)?;
                    // Half a file under the name that was asked for would look like a whole one.
                    read(&mut out).inspect_err(|_| _ = std::fs::remove_file(file))?;
                    let line = format!("wrote {} to {}", console.size(*len), text::path(file));
                    console.answer(&json!({ "offset": at, "length": len, "file": file.to_string_lossy() }), [line])?;
                }
                None if console.json() || io::stdout().is_terminal() => {
                    if *len > MOST_TO_SHOW {
                        let message = format!("{len} bytes are too many to show");
                        return Err(Error::usage(message, "name a file with -o, or pipe the bytes somewhere").into());
                    }
                    let mut bytes = Vec::new();
                    read(&mut bytes)?;
                    let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
                    console.answer(&json!({ "offset": at, "length": len, "hex": hex }), hex_lines(*at, &bytes))?;
                }
                None => {
                    let mut out = io::stdout();
                    match read(&mut out) {
                        // The reader of the pipe has seen enough.
                        Err(Error::Io { source, .. }) if source.kind() == io::ErrorKind::BrokenPipe => {}
                        other => other?,
                    }
                    out.flush()?;
                }
            }
        }
        BytesCommand::Write { path, at, input, options } => {
            let format = options.format(path)?;
            let disk = Chain::open(path, &chain::OpenOptions::new().with_format(format).without_locks())?;
            let mut source = Source::open(input.as_deref(), disk.virtual_size())?;
            drop(disk);
            let len = source.len()?;
            let request = WriteBytes::new(path, *at, len).with_format(format);
            let request = request.with_search(options.search.search());
            let request = options.force.iter().copied().fold(request, WriteBytes::with_override);
            let plan = watch::patiently(console, || request.clone().plan())?;
            if console.show_plan(plan.summary())? {
                return Ok(Outcome::Done);
            }
            watch::run(console, |progress| watch::patiently(console, || plan.run(&mut source, progress)))?;
            let line = format!("wrote {} at byte {at} of {}", console.size(len), text::path(path));
            console.answer(&json!({ "offset": at, "length": len }), [line])?;
        }
    }
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
