//! A server: it takes clients in, watches over how many there are, and ends cleanly.

use std::collections::BTreeMap;
use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::net::UnixStream;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, poll};
use zestful_sapling::path_data::PathData;

use crate::error::AttachError;
use crate::event::Event;
use crate::export::Catalogue;
use crate::front::{Counters, Ending, Front, InUse, Moved, Place};
use crate::nbd::client::Client;
use crate::nbd::handshake::{Handshake, Host, Left};
use crate::nbd::incoming::Incoming;
use crate::nbd::limits::Limits;
use crate::nbd::link::{Link, Socket};
use crate::nbd::tls::Tls;
use crate::socket::UnixSocket;

/// Connections that have no disk yet.
const MOST_TALKING: usize = 64;
/// How often it is told that clients are turned away for their number.
const BETWEEN_WORDS: Duration = Duration::from_secs(10);

/// Where clients come in.
#[derive(Debug)]
pub enum Listener {
    /// A socket of this host.
    Unix(UnixSocket),
    /// An address of the network.
    Tcp(TcpListener),
}

impl Listener {
    /// Listens at an address of the network.
    ///
    /// # Errors
    /// `Io`.
    pub fn tcp(address: SocketAddr) -> Result<Self, AttachError> {
        let listener = TcpListener::bind(address).map_err(|e| AttachError::io(format!("listen at {address}"), e))?;
        Ok(Self::Tcp(listener))
    }

    fn accept(&self) -> io::Result<Socket> {
        match self {
            Self::Unix(socket) => socket.listener.accept().map(|(socket, _)| Socket::Unix(socket)),
            Self::Tcp(listener) => listener.accept().map(|(socket, _)| Socket::Tcp(socket)),
        }
    }

    fn set_nonblocking(&self) -> io::Result<()> {
        match self {
            Self::Unix(socket) => socket.listener.set_nonblocking(true),
            Self::Tcp(listener) => listener.set_nonblocking(true),
        }
    }

    /// Where clients find it, for a disk of this name.
    pub fn uri(&self, export: &str, tls: bool) -> String {
        let name = percent(export, b"-._~");
        let secure = if tls { "nbds" } else { "nbd" };
        match self {
            Self::Unix(socket) => {
                let path = percent(&socket.path().to_string_lossy(), b"-._~/");
                format!("{secure}+unix:///{name}?socket={path}")
            }
            Self::Tcp(listener) => match listener.local_addr() {
                Ok(address) => format!("{secure}://{address}/{name}"),
                Err(_) => format!("{secure}:///{name}"),
            },
        }
    }
}

impl AsFd for Listener {
    fn as_fd(&self) -> BorrowedFd<'_> {
        match self {
            Self::Unix(socket) => socket.listener.as_fd(),
            Self::Tcp(listener) => listener.as_fd(),
        }
    }
}

/// A text in a URI: all but letters, digits and `plain` as numbers.
fn percent(text: &str, plain: &[u8]) -> String {
    let one = |byte: u8| match byte.is_ascii_alphanumeric() || plain.contains(&byte) {
        true => char::from(byte).to_string(),
        false => format!("%{byte:02X}"),
    };
    text.bytes().map(one).collect()
}

/// Serves the disks of a catalogue until it is told to stop.
pub struct Server {
    listener: Listener,
    catalogue: Arc<dyn Catalogue>,
    tls: Option<Tls>,
    limits: Limits,
    stop: Arc<Stop>,
    wake: UnixStream,
    clients: Mutex<Clients>,
    left: Condvar,
    counters: Counters,
}

#[derive(Default)]
struct Clients {
    last: u64,
    links: BTreeMap<u64, (Arc<Link>, Stage)>,
    told: Option<Instant>,
}

/// How far a client is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// It has said nothing that counts so far.
    Talking,
    HasDisk,
}

impl Clients {
    fn count(&self, stage: Stage) -> usize {
        self.links.values().filter(|(_, found)| *found == stage).count()
    }
}

struct Stop {
    asked: AtomicBool,
    wake: UnixStream,
}

/// Ends a server from elsewhere, such as from where signals are taken.
#[derive(Clone)]
pub struct Stopper(Arc<Stop>);

impl Stopper {
    /// No new clients and no new requests: what was begun is done, replied to, and made durable, and
    /// [`Server::run`] returns.
    pub fn stop(&self) {
        self.0.asked.store(true, Ordering::Release);
        _ = (&self.0.wake).write(&[1]);
    }
}

impl Server {
    /// A server that takes clients in at `listener`; with `tls`, only under TLS.
    ///
    /// # Errors
    /// `Io`.
    pub fn new(
        listener: Listener,
        catalogue: Arc<dyn Catalogue>,
        tls: Option<Tls>,
        limits: Limits,
    ) -> Result<Self, AttachError> {
        let (wake, other) = UnixStream::pair().map_err(|e| AttachError::io("make a pair of sockets", e))?;
        listener.set_nonblocking().map_err(|e| AttachError::io("listen without waiting", e))?;
        let stop = Arc::new(Stop { asked: AtomicBool::new(false), wake: other });
        let (clients, left, counters) = (Mutex::default(), Condvar::new(), Counters::default());
        Ok(Self { listener, catalogue, tls, limits, stop, wake, clients, left, counters })
    }

    /// Where clients come in.
    pub fn listener(&self) -> &Listener {
        &self.listener
    }

    /// What ends it.
    pub fn stopper(&self) -> Stopper {
        Stopper(self.stop.clone())
    }

    /// Takes clients in until it is told to stop, and then waits for what they have under way. A client that does not
    /// take its last replies is left after [`Limits::farewell`].
    ///
    /// `events` is called from many threads.
    ///
    /// # Errors
    /// `Io` when the host takes no connections any more.
    pub fn run(&self, events: &(dyn Fn(Event) + Sync)) -> Result<(), AttachError> {
        std::thread::scope(|scope| {
            let ended = self.take_in(scope, events);
            self.say_farewell();
            ended
        })
    }

    fn clients(&self) -> MutexGuard<'_, Clients> {
        self.clients.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn take_in<'s>(
        &'s self,
        scope: &'s std::thread::Scope<'s, '_>,
        events: &'s (dyn Fn(Event) + Sync),
    ) -> Result<(), AttachError> {
        while !self.stop.asked.load(Ordering::Acquire) {
            let mut waited = [PollFd::new(&self.listener, PollFlags::IN), PollFd::new(&self.wake, PollFlags::IN)];
            match poll(&mut waited, None) {
                Ok(_) | Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(AttachError::io("wait for clients", error)),
            }
            match self.listener.accept() {
                Ok(socket) => self.welcome(scope, Arc::new(Link::new(socket)), events),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                // A client that went again, or a host that is out of something: neither ends the others.
                Err(_) => std::thread::sleep(Duration::from_millis(20)),
            }
        }
        let mut waste = [0];
        _ = (&self.wake).read(&mut waste);
        Ok(())
    }

    fn welcome<'s>(
        &'s self,
        scope: &'s std::thread::Scope<'s, '_>,
        link: Arc<Link>,
        events: &'s (dyn Fn(Event) + Sync),
    ) {
        let mut clients = self.clients();
        // Those who only talk never keep anybody out: the one that has talked longest goes.
        let talking = clients.links.iter().find(|(_, (_, stage))| *stage == Stage::Talking);
        if let Some(longest) = talking.map(|(number, _)| *number)
            && clients.count(Stage::Talking) >= MOST_TALKING
            && let Some((link, _)) = clients.links.remove(&longest)
        {
            link.cut();
        }
        if clients.count(Stage::HasDisk) >= self.limits.clients {
            if clients.told.is_none_or(|told| told.elapsed() > BETWEEN_WORDS) {
                clients.told = Some(Instant::now());
                let reason = format!("there are {} clients already, the most that there may be", self.limits.clients);
                drop(clients);
                events(Event::TurnedAway { peer: link.peer(), reason });
            }
            return;
        }
        clients.last += 1;
        let number = clients.last;
        clients.links.insert(number, (link.clone(), Stage::Talking));
        drop(clients);
        let worker = std::thread::Builder::new().stack_size(512 << 10);
        let work = move || {
            let _leaving = Leaving { server: self, number };
            // A mistake of ours in one client's request ends that client and nobody else.
            let attended = catch_unwind(AssertUnwindSafe(|| self.attend(number, &link, events)));
            if attended.is_err() {
                let reason = "the server made a mistake with one of its requests".to_owned();
                events(Event::ClientWent { client: number, export: None, reason, bytes_read: 0, bytes_written: 0 });
            }
        };
        if worker.spawn_scoped(scope, work).is_err() {
            self.forget(number);
        }
    }

    fn forget(&self, number: u64) {
        if let Some((link, _)) = self.clients().links.remove(&number) {
            link.cut();
        }
        self.left.notify_all();
    }

    /// Whether one more may have a disk.
    fn admit(&self, number: u64) -> bool {
        let mut clients = self.clients();
        let has_room = clients.count(Stage::HasDisk) < self.limits.clients;
        match clients.links.get_mut(&number).filter(|_| has_room) {
            Some((_, stage)) => {
                *stage = Stage::HasDisk;
                true
            }
            None => false,
        }
    }

    /// Everything about one client.
    fn attend(&self, number: u64, link: &Arc<Link>, events: &(dyn Fn(Event) + Sync)) {
        let peer = link.peer();
        let mut incoming = Incoming::new(link.clone());
        let host = Host { catalogue: &*self.catalogue, tls: self.tls.as_ref().map(|tls| &tls.0), limits: &self.limits };
        let agreed = match Handshake::run(host, &mut incoming) {
            Ok(agreed) => agreed,
            Err(Left::Quietly) => return,
            Err(Left::Because(reason)) => return events(Event::TurnedAway { peer, reason }),
        };
        if !self.admit(number) {
            let reason = format!("there are {} clients already, the most that there may be", self.limits.clients);
            return events(Event::TurnedAway { peer, reason });
        }
        let export = agreed.export.name().to_owned();
        events(Event::ClientCame { client: number, peer, export: export.clone(), encrypted: link.is_secure() });
        let client = Client::new(link.clone(), agreed, &self.limits, &self.counters, events);
        let mut reason = client.serve(&mut incoming);
        if self.stop.asked.load(Ordering::Acquire) {
            reason = "the server ends".to_owned();
        }
        let moved = client.moved();
        events(Event::ClientWent {
            client: number,
            export: Some(export),
            reason,
            bytes_read: moved.read,
            bytes_written: moved.written,
        });
    }

    /// What clients have under way is done; those that take no replies are left in the end.
    fn say_farewell(&self) {
        let mut clients = self.clients();
        clients.links.values().for_each(|(link, _)| link.stop_reading());
        let until = Instant::now() + self.limits.farewell;
        while !clients.links.is_empty() {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return clients.links.values().for_each(|(link, _)| link.cut());
            }
            (clients, _) = self.left.wait_timeout(clients, left).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

impl Front for Server {
    fn run(&self, events: &(dyn Fn(Event) + Sync)) -> Result<(), AttachError> {
        Self::run(self, events)
    }

    fn end(&self, ending: Ending) -> Result<(), InUse> {
        let clients = self.clients();
        let with_disk = clients.links.values().filter(|(_, stage)| *stage == Stage::HasDisk);
        let holders: Vec<String> = with_disk.map(|(link, _)| format!("a client, {}", link.peer())).collect();
        drop(clients);
        if ending == Ending::Asked && !holders.is_empty() {
            return Err(InUse { holders });
        }
        self.stopper().stop();
        Ok(())
    }

    fn place(&self) -> Place {
        match &self.listener {
            Listener::Unix(socket) => Place::Socket { socket: PathData::from(socket.path()) },
            Listener::Tcp(listener) => Place::Address {
                address: listener.local_addr().map_or_else(|error| error.to_string(), |address| address.to_string()),
            },
        }
    }

    fn users(&self) -> usize {
        self.clients().count(Stage::HasDisk)
    }

    fn moved(&self) -> Moved {
        self.counters.moved()
    }

    /// Clients ask for the size when they come.
    fn has_grown(&self) {}
}

/// However it ends, a client is forgotten.
struct Leaving<'a> {
    server: &'a Server,
    number: u64,
}

impl Drop for Leaving<'_> {
    fn drop(&mut self) {
        self.server.forget(self.number);
    }
}
