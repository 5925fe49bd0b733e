//! What each request does to a disk.

use std::io::IoSlice;

use zestful_sapling::Error;

use crate::code::Code;
use crate::export::RequestKind;
use crate::nbd::client::{Client, SMALL};
use crate::nbd::handshake::{ALLOCATION, LAYER};
use crate::nbd::protocol::{Command, Request, STATE_HOLE, STATE_ZERO, block_status, data_header, flag, hole};

/// A read is answered in parts of this size where it may be.
const PART: u64 = 1 << 20;
/// Ranges in one answer about block status.
const MOST_RANGES: usize = 4096;

/// How a request ended.
pub(crate) enum Outcome {
    /// It is done, and that is all there is to say.
    Done,
    /// The reply is on its way, or in what was to be sent.
    Replied,
}

impl Client<'_> {
    /// Does a request; short replies are added to `out`.
    pub(crate) fn carry_out(&self, request: &Request, payload: &[u8], out: &mut Vec<u8>) -> Result<Outcome, Error> {
        let kind = match request.command {
            Command::Read | Command::Cache | Command::BlockStatus => RequestKind::Read,
            Command::Flush => RequestKind::Flush,
            _ => RequestKind::Write,
        };
        let result = match request.command {
            Command::Read => self.read(request, out),
            Command::Write | Command::Trim | Command::WriteZeroes => self.change(request, payload, out),
            Command::Cache => self.look_through(request),
            Command::BlockStatus => self.tell_status(request, out),
            Command::Flush => self.export.flush().map(|()| Outcome::Done),
            Command::Disconnect | Command::Unknown(_) => Ok(Outcome::Done),
        };
        self.note(kind, result.as_ref().map(|_| ()));
        result
    }

    fn read(&self, request: &Request, out: &mut Vec<u8>) -> Result<Outcome, Error> {
        let len = u64::from(request.len);
        // Looking for holes in little takes longer than reading it.
        if !self.replies.structured || request.has(flag::DF) || request.len <= SMALL {
            let mut data = vec![0; request.len as usize];
            self.export.read_at(&mut data, request.offset)?;
            self.replies.read_header(out, request);
            self.send(&mut [IoSlice::new(out), IoSlice::new(&data)]);
            out.clear();
            self.count_read(len);
            return Ok(Outcome::Replied);
        }
        let mut data = Vec::new();
        let (mut at, end) = (request.offset, request.offset + len);
        while at < end && !self.is_gone() {
            let mut step = (end - at).min(PART);
            let status = self.export.status_at(at, end - at)?;
            if status.is_hole {
                step = status.len;
                hole(out, request.cookie, at, step as u32, at + step == end);
            } else {
                data.resize(step as usize, 0);
                self.export.read_at(&mut data, at)?;
                data_header(out, request.cookie, at, step as u32, at + step == end);
            }
            let part = if status.is_hole { &[][..] } else { &data };
            self.send(&mut [IoSlice::new(out), IoSlice::new(part)]);
            out.clear();
            at += step;
        }
        self.count_read(len);
        Ok(Outcome::Replied)
    }

    fn change(&self, request: &Request, payload: &[u8], out: &mut Vec<u8>) -> Result<Outcome, Error> {
        let Some(disk) = self.export.writable() else { return Ok(Outcome::Done) };
        let (offset, len) = (request.offset, u64::from(request.len));
        match request.command {
            Command::Write => disk.write_at(payload, offset)?,
            Command::Trim => disk.discard_at(offset, len)?,
            _ if request.has(flag::FAST_ZERO) && (request.has(flag::NO_HOLE) || !disk.zeroes_quickly()) => {
                let why = "zeroing here is no quicker than writing";
                self.replies.error(out, request.cookie, Code::NotSupported, why);
                return Ok(Outcome::Replied);
            }
            _ if request.has(flag::NO_HOLE) => {
                let zeros = vec![0; len.min(PART) as usize];
                let mut done = 0;
                while done < len {
                    let step = (len - done).min(PART);
                    disk.write_at(&zeros[..step as usize], offset + done)?;
                    done += step;
                }
            }
            _ => disk.zero_at(offset, len)?,
        }
        if request.has(flag::FUA) {
            disk.flush()?;
        }
        self.count_written(len);
        Ok(Outcome::Done)
    }

    /// Has the host read a range into its memory.
    fn look_through(&self, request: &Request) -> Result<Outcome, Error> {
        let mut part = vec![0; u64::from(request.len).min(PART) as usize];
        let (mut at, end) = (request.offset, request.offset + u64::from(request.len));
        while at < end && !self.is_gone() {
            let status = self.export.status_at(at, end - at)?;
            let step = if status.is_hole { status.len } else { (end - at).min(PART) };
            if !status.is_hole {
                self.export.read_at(&mut part[..step as usize], at)?;
            }
            at += step;
        }
        Ok(Outcome::Done)
    }

    /// What the ranges from the beginning of a request on are, in each context that was agreed on.
    fn tell_status(&self, request: &Request, out: &mut Vec<u8>) -> Result<Outcome, Error> {
        let most = if request.has(flag::REQ_ONE) { 1 } else { MOST_RANGES };
        for (number, context) in (1..).zip(&self.contexts) {
            let mut states: Vec<(u32, u32)> = Vec::new();
            let (mut at, end) = (request.offset, request.offset + u64::from(request.len));
            while at < end {
                let status = self.export.status_at(at, end - at)?;
                let state = match *context {
                    ALLOCATION if status.is_hole => STATE_HOLE | STATE_ZERO,
                    LAYER => status.layer.map_or(0, |layer| layer as u32 + 1),
                    _ => 0,
                };
                let len = status.len as u32;
                let is_full = states.len() == most;
                match states.last_mut() {
                    Some((before, same)) if *same == state => *before += len,
                    _ if is_full => break,
                    _ => states.push((len, state)),
                }
                at += u64::from(len);
            }
            block_status(out, request.cookie, *context, &states, number == self.contexts.len());
        }
        Ok(Outcome::Replied)
    }
}
