//! A document with a list that may be too long to be kept in memory: written as it comes.

use std::io::{self, BufWriter, StdoutLock, Write};

use serde::Serialize;
use serde_json::Value;

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
        let comma = if self.is_first { "" } else { "," };
        self.is_first = false;
        write!(self.out, "{comma}\n    {}", serde_json::to_string(entry).map_err(io::Error::other)?)
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
