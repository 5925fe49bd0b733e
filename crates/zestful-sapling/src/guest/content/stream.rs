//! A volume as a stream, for crates that want one, with an end to their patience.

use std::io::{self, Read, Seek, SeekFrom, Write};

use crate::bytes::{sought, wide};
use crate::guest::view::View;

/// Far more than labels and bitmaps need, and little enough to end a loop soon.
const MOST_READ: u64 = 256 << 20;
/// Small reads cost as much as this.
const LEAST_COUNTED: u64 = 512;

pub(super) struct ViewStream<'a> {
    view: View<'a>,
    position: u64,
    left: u64,
}

impl<'a> ViewStream<'a> {
    pub(super) fn new(view: View<'a>) -> Self {
        Self { view, position: 0, left: MOST_READ }
    }
}

impl Read for ViewStream<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = wide(buffer.len()).min(self.view.size.saturating_sub(self.position));
        let cost = len.max(LEAST_COUNTED);
        self.left = self.left.checked_sub(cost).ok_or_else(|| io::Error::other("this comes to no end"))?;
        let bytes = self.view.bytes(self.position, len).map_err(io::Error::other)?.unwrap_or_default();
        buffer[..bytes.len()].copy_from_slice(&bytes);
        self.position = self.position.saturating_add(wide(bytes.len()));
        Ok(bytes.len())
    }
}

/// Nothing is ever written; a crate that asks for the ability must not use it.
impl Write for ViewStream<'_> {
    fn write(&mut self, _: &[u8]) -> io::Result<usize> {
        Err(io::ErrorKind::PermissionDenied.into())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for ViewStream<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.position = sought(to, self.position, self.view.size)?;
        Ok(self.position)
    }
}
