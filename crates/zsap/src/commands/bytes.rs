//! `zsap bytes`.

use std::fs::{File, OpenOptions};
use std::io::{self, IsTerminal, Read, Write};
use std::path::Path;

use serde_json::json;
use zestful_sapling::Error;
use zestful_sapling::ops::{WriteBytes, read_bytes};

use crate::args::BytesCommand;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

/// More than this is no answer for a terminal or a JSON document.
const MOST_TO_SHOW: u64 = 64 << 10;

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
                    console.answer(&json!({ "offset": at, "length": len, "file": file }), [line])?;
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
            let request = WriteBytes::new(path, *at).with_format(options.format(path)?);
            let request = request.with_search(options.search.search());
            let request = options.overrides().fold(request, WriteBytes::with_override);
            let plan = watch::patiently(console, || request.clone().plan())?;
            if console.show_plan(plan.summary())? {
                return Ok(Outcome::Done);
            }
            let mut source: Box<dyn Read + Send> = match input {
                Some(file) => Box::new(open(file)?),
                None => Box::new(io::stdin()),
            };
            let count = watch::run(console, |progress| watch::patiently(console, || plan.run(&mut *source, progress)))?;
            let line = format!("wrote {} at byte {at} of {}", console.size(count), text::path(path));
            console.answer(&json!({ "offset": at, "length": count }), [line])?;
        }
    }
    Ok(Outcome::Done)
}

fn open(path: &Path) -> Result<File, Error> {
    File::open(path).map_err(|source| Error::Io { action: "open".to_owned(), path: path.to_owned(), source })
}

fn create_new(path: &Path) -> Result<File, Error> {
    let created = OpenOptions::new().write(true).create_new(true).open(path);
    created.map_err(|source| Error::Io { action: "create".to_owned(), path: path.to_owned(), source })
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
