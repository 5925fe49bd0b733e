//! What comes before the first request: a client and the server agree on a disk, and on how they talk.

use std::io::{self, IoSlice};
use std::sync::Arc;
use std::time::Instant;

use rustls::ServerConfig;

use crate::export::{Catalogue, Export};
use crate::nbd::incoming::Incoming;
use crate::nbd::limits::Limits;
use crate::nbd::link::Link;
use crate::nbd::protocol::{
    FIXED_NEWSTYLE, Fields, INIT_MAGIC, MOST_TEXT, NO_ZEROES, OPTION_MAGIC, Replies, info, option, option_reply, reply,
    transmission,
};

/// Contexts of block status that are known, by their numbers.
pub(crate) const ALLOCATION: u32 = 1;
pub(crate) const LAYER: u32 = 2;
const CONTEXTS: [(u32, &str); 2] = [(ALLOCATION, "base:allocation"), (LAYER, "x-zsap:layer")];
/// The longest option that is looked at, and the longest that is read past.
const MOST_OPTION: u32 = 64 << 10;
const MOST_SKIPPED: u32 = 1 << 20;

/// What was agreed on.
pub(crate) struct Agreed {
    pub(crate) export: Arc<Export>,
    pub(crate) replies: Replies,
    /// The contexts that block status is told in.
    pub(crate) contexts: Vec<u32>,
    /// Whether the client knows of, and keeps to, the size of sectors.
    pub(crate) keeps_to_sectors: bool,
}

/// How a handshake ended without a disk.
pub(crate) enum Left {
    /// The client asked for what it wanted and went, or only looked whether somebody is there.
    Quietly,
    /// Something was wrong.
    Because(String),
}

impl From<io::Error> for Left {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => {
                Self::Because("it took too long over its first words".to_owned())
            }
            // Somebody who only looked whether a server is there.
            io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe => Self::Quietly,
            io::ErrorKind::UnexpectedEof => Self::Because("it ended in the middle of its first words".to_owned()),
            _ => Self::Because(error.to_string()),
        }
    }
}

/// What a server answers with.
pub(crate) struct Host<'a> {
    pub(crate) catalogue: &'a dyn Catalogue,
    pub(crate) tls: Option<&'a Arc<ServerConfig>>,
    pub(crate) limits: &'a Limits,
}

/// A handshake that is under way.
pub(crate) struct Handshake<'a> {
    host: Host<'a>,
    incoming: &'a mut Incoming,
    link: Arc<Link>,
    structured: bool,
    /// The contexts that were chosen, and for which disk.
    contexts: (String, Vec<u32>),
    no_zeroes: bool,
}

/// How it goes on after an option.
enum Next {
    Another,
    Over(Agreed),
}

impl<'a> Handshake<'a> {
    /// Talks until a disk is agreed on.
    pub(crate) fn run(host: Host<'a>, incoming: &'a mut Incoming) -> Result<Agreed, Left> {
        let link = incoming.link().clone();
        link.set_deadline(Some(Instant::now() + host.limits.handshake))?;
        let mut own = Self { host, incoming, link, structured: false, contexts: Default::default(), no_zeroes: false };
        let agreed = own.greet_and_haggle()?;
        own.link.set_deadline(None)?;
        Ok(agreed)
    }

    fn send(&self, bytes: &[u8]) -> io::Result<()> {
        self.link.write(&mut [IoSlice::new(bytes)])
    }

    fn answer(&self, option: u32, kind: u32, data: &[u8]) -> io::Result<()> {
        self.send(&option_reply(option, kind, data))
    }

    fn greet_and_haggle(&mut self) -> Result<Agreed, Left> {
        let mut hello = Vec::new();
        hello.extend(INIT_MAGIC.to_be_bytes());
        hello.extend(OPTION_MAGIC.to_be_bytes());
        hello.extend((FIXED_NEWSTYLE | NO_ZEROES).to_be_bytes());
        self.send(&hello)?;
        let mut flags = [0; 4];
        if !self.incoming.read(&mut flags)? {
            return Err(Left::Quietly);
        }
        let flags = u32::from_be_bytes(flags);
        if flags & !u32::from(FIXED_NEWSTYLE | NO_ZEROES) != 0 {
            return Err(Left::Because(format!("it began with flags that nobody knows: {flags:#x}")));
        }
        self.no_zeroes = flags & u32::from(NO_ZEROES) != 0;
        for _ in 0..self.host.limits.options {
            let mut header = [0; 16];
            if !self.incoming.read(&mut header)? {
                return Err(Left::Quietly);
            }
            let mut fields = Fields(&header);
            let (magic, option, len) = (fields.u64(), fields.u32(), fields.u32());
            let (Some(OPTION_MAGIC), Some(option), Some(len)) = (magic, option, len) else {
                return Err(Left::Because("what came is no option of the protocol".to_owned()));
            };
            if len > MOST_OPTION {
                if len > MOST_SKIPPED || option == option::EXPORT_NAME {
                    return Err(Left::Because(format!("it sent an option of {len} bytes")));
                }
                self.incoming.skip(len as usize)?;
                self.answer(option, reply::TOO_BIG, b"the option is too long")?;
                continue;
            }
            let mut data = vec![0; len as usize];
            self.incoming.read_all(&mut data)?;
            if let Next::Over(agreed) = self.handle(option, &data)? {
                return Ok(agreed);
            }
        }
        Err(Left::Because(format!("it sent more than {} options", self.host.limits.options)))
    }

    fn handle(&mut self, option: u32, data: &[u8]) -> Result<Next, Left> {
        if self.host.tls.is_some() && !self.link.is_secure() {
            match option {
                option::STARTTLS | option::ABORT => {}
                option::EXPORT_NAME => {
                    return Err(Left::Because("it did not ask for TLS, without which it gets nothing".into()));
                }
                _ => {
                    self.answer(option, reply::TLS_REQUIRED, b"this server talks under TLS only")?;
                    return Ok(Next::Another);
                }
            }
        }
        match option {
            option::EXPORT_NAME => return self.export_name(data).map(Next::Over),
            option::ABORT => {
                // The client may be gone before it hears this.
                _ = self.answer(option, reply::ACK, &[]);
                return Err(Left::Quietly);
            }
            option::LIST if data.is_empty() => self.list()?,
            option::STARTTLS if data.is_empty() => self.start_tls()?,
            option::STRUCTURED_REPLY if data.is_empty() => {
                self.structured = true;
                self.answer(option, reply::ACK, &[])?;
            }
            option::LIST | option::STARTTLS | option::STRUCTURED_REPLY => {
                self.answer(option, reply::INVALID, b"nothing belongs after this option")?;
            }
            option::INFO | option::GO => return self.info(option, data),
            option::LIST_META_CONTEXT | option::SET_META_CONTEXT => self.contexts(option, data)?,
            _ => self.answer(option, reply::UNSUPPORTED, b"this option is not known here")?,
        }
        Ok(Next::Another)
    }

    fn start_tls(&mut self) -> Result<(), Left> {
        let Some(config) = self.host.tls.filter(|_| !self.link.is_secure()) else {
            let already = self.link.is_secure();
            let (kind, why) = match already {
                true => (reply::INVALID, &b"TLS is there already"[..]),
                false => (reply::UNSUPPORTED, &b"this server has no certificate"[..]),
            };
            return Ok(self.answer(option::STARTTLS, kind, why)?);
        };
        if self.incoming.has(1) {
            // It would be taken for something that came under TLS, whoever put it there.
            return Err(Left::Because("something came before TLS was there".to_owned()));
        }
        self.answer(option::STARTTLS, reply::ACK, &[])?;
        self.link.start_tls(config).map_err(|error| match error.kind() {
            io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => Left::from(error),
            _ => Left::Because(format!("TLS did not come about: {error}")),
        })?;
        // What was agreed on before, anybody on the way may have said.
        (self.structured, self.contexts) = (false, Default::default());
        Ok(())
    }

    fn list(&self) -> io::Result<()> {
        for (name, description) in self.host.catalogue.list() {
            let mut data = (name.len() as u32).to_be_bytes().to_vec();
            data.extend(name.bytes());
            data.extend(description.bytes());
            self.answer(option::LIST, reply::SERVER, &data)?;
        }
        self.answer(option::LIST, reply::ACK, &[])
    }

    fn flags_of(&self, export: &Export) -> u16 {
        use transmission::{
            CAN_MULTI_CONN, HAS_FLAGS, READ_ONLY, SEND_CACHE, SEND_DF, SEND_FAST_ZERO, SEND_FLUSH, SEND_FUA, SEND_TRIM,
            SEND_WRITE_ZEROES,
        };
        let always = HAS_FLAGS | SEND_FLUSH | CAN_MULTI_CONN | SEND_CACHE;
        let structured = if self.structured { SEND_DF } else { 0 };
        always
            | structured
            | match export.writable() {
                Some(_) => SEND_FUA | SEND_TRIM | SEND_WRITE_ZEROES | SEND_FAST_ZERO,
                None => READ_ONLY,
            }
    }

    fn agree(&mut self, export: Arc<Export>, keeps_to_sectors: bool) -> Agreed {
        let (chosen_for, contexts) = std::mem::take(&mut self.contexts);
        let contexts = if chosen_for == export.name() || chosen_for.is_empty() { contexts } else { Vec::new() };
        Agreed { export, replies: Replies { structured: self.structured }, contexts, keeps_to_sectors }
    }

    fn export_name(&mut self, data: &[u8]) -> Result<Agreed, Left> {
        let name =
            std::str::from_utf8(data).map_err(|_| Left::Because("it asked for a name that is no text".into()))?;
        let export = self.host.catalogue.open(name).map_err(Left::Because)?;
        let mut out = export.size().to_be_bytes().to_vec();
        out.extend(self.flags_of(&export).to_be_bytes());
        if !self.no_zeroes {
            out.extend([0; 124]);
        }
        self.send(&out)?;
        Ok(self.agree(export, false))
    }

    fn info(&mut self, option: u32, data: &[u8]) -> Result<Next, Left> {
        let mut fields = Fields(data);
        let name = fields.text();
        let count = fields.u16().unwrap_or_default();
        let wanted: Option<Vec<u16>> = (0..count).map(|_| fields.u16()).collect();
        let (Some(name), Some(wanted), true) = (name, wanted, fields.is_empty()) else {
            self.answer(option, reply::INVALID, b"the option is not what its lengths say")?;
            return Ok(Next::Another);
        };
        if name.len() > MOST_TEXT {
            self.answer(option, reply::TOO_BIG, b"the name is too long")?;
            return Ok(Next::Another);
        }
        let export = match self.host.catalogue.open(name) {
            Ok(export) => export,
            Err(reason) => {
                let text = &reason.as_bytes()[..reason.floor_char_boundary(MOST_TEXT)];
                self.answer(option, reply::UNKNOWN, text)?;
                return Ok(Next::Another);
            }
        };
        let mut about = info::EXPORT.to_be_bytes().to_vec();
        about.extend(export.size().to_be_bytes());
        about.extend(self.flags_of(&export).to_be_bytes());
        self.answer(option, reply::INFO, &about)?;
        for kind in [info::NAME, info::DESCRIPTION, info::BLOCK_SIZE] {
            // A description costs little, and some clients show it that do not ask.
            if !wanted.contains(&kind) && kind != info::DESCRIPTION {
                continue;
            }
            let mut about = kind.to_be_bytes().to_vec();
            match kind {
                info::NAME => about.extend(export.name().bytes()),
                info::DESCRIPTION => about.extend(export.description().bytes()),
                _ => {
                    let sector = export.logical_sector();
                    let sizes = [sector, sector.max(4096), self.host.limits.request];
                    sizes.iter().for_each(|size| about.extend(size.to_be_bytes()));
                }
            }
            self.answer(option, reply::INFO, &about)?;
        }
        self.answer(option, reply::ACK, &[])?;
        match option {
            option::GO => Ok(Next::Over(self.agree(export, wanted.contains(&info::BLOCK_SIZE)))),
            _ => Ok(Next::Another),
        }
    }

    fn contexts(&mut self, option: u32, data: &[u8]) -> Result<(), Left> {
        let mut fields = Fields(data);
        let name = fields.text();
        let count = fields.u32().unwrap_or_default().min(MOST_OPTION);
        let queries: Option<Vec<&str>> = (0..count).map(|_| fields.text()).collect();
        let (Some(name), Some(queries), true) = (name, queries, fields.is_empty()) else {
            return Ok(self.answer(option, reply::INVALID, b"the option is not what its lengths say")?);
        };
        if !self.structured {
            return Ok(self.answer(option, reply::INVALID, b"structured replies come first")?);
        }
        let export = match self.host.catalogue.open(name) {
            Ok(export) => export,
            Err(reason) => return Ok(self.answer(option, reply::UNKNOWN, reason.as_bytes())?),
        };
        let is_list = option == option::LIST_META_CONTEXT;
        let mut chosen = Vec::new();
        for (number, context) in CONTEXTS {
            let namespace = context.split_inclusive(':').next().unwrap_or_default();
            let asked = |query: &&str| *query == context || is_list && *query == namespace;
            if queries.iter().any(asked) || is_list && queries.is_empty() {
                let mut about = (if is_list { 0 } else { number }).to_be_bytes().to_vec();
                about.extend(context.bytes());
                self.answer(option, reply::META_CONTEXT, &about)?;
                chosen.push(number);
            }
        }
        if !is_list {
            self.contexts = (export.name().to_owned(), chosen);
        }
        Ok(self.answer(option, reply::ACK, &[])?)
    }
}
