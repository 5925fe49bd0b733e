//! What comes from a client, through a buffer: many small requests cost one call of the host.

use std::io;
use std::sync::Arc;

use crate::nbd::link::Link;

const LEN: usize = 64 << 10;

/// The reading end of a connection.
pub(crate) struct Incoming {
    link: Arc<Link>,
    buffer: Box<[u8]>,
    start: usize,
    end: usize,
}

impl Incoming {
    pub(crate) fn new(link: Arc<Link>) -> Self {
        Self { link, buffer: vec![0; LEN].into(), start: 0, end: 0 }
    }

    pub(crate) fn link(&self) -> &Arc<Link> {
        &self.link
    }

    /// Whether so many bytes are here already.
    pub(crate) fn has(&self, len: usize) -> bool {
        self.end - self.start >= len
    }

    /// Fills the whole buffer; `false` when the client ended just before it.
    pub(crate) fn read(&mut self, buffer: &mut [u8]) -> io::Result<bool> {
        let mut done = 0;
        while done < buffer.len() {
            if self.start == self.end {
                // What is longer than the buffer goes past it.
                let rest = &mut buffer[done..];
                if rest.len() >= LEN {
                    match self.link.read(rest)? {
                        0 => return ended(done),
                        len => done += len,
                    }
                    continue;
                }
                (self.start, self.end) = (0, self.link.read(&mut self.buffer)?);
                if self.end == 0 {
                    return ended(done);
                }
            }
            let len = (buffer.len() - done).min(self.end - self.start);
            buffer[done..done + len].copy_from_slice(&self.buffer[self.start..self.start + len]);
            (done, self.start) = (done + len, self.start + len);
        }
        Ok(true)
    }

    /// The same where nothing may be missing.
    pub(crate) fn read_all(&mut self, buffer: &mut [u8]) -> io::Result<()> {
        match self.read(buffer)? {
            true => Ok(()),
            false => Err(io::ErrorKind::UnexpectedEof.into()),
        }
    }

    /// Reads past so many bytes.
    pub(crate) fn skip(&mut self, mut len: usize) -> io::Result<()> {
        let mut waste = [0; 4096];
        while len > 0 {
            let step = len.min(waste.len());
            self.read_all(&mut waste[..step])?;
            len -= step;
        }
        Ok(())
    }
}

fn ended(done: usize) -> io::Result<bool> {
    match done {
        0 => Ok(false),
        _ => Err(io::ErrorKind::UnexpectedEof.into()),
    }
}
