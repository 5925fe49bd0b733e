//! The network block device protocol, fixed newstyle: its numbers and its messages as bytes.
//!
//! Source: the protocol's public specification (doc/proto.md of the NetworkBlockDevice project). All numbers are
//! big-endian.

use crate::code::Code;

/// The first eight bytes of a server.
pub(crate) const INIT_MAGIC: u64 = 0x4e42_444d_4147_4943;
/// Before each option, and the second eight bytes of a server.
pub(crate) const OPTION_MAGIC: u64 = 0x4948_4156_454f_5054;
/// Before each reply to an option.
pub(crate) const OPTION_REPLY_MAGIC: u64 = 0x0003_e889_0455_65a9;
const REQUEST_MAGIC: u32 = 0x2560_9513;
const SIMPLE_REPLY_MAGIC: u32 = 0x6744_6698;
const CHUNK_MAGIC: u32 = 0x668e_33ef;

/// Handshake flags, of the server and of the client.
pub(crate) const FIXED_NEWSTYLE: u16 = 1;
pub(crate) const NO_ZEROES: u16 = 2;

/// Options that a client may send.
pub(crate) mod option {
    pub(crate) const EXPORT_NAME: u32 = 1;
    pub(crate) const ABORT: u32 = 2;
    pub(crate) const LIST: u32 = 3;
    pub(crate) const STARTTLS: u32 = 5;
    pub(crate) const INFO: u32 = 6;
    pub(crate) const GO: u32 = 7;
    pub(crate) const STRUCTURED_REPLY: u32 = 8;
    pub(crate) const LIST_META_CONTEXT: u32 = 9;
    pub(crate) const SET_META_CONTEXT: u32 = 10;
}

/// Replies to options.
pub(crate) mod reply {
    pub(crate) const ACK: u32 = 1;
    pub(crate) const SERVER: u32 = 2;
    pub(crate) const INFO: u32 = 3;
    pub(crate) const META_CONTEXT: u32 = 4;
    const ERROR: u32 = 1 << 31;
    pub(crate) const UNSUPPORTED: u32 = ERROR + 1;
    pub(crate) const INVALID: u32 = ERROR + 3;
    pub(crate) const TLS_REQUIRED: u32 = ERROR + 5;
    pub(crate) const UNKNOWN: u32 = ERROR + 6;
    pub(crate) const TOO_BIG: u32 = ERROR + 9;
}

/// Kinds of information about an export.
pub(crate) mod info {
    pub(crate) const EXPORT: u16 = 0;
    pub(crate) const NAME: u16 = 1;
    pub(crate) const DESCRIPTION: u16 = 2;
    pub(crate) const BLOCK_SIZE: u16 = 3;
}

/// What an export can do, told to the client.
pub(crate) mod transmission {
    pub(crate) const HAS_FLAGS: u16 = 1;
    pub(crate) const READ_ONLY: u16 = 1 << 1;
    pub(crate) const SEND_FLUSH: u16 = 1 << 2;
    pub(crate) const SEND_FUA: u16 = 1 << 3;
    pub(crate) const SEND_TRIM: u16 = 1 << 5;
    pub(crate) const SEND_WRITE_ZEROES: u16 = 1 << 6;
    pub(crate) const SEND_DF: u16 = 1 << 7;
    pub(crate) const CAN_MULTI_CONN: u16 = 1 << 8;
    pub(crate) const SEND_CACHE: u16 = 1 << 10;
    pub(crate) const SEND_FAST_ZERO: u16 = 1 << 11;
}

/// Flags of a request.
pub(crate) mod flag {
    pub(crate) const FUA: u16 = 1;
    pub(crate) const NO_HOLE: u16 = 1 << 1;
    pub(crate) const DF: u16 = 1 << 2;
    pub(crate) const REQ_ONE: u16 = 1 << 3;
    pub(crate) const FAST_ZERO: u16 = 1 << 4;
}

/// What is the state of a range, in the context `base:allocation`.
pub(crate) const STATE_HOLE: u32 = 1;
pub(crate) const STATE_ZERO: u32 = 2;

/// Parts of a structured reply.
mod chunk {
    pub(super) const DONE: u16 = 1;
    pub(super) const NONE: u16 = 0;
    pub(super) const OFFSET_DATA: u16 = 1;
    pub(super) const OFFSET_HOLE: u16 = 2;
    pub(super) const BLOCK_STATUS: u16 = 5;
    pub(super) const ERROR: u16 = (1 << 15) + 1;
}

/// What a request asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Command {
    Read,
    Write,
    Disconnect,
    Flush,
    Trim,
    Cache,
    WriteZeroes,
    BlockStatus,
    /// Anything else; nothing follows it.
    Unknown(u16),
}

/// A request without its payload.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Request {
    pub(crate) flags: u16,
    pub(crate) command: Command,
    pub(crate) cookie: u64,
    pub(crate) offset: u64,
    pub(crate) len: u32,
}

impl Request {
    pub(crate) const LEN: usize = 28;

    /// `None` when it does not begin as a request does: then nobody knows where the next one would.
    pub(crate) fn parse(bytes: &[u8; Self::LEN]) -> Option<Self> {
        let mut at = Fields(bytes);
        let magic = at.u32()?;
        let (flags, command, cookie, offset, len) = (at.u16()?, at.u16()?, at.u64()?, at.u64()?, at.u32()?);
        let command = match command {
            0 => Command::Read,
            1 => Command::Write,
            2 => Command::Disconnect,
            3 => Command::Flush,
            4 => Command::Trim,
            5 => Command::Cache,
            6 => Command::WriteZeroes,
            7 => Command::BlockStatus,
            other => Command::Unknown(other),
        };
        (magic == REQUEST_MAGIC).then_some(Self { flags, command, cookie, offset, len })
    }

    pub(crate) fn has(&self, flag: u16) -> bool {
        self.flags & flag != 0
    }
}

/// Numbers and texts of a message, one after the other; `None` where it is too short.
pub(crate) struct Fields<'a>(pub(crate) &'a [u8]);

impl<'a> Fields<'a> {
    pub(crate) fn bytes(&mut self, len: usize) -> Option<&'a [u8]> {
        let (first, rest) = self.0.split_at_checked(len)?;
        self.0 = rest;
        Some(first)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        self.bytes(N)?.try_into().ok()
    }

    pub(crate) fn u16(&mut self) -> Option<u16> {
        self.array().map(u16::from_be_bytes)
    }

    pub(crate) fn u32(&mut self) -> Option<u32> {
        self.array().map(u32::from_be_bytes)
    }

    pub(crate) fn u64(&mut self) -> Option<u64> {
        self.array().map(u64::from_be_bytes)
    }

    /// A text with its length before it.
    pub(crate) fn text(&mut self) -> Option<&'a str> {
        let len = usize::try_from(self.u32()?).ok()?;
        std::str::from_utf8(self.bytes(len)?).ok()
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// Replies to requests of one connection, as bytes; `structured` once the client asked for structured ones.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Replies {
    pub(crate) structured: bool,
}

impl Replies {
    /// What comes before the data of a read that comes in one piece.
    pub(crate) fn read_header(self, out: &mut Vec<u8>, request: &Request) {
        match self.structured {
            true => data_header(out, request.cookie, request.offset, request.len, true),
            false => simple_header(out, request.cookie, 0),
        }
    }

    /// All is done, and there is nothing else to say.
    pub(crate) fn done(self, out: &mut Vec<u8>, cookie: u64) {
        match self.structured {
            true => chunk_header(out, cookie, chunk::DONE, chunk::NONE, 0),
            false => simple_header(out, cookie, 0),
        }
    }

    /// It was not done; a structured reply says why.
    pub(crate) fn error(self, out: &mut Vec<u8>, cookie: u64, code: Code, message: &str) {
        if !self.structured {
            return simple_header(out, cookie, code as u32);
        }
        let mut end = message.len().min(MOST_TEXT);
        while !message.is_char_boundary(end) {
            end -= 1;
        }
        let text = &message.as_bytes()[..end];
        chunk_header(out, cookie, chunk::DONE, chunk::ERROR, 6 + text.len() as u32);
        out.extend((code as u32).to_be_bytes());
        out.extend((text.len() as u16).to_be_bytes());
        out.extend(text);
    }
}

/// The longest text of the protocol.
pub(crate) const MOST_TEXT: usize = 4096;

/// What comes before a part of the data of a read, in a structured reply.
pub(crate) fn data_header(out: &mut Vec<u8>, cookie: u64, offset: u64, len: u32, last: bool) {
    chunk_header(out, cookie, u16::from(last), chunk::OFFSET_DATA, 8 + len);
    out.extend(offset.to_be_bytes());
}

/// A part of a read that holds zeros, in a structured reply.
pub(crate) fn hole(out: &mut Vec<u8>, cookie: u64, offset: u64, len: u32, last: bool) {
    chunk_header(out, cookie, u16::from(last), chunk::OFFSET_HOLE, 12);
    out.extend(offset.to_be_bytes());
    out.extend(len.to_be_bytes());
}

/// The states of ranges that follow each other, in one context.
pub(crate) fn block_status(out: &mut Vec<u8>, cookie: u64, context: u32, states: &[(u32, u32)], last: bool) {
    chunk_header(out, cookie, u16::from(last), chunk::BLOCK_STATUS, 4 + 8 * states.len() as u32);
    out.extend(context.to_be_bytes());
    for (len, state) in states {
        out.extend(len.to_be_bytes());
        out.extend(state.to_be_bytes());
    }
}

fn simple_header(out: &mut Vec<u8>, cookie: u64, error: u32) {
    out.extend(SIMPLE_REPLY_MAGIC.to_be_bytes());
    out.extend(error.to_be_bytes());
    out.extend(cookie.to_be_bytes());
}

fn chunk_header(out: &mut Vec<u8>, cookie: u64, flags: u16, kind: u16, len: u32) {
    out.extend(CHUNK_MAGIC.to_be_bytes());
    out.extend(flags.to_be_bytes());
    out.extend(kind.to_be_bytes());
    out.extend(cookie.to_be_bytes());
    out.extend(len.to_be_bytes());
}

/// A reply to an option, as bytes.
pub(crate) fn option_reply(option: u32, kind: u32, data: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(20 + data.len());
    out.extend(OPTION_REPLY_MAGIC.to_be_bytes());
    out.extend(option.to_be_bytes());
    out.extend(kind.to_be_bytes());
    out.extend((data.len() as u32).to_be_bytes());
    out.extend(data);
    out
}
