//! A client that says exactly what a test wants.

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::Duration;

pub const READ: u16 = 0;
pub const WRITE: u16 = 1;
pub const DISCONNECT: u16 = 2;
pub const FLUSH: u16 = 3;
pub const TRIM: u16 = 4;
pub const CACHE: u16 = 5;
pub const WRITE_ZEROES: u16 = 6;
pub const BLOCK_STATUS: u16 = 7;

pub const FUA: u16 = 1;
pub const NO_HOLE: u16 = 2;
pub const DF: u16 = 4;
pub const REQ_ONE: u16 = 8;
pub const FAST_ZERO: u16 = 16;

pub const EPERM: u32 = 1;
pub const EINVAL: u32 = 22;
pub const ENOSPC: u32 = 28;
pub const EOVERFLOW: u32 = 75;
pub const ENOTSUP: u32 = 95;

/// Anything that bytes go through.
pub trait Stream: Read + Write + Send {}
impl<T: Read + Write + Send> Stream for T {}

pub struct Client {
    pub stream: Box<dyn Stream>,
    pub structured: bool,
    pub size: u64,
    pub flags: u16,
}

/// A reply to an option: its kind and its data.
pub type OptionReply = (u32, Vec<u8>);

/// A reply to a request: the request's cookie, the error (0 for none), and what came with it.
#[derive(Debug, PartialEq, Eq)]
pub struct Reply {
    pub cookie: u64,
    pub error: u32,
    pub data: Vec<u8>,
    /// Of block status: the context, and lengths with states.
    pub states: Vec<(u32, Vec<(u32, u32)>)>,
}

impl Client {
    /// Connects and greets.
    pub fn greet(socket: &Path, flags: u32) -> Self {
        let stream = UnixStream::connect(socket).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        Self::over(stream, flags)
    }

    pub fn over(stream: impl Stream + 'static, flags: u32) -> Self {
        let mut client = Self { stream: Box::new(stream), structured: false, size: 0, flags: 0 };
        let hello = client.read(18);
        assert_eq!(&hello[..16], b"NBDMAGICIHAVEOPT");
        assert_eq!(hello[16..], [0, 3]);
        client.write(&flags.to_be_bytes());
        client
    }

    /// With structured replies, a disk, and the contexts of block status.
    pub fn with_disk(socket: &Path, name: &str, structured: bool, contexts: &[&str]) -> Self {
        let mut client = Self::greet(socket, 3);
        if structured {
            assert_eq!(client.option(8, &[]), [(1, vec![])]);
            client.structured = true;
        }
        if !contexts.is_empty() {
            let last = client.option(10, &contexts_of(name, contexts)).pop();
            assert_eq!(last, Some((1, vec![])));
        }
        client.go(name, &[]);
        client
    }

    pub fn read(&mut self, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        self.stream.read_exact(&mut bytes).unwrap();
        bytes
    }

    pub fn write(&mut self, bytes: &[u8]) {
        self.stream.write_all(bytes).unwrap();
    }

    pub fn number(&mut self) -> u32 {
        u32::from_be_bytes(self.read(4).try_into().unwrap())
    }

    pub fn send_option(&mut self, option: u32, data: &[u8]) {
        let mut bytes = b"IHAVEOPT".to_vec();
        bytes.extend(option.to_be_bytes());
        bytes.extend((data.len() as u32).to_be_bytes());
        bytes.extend(data);
        self.write(&bytes);
    }

    /// Sends an option and takes its replies up to the last one.
    pub fn option(&mut self, option: u32, data: &[u8]) -> Vec<OptionReply> {
        self.send_option(option, data);
        let mut replies = Vec::new();
        loop {
            assert_eq!(self.read(8), 0x0003_e889_0455_65a9_u64.to_be_bytes());
            assert_eq!(self.number(), option);
            let (kind, len) = (self.number(), self.number());
            replies.push((kind, self.read(len as usize)));
            // Information comes before the end.
            if kind == 1 || kind >> 31 == 1 {
                return replies;
            }
        }
    }

    pub fn go(&mut self, name: &str, infos: &[u16]) -> Vec<OptionReply> {
        let replies = self.option(7, &go_of(name, infos));
        let export = replies.iter().find(|(kind, data)| *kind == 3 && data[..2] == [0, 0]);
        let (_, data) = export.unwrap_or_else(|| panic!("no disk: {replies:?}"));
        self.size = u64::from_be_bytes(data[2..10].try_into().unwrap());
        self.flags = u16::from_be_bytes(data[10..12].try_into().unwrap());
        replies
    }

    pub fn send(&mut self, flags: u16, command: u16, cookie: u64, offset: u64, len: u32, payload: &[u8]) {
        let mut bytes = 0x2560_9513_u32.to_be_bytes().to_vec();
        bytes.extend(flags.to_be_bytes());
        bytes.extend(command.to_be_bytes());
        bytes.extend(cookie.to_be_bytes());
        bytes.extend(offset.to_be_bytes());
        bytes.extend(len.to_be_bytes());
        bytes.extend(payload);
        self.write(&bytes);
    }

    /// The next reply; `expected` bytes belong to it if it is a simple one without an error.
    pub fn reply(&mut self, expected: usize) -> Reply {
        if !self.structured {
            assert_eq!(self.number(), 0x6744_6698);
            let error = self.number();
            let cookie = u64::from_be_bytes(self.read(8).try_into().unwrap());
            let data = if error == 0 { self.read(expected) } else { Vec::new() };
            return Reply { cookie, error, data, states: Vec::new() };
        }
        let mut reply = Reply { cookie: 0, error: 0, data: vec![0xEE; expected], states: Vec::new() };
        let mut first = None;
        loop {
            assert_eq!(self.number(), 0x668e_33ef);
            let head = self.read(16);
            let (flags, kind) = (head[1], u16::from_be_bytes([head[2], head[3]]));
            reply.cookie = u64::from_be_bytes(head[4..12].try_into().unwrap());
            let len = u32::from_be_bytes(head[12..].try_into().unwrap());
            let body = self.read(len as usize);
            let word = |at: usize| u32::from_be_bytes(body[at..at + 4].try_into().unwrap());
            match kind {
                0 => assert!(body.is_empty()),
                1 | 2 => {
                    let at = u64::from_be_bytes(body[..8].try_into().unwrap());
                    let start = (at - *first.get_or_insert(at)) as usize;
                    match kind {
                        1 => reply.data[start..start + body.len() - 8].copy_from_slice(&body[8..]),
                        _ => reply.data[start..start + word(8) as usize].fill(0),
                    }
                }
                5 => {
                    let states = (4..body.len()).step_by(8).map(|at| (word(at), word(at + 4))).collect();
                    reply.states.push((word(0), states));
                }
                0x8001 => {
                    reply.error = word(0);
                    reply.data = body[6..].to_vec();
                }
                other => panic!("a part of kind {other}"),
            }
            if flags & 1 == 1 {
                return reply;
            }
        }
    }

    /// Asks and waits for the answer.
    pub fn ask(&mut self, flags: u16, command: u16, offset: u64, len: u32, payload: &[u8]) -> Reply {
        let cookie = offset ^ u64::from(len) << 32 | 1 << 63;
        self.send(flags, command, cookie, offset, len, payload);
        let reply = self.reply(if command == READ { len as usize } else { 0 });
        assert_eq!(reply.cookie, cookie);
        reply
    }

    pub fn pread(&mut self, offset: u64, len: u32) -> Vec<u8> {
        let reply = self.ask(0, READ, offset, len, &[]);
        assert_eq!(reply.error, 0, "{}", String::from_utf8_lossy(&reply.data));
        reply.data
    }

    pub fn pwrite(&mut self, offset: u64, bytes: &[u8]) {
        assert_eq!(self.ask(0, WRITE, offset, bytes.len() as u32, bytes).error, 0);
    }

    pub fn flush(&mut self) {
        assert_eq!(self.ask(0, FLUSH, 0, 0, &[]).error, 0);
    }

    /// Whether the server has ended the connection.
    pub fn is_cut(&mut self) -> bool {
        matches!(self.stream.read(&mut [0]), Ok(0) | Err(_))
    }
}

pub fn text(text: &str) -> Vec<u8> {
    [&(text.len() as u32).to_be_bytes()[..], text.as_bytes()].concat()
}

pub fn go_of(name: &str, infos: &[u16]) -> Vec<u8> {
    let mut data = text(name);
    data.extend((infos.len() as u16).to_be_bytes());
    infos.iter().for_each(|info| data.extend(info.to_be_bytes()));
    data
}

pub fn contexts_of(name: &str, queries: &[&str]) -> Vec<u8> {
    let mut data = text(name);
    data.extend((queries.len() as u32).to_be_bytes());
    queries.iter().for_each(|query| data.extend(text(query)));
    data
}
