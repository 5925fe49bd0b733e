//! A document with a list that may be too long to be kept in memory: written as it comes.

use std::fs::File;
use std::io::{self, BufWriter, Seek, SeekFrom, StdoutLock, Write};

use serde::Serialize;
use serde_json::Value;

/// Entries of a list that comes later, kept in a file without a name.
pub(crate) struct Kept {
    file: BufWriter<File>,
    is_empty: bool,
}

impl Kept {
    pub(crate) fn new() -> io::Result<Self> {
        Ok(Self { file: BufWriter::new(tempfile::tempfile()?), is_empty: true })
    }

    pub(crate) fn entry(&mut self, entry: &impl Serialize) -> io::Result<()> {
        write_entry(&mut self.file, &mut self.is_empty, entry)
    }
}

fn write_entry(out: &mut impl Write, is_first: &mut bool, entry: &impl Serialize) -> io::Result<()> {
    let comma = if std::mem::take(is_first) { "" } else { "," };
    write!(out, "{comma}\n    {}", serde_json::to_string(entry).map_err(io::Error::other)?)
}

/// Writes the one document: what comes before the list, its entries, what comes behind.
pub(crate) struct Stream {
    out: BufWriter<StdoutLock<'static>>,
    is_first: bool,
}

impl Stream {
    /// `head` is an object, which `list` is added to.
    pub(crate) fn begin(head: &Value, list: &str) -> io::Result<Self> {
        let mut out = BufWriter::new(io::stdout().lock());
        let text = serde_json::to_string_pretty(head).map_err(io::Error::other)?;
        let open = text.trim_end_matches('}').trim_end();
        write!(out, "{open},\n  {}: [", serde_json::to_string(list).map_err(io::Error::other)?)?;
        Ok(Self { out, is_first: true })
    }

    pub(crate) fn entry(&mut self, entry: &impl Serialize) -> io::Result<()> {
        write_entry(&mut self.out, &mut self.is_first, entry)
    }

    /// Another list behind the first, whose entries were kept.
    pub(crate) fn list(&mut self, name: &str, entries: Kept) -> io::Result<()> {
        let close = if self.is_first { "]" } else { "\n  ]" };
        write!(self.out, "{close},\n  {}: [", serde_json::to_string(name).map_err(io::Error::other)?)?;
        self.is_first = entries.is_empty;
        let mut file = entries.file.into_inner().map_err(|error| error.into_error())?;
        file.seek(SeekFrom::Start(0))?;
        io::copy(&mut file, &mut self.out)?;
        Ok(())
    }

    /// `tail` is an object as well.
    pub(crate) fn end(mut self, tail: &Value) -> io::Result<()> {
        let text = serde_json::to_string_pretty(tail).map_err(io::Error::other)?;
        let fields = text.trim_start_matches('{').trim_start_matches('\n');
        let close = if self.is_first { "]" } else { "\n  ]" };
        writeln!(self.out, "{close},\n{fields}")?;
        self.out.flush()
    }
}
