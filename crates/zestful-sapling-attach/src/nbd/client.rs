//! The requests of one client, after the handshake.
//!
//! One thread reads the requests. What needs no waiting it does itself: reads of what the host has in memory, writes to
//! where the image has its place already; so that many small requests cost a call of the host each, and their replies
//! one together. Everything else goes to workers, of which there are as many as requests wait, up to a limit; they
//! reply as they are done.

use std::collections::VecDeque;
use std::io::{self, IoSlice};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use crate::code::{Code, code_of};
use crate::export::{Export, RequestKind};
use crate::front::{Counters, Moved};
use crate::nbd::handshake::Agreed;
use crate::nbd::incoming::Incoming;
use crate::nbd::limits::Limits;
use crate::nbd::link::Link;
use crate::nbd::protocol::{Command, Replies, Request, flag};
use crate::nbd::work::Outcome;

/// Requests up to this size are tried at once.
pub(crate) const SMALL: u32 = 64 << 10;
/// Replies that are kept to be sent together, in bytes.
const TOGETHER: usize = 256 << 10;
/// What came with a write. The bytes behind its end are those of an earlier one: clearing them would take time.
#[derive(Default)]
pub(crate) struct Payload {
    bytes: Vec<u8>,
    len: usize,
}

impl Payload {
    fn whole(&self) -> &[u8] {
        self.bytes.get(..self.len).unwrap_or_default()
    }
}

/// Buffers that are kept for the next payloads, and how large they may be.
const KEPT: usize = 8;
const KEPT_LEN: usize = 2 << 20;

/// A client that has a disk.
pub(crate) struct Client<'a> {
    pub(crate) link: Arc<Link>,
    pub(crate) export: Arc<Export>,
    pub(crate) replies: Replies,
    pub(crate) contexts: Vec<u32>,
    keeps_to_sectors: bool,
    limits: &'a Limits,
    jobs: Mutex<Jobs>,
    /// There is work, or there will be none any more.
    work: Condvar,
    /// Work was done.
    done: Condvar,
    /// Nothing can be sent to it any more.
    gone: AtomicBool,
    spare: Mutex<Vec<Payload>>,
    own: Counters,
    /// Of all clients.
    all: &'a Counters,
    /// Told of trouble with the disk.
    trouble: &'a (dyn Fn(crate::event::Event) + Sync),
}

#[derive(Default)]
struct Jobs {
    waiting: VecDeque<(Request, Payload)>,
    workers: usize,
    idle: usize,
    /// Of all that are waiting or worked on.
    bytes: usize,
    count: usize,
    over: bool,
}

impl<'a> Client<'a> {
    pub(crate) fn new(
        link: Arc<Link>,
        agreed: Agreed,
        limits: &'a Limits,
        all: &'a Counters,
        trouble: &'a (dyn Fn(crate::event::Event) + Sync),
    ) -> Self {
        Self {
            link,
            export: agreed.export,
            replies: agreed.replies,
            contexts: agreed.contexts,
            keeps_to_sectors: agreed.keeps_to_sectors,
            limits,
            jobs: Mutex::default(),
            work: Condvar::new(),
            done: Condvar::new(),
            gone: AtomicBool::new(false),
            spare: Mutex::default(),
            own: Counters::default(),
            all,
            trouble,
        }
    }

    pub(crate) fn count_read(&self, bytes: u64) {
        self.own.add_read(bytes);
        self.all.add_read(bytes);
    }

    pub(crate) fn count_written(&self, bytes: u64) {
        self.own.add_written(bytes);
        self.all.add_written(bytes);
    }

    /// What it read and wrote so far.
    pub(crate) fn moved(&self) -> Moved {
        self.own.moved()
    }

    fn jobs(&self) -> MutexGuard<'_, Jobs> {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Nothing more can be sent to it.
    pub(crate) fn is_gone(&self) -> bool {
        self.gone.load(Ordering::Relaxed)
    }

    /// Sends a message; a client that takes none is gone.
    pub(crate) fn send(&self, parts: &mut [IoSlice<'_>]) {
        if !self.is_gone() && self.link.write(parts).is_err() {
            self.gone.store(true, Ordering::Relaxed);
            self.link.cut();
        }
    }

    /// Serves all requests until the client goes; returns why it did. All that was begun is done by then.
    pub(crate) fn serve(&self, incoming: &mut Incoming) -> String {
        std::thread::scope(|scope| {
            let mut reader = Reader {
                client: self,
                batch: Vec::new(),
                spawn: &|| {
                    let worker = std::thread::Builder::new().stack_size(512 << 10);
                    worker.spawn_scoped(scope, || self.work_on()).is_ok()
                },
            };
            let why = reader.run(incoming);
            reader.send_batch();
            self.jobs().over = true;
            self.work.notify_all();
            // A host that gives no threads leaves some work to this one.
            self.work_on();
            why
        })
    }

    /// Does what waits until there is nothing, and there will be nothing any more.
    fn work_on(&self) {
        let mut jobs = self.jobs();
        loop {
            if let Some((request, payload)) = jobs.waiting.pop_front() {
                drop(jobs);
                self.perform(&request, payload.whole());
                jobs = self.jobs();
                jobs.bytes -= weight(&request);
                jobs.count -= 1;
                self.give_back(payload);
                self.done.notify_all();
                continue;
            }
            if jobs.over {
                return;
            }
            jobs.idle += 1;
            jobs = self.work.wait(jobs).unwrap_or_else(PoisonError::into_inner);
            jobs.idle -= 1;
        }
    }

    /// Hands a request to the workers; waits while there is too much under way.
    fn hand_on(&self, request: Request, payload: Payload, spawn: &dyn Fn() -> bool) {
        let mut jobs = self.jobs();
        let most = 4 * self.limits.requests_at_once;
        while jobs.count > 0 && (jobs.bytes + weight(&request) > self.limits.bytes_in_flight || jobs.count >= most) {
            jobs = self.done.wait(jobs).unwrap_or_else(PoisonError::into_inner);
        }
        jobs.bytes += weight(&request);
        jobs.count += 1;
        jobs.waiting.push_back((request, payload));
        if jobs.idle < jobs.waiting.len() && jobs.workers < self.limits.requests_at_once {
            drop(jobs);
            let is_there = spawn();
            jobs = self.jobs();
            jobs.workers += usize::from(is_there);
            if jobs.workers == 0 {
                let job = jobs.waiting.pop_front();
                drop(jobs);
                if let Some((request, payload)) = job {
                    self.perform(&request, payload.whole());
                    let mut jobs = self.jobs();
                    jobs.bytes -= weight(&request);
                    jobs.count -= 1;
                }
                return;
            }
        }
        drop(jobs);
        self.work.notify_one();
    }

    fn buffer(&self) -> Payload {
        self.spare.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default()
    }

    fn give_back(&self, payload: Payload) {
        let mut spare = self.spare.lock().unwrap_or_else(PoisonError::into_inner);
        if (1..=KEPT_LEN).contains(&payload.bytes.capacity()) && spare.len() < KEPT {
            spare.push(payload);
        }
    }

    /// What speaks against a request before anything is done.
    fn judge(&self, request: &Request) -> Result<(), (Code, String)> {
        use flag::{DF, FAST_ZERO, FUA, NO_HOLE, REQ_ONE};
        let allowed = match request.command {
            Command::Read => DF | FUA,
            Command::Write | Command::Trim | Command::Flush | Command::Cache => FUA,
            Command::WriteZeroes => FUA | NO_HOLE | FAST_ZERO,
            Command::BlockStatus => REQ_ONE | FUA,
            Command::Disconnect => 0,
            Command::Unknown(number) => return Err((Code::Invalid, format!("command {number} is not known here"))),
        };
        if request.flags & !allowed != 0 {
            return Err((Code::Invalid, format!("the flags {:#x} do not belong to this command", request.flags)));
        }
        if request.has(DF) && !self.replies.structured {
            return Err((Code::Invalid, "structured replies were not asked for".to_owned()));
        }
        if matches!(request.command, Command::Flush | Command::Disconnect) {
            return Ok(());
        }
        let changes = matches!(request.command, Command::Write | Command::Trim | Command::WriteZeroes);
        if changes && self.export.writable().is_none() {
            return Err((Code::NotPermitted, format!("{} is served for reading only", self.export.name())));
        }
        let (offset, len, size) = (request.offset, u64::from(request.len), self.export.size());
        if offset.checked_add(len).is_none_or(|end| end > size) {
            let code = match request.command {
                Command::Write | Command::WriteZeroes => Code::NoSpace,
                _ => Code::Invalid,
            };
            return Err((code, format!("{len} bytes at byte {offset} reach past the end of {size} bytes")));
        }
        if request.command == Command::Read && request.len > self.limits.request {
            return Err((Code::Overflow, format!("one read is at most {} bytes", self.limits.request)));
        }
        if request.command == Command::BlockStatus && (request.len == 0 || self.contexts.is_empty()) {
            return Err((Code::Invalid, "block status has a length, and a context that was agreed on".to_owned()));
        }
        let sector = u64::from(self.export.logical_sector());
        if self.keeps_to_sectors && !(offset.is_multiple_of(sector) && len.is_multiple_of(sector)) {
            return Err((Code::Invalid, format!("{len} bytes at byte {offset} are not whole {sector}-byte sectors")));
        }
        Ok(())
    }

    /// Notes how a request ended, and tells trouble that is new, or over.
    pub(crate) fn note(&self, kind: RequestKind, result: Result<(), &zestful_sapling::Error>) {
        if let Some(trouble) = self.export.note(kind, result) {
            (self.trouble)(trouble.at(self.export.name()));
        }
    }

    /// Does a request and replies.
    fn perform(&self, request: &Request, payload: &[u8]) {
        let mut out = Vec::new();
        match self.carry_out(request, payload, &mut out) {
            Ok(Outcome::Replied) => {}
            Ok(Outcome::Done) => self.replies.done(&mut out, request.cookie),
            Err(error) => self.replies.error(&mut out, request.cookie, code_of(&error), &error.with_causes()),
        }
        if !out.is_empty() {
            self.send(&mut [IoSlice::new(&out)]);
        }
    }
}

/// What a request counts for; the payload of a write and the answer of a read are held in memory.
fn weight(request: &Request) -> usize {
    match request.command {
        Command::Read | Command::Write => request.len as usize,
        _ => 0,
    }
}

/// The thread that reads what a client sends.
struct Reader<'c, 'a> {
    client: &'c Client<'a>,
    /// Replies that wait to be sent together.
    batch: Vec<u8>,
    spawn: &'c dyn Fn() -> bool,
}

impl Reader<'_, '_> {
    fn send_batch(&mut self) {
        if !self.batch.is_empty() {
            self.client.send(&mut [IoSlice::new(&self.batch)]);
            self.batch.clear();
        }
    }

    fn run(&mut self, incoming: &mut Incoming) -> String {
        loop {
            if !incoming.has(Request::LEN) || self.batch.len() > TOGETHER {
                self.send_batch();
            }
            if self.client.is_gone() {
                return "it took no more replies".to_owned();
            }
            let mut bytes = [0; Request::LEN];
            match incoming.read(&mut bytes) {
                Ok(true) => {}
                Ok(false) => return "it ended the connection".to_owned(),
                Err(error) => return told(&error),
            }
            let Some(request) = Request::parse(&bytes) else {
                return "what came is no request of the protocol".to_owned();
            };
            if request.command == Command::Disconnect {
                return "it said goodbye".to_owned();
            }
            match self.take(request, incoming) {
                Ok(()) => {}
                Err(error) => return told(&error),
            }
        }
    }

    /// Takes what belongs to a request and does it, or hands it on.
    fn take(&mut self, request: Request, incoming: &mut Incoming) -> io::Result<()> {
        let client = self.client;
        let mut payload = Payload::default();
        if request.command == Command::Write {
            if request.len > client.limits.request {
                // Nobody reads past so much; where the next request would begin is not known then.
                return Err(io::Error::other(format!("it sent a write of {} bytes", request.len)));
            }
            let len = request.len as usize;
            if !incoming.has(len) {
                self.send_batch();
            }
            payload = client.buffer();
            payload.len = 0;
            // Space is taken as the bytes arrive: whoever promises much and sends little costs little.
            while payload.len < len {
                let upto = len.min(payload.len + (1 << 20));
                if payload.bytes.len() < upto {
                    payload.bytes.resize(upto, 0);
                }
                incoming.read_all(&mut payload.bytes[payload.len..upto])?;
                payload.len = upto;
            }
        }
        if let Err((code, message)) = client.judge(&request) {
            client.replies.error(&mut self.batch, request.cookie, code, &message);
            client.give_back(payload);
            return Ok(());
        }
        if request.len <= SMALL && !request.has(flag::FUA) && self.at_once(&request, payload.whole()) {
            client.give_back(payload);
            return Ok(());
        }
        self.send_batch();
        client.hand_on(request, payload, self.spawn);
        Ok(())
    }

    /// Does a small request if nothing has to be waited for.
    fn at_once(&mut self, request: &Request, payload: &[u8]) -> bool {
        let client = self.client;
        match request.command {
            Command::Read => {
                let begin = self.batch.len();
                client.replies.read_header(&mut self.batch, request);
                let from = self.batch.len();
                self.batch.resize(from + request.len as usize, 0);
                let done = matches!(client.export.read_at_once(&mut self.batch[from..], request.offset), Ok(true));
                if done {
                    client.note(RequestKind::Read, Ok(()));
                    client.count_read(u64::from(request.len));
                } else {
                    self.batch.truncate(begin);
                }
                done
            }
            Command::Write => {
                let disk = client.export.writable();
                let done = disk.is_some_and(|disk| matches!(disk.write_at_once(payload, request.offset), Ok(true)));
                if done {
                    client.note(RequestKind::Write, Ok(()));
                    client.count_written(u64::from(request.len));
                    client.replies.done(&mut self.batch, request.cookie);
                }
                done
            }
            _ => false,
        }
    }
}

fn told(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => "it ended in the middle of a request".to_owned(),
        io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe => "it broke the connection off".to_owned(),
        _ => error.to_string(),
    }
}
