//! A connection to a client, whatever carries it: a Unix socket or TCP, plain or under TLS. One thread reads while
//! others write.

use std::io::{self, IoSlice, Read, Write};
use std::net::{Shutdown, TcpStream};
use std::os::unix::net::UnixStream;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustls::{ServerConfig, ServerConnection};

use crate::socket::peer_of;

/// What a connection goes through.
#[derive(Debug)]
pub(crate) enum Socket {
    Unix(UnixStream),
    Tcp(TcpStream),
}

impl Socket {
    fn set_read_timeout(&self, limit: Option<Duration>) -> io::Result<()> {
        match self {
            Self::Unix(socket) => socket.set_read_timeout(limit),
            Self::Tcp(socket) => socket.set_read_timeout(limit),
        }
    }

    fn set_write_timeout(&self, limit: Option<Duration>) -> io::Result<()> {
        match self {
            Self::Unix(socket) => socket.set_write_timeout(limit),
            Self::Tcp(socket) => socket.set_write_timeout(limit),
        }
    }

    fn shutdown(&self, how: Shutdown) -> io::Result<()> {
        match self {
            Self::Unix(socket) => socket.shutdown(how),
            Self::Tcp(socket) => socket.shutdown(how),
        }
    }

    fn read(&self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Unix(socket) => (&*socket).read(buffer),
            Self::Tcp(socket) => (&*socket).read(buffer),
        }
    }

    fn write_vectored(&self, parts: &[IoSlice<'_>]) -> io::Result<usize> {
        match self {
            Self::Unix(socket) => (&*socket).write_vectored(parts),
            Self::Tcp(socket) => (&*socket).write_vectored(parts),
        }
    }

    /// Who is at the other end, for people.
    pub(crate) fn peer(&self) -> String {
        match self {
            Self::Unix(socket) => peer_of(socket),
            Self::Tcp(socket) => socket.peer_addr().map_or_else(|_| "a host".to_owned(), |peer| peer.to_string()),
        }
    }
}

/// A connection of which one thread reads and many write.
pub(crate) struct Link {
    socket: Socket,
    tls: Mutex<Option<ServerConnection>>,
    is_secure: std::sync::OnceLock<()>,
    sealed: Mutex<Sealed>,
    /// Whole messages take turns.
    writing: Mutex<Vec<u8>>,
    /// Until when the handshake must be over.
    deadline: Mutex<Option<Instant>>,
}

/// What came from the socket and was not opened yet.
struct Sealed {
    bytes: Box<[u8]>,
    start: usize,
    end: usize,
    is_over: bool,
}

impl Sealed {
    fn rest(&self) -> &[u8] {
        &self.bytes[self.start..self.end]
    }
}

/// What is taken from the socket at once, under TLS.
const RAW: usize = 64 << 10;

impl Link {
    pub(crate) fn new(socket: Socket) -> Self {
        if let Socket::Tcp(socket) = &socket {
            // A reply is one write; waiting for more to send would only make it late. A dead client is found out.
            _ = socket.set_nodelay(true);
            _ = rustix::net::sockopt::set_socket_keepalive(socket, true);
            _ = rustix::net::sockopt::set_tcp_keepidle(socket, Duration::from_secs(60));
        }
        Self {
            socket,
            tls: Mutex::new(None),
            is_secure: std::sync::OnceLock::new(),
            sealed: Mutex::new(Sealed { bytes: Box::default(), start: 0, end: 0, is_over: false }),
            writing: Mutex::default(),
            deadline: Mutex::new(None),
        }
    }

    pub(crate) fn peer(&self) -> String {
        self.socket.peer()
    }

    pub(crate) fn is_secure(&self) -> bool {
        self.is_secure.get().is_some()
    }

    /// From now on reading and writing fail when they are not done by then.
    pub(crate) fn set_deadline(&self, deadline: Option<Instant>) -> io::Result<()> {
        *self.deadline.lock().unwrap_or_else(PoisonError::into_inner) = deadline;
        if deadline.is_none() {
            self.socket.set_read_timeout(None)?;
            self.socket.set_write_timeout(None)?;
        }
        Ok(())
    }

    fn arm(&self) -> io::Result<()> {
        let Some(deadline) = *self.deadline.lock().unwrap_or_else(PoisonError::into_inner) else { return Ok(()) };
        let left = deadline.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        self.socket.set_read_timeout(Some(left))?;
        self.socket.set_write_timeout(Some(left))
    }

    /// No more requests are read; those who wait for one learn that the client has ended.
    pub(crate) fn stop_reading(&self) {
        _ = self.socket.shutdown(Shutdown::Read);
    }

    /// Nothing goes through any more.
    pub(crate) fn cut(&self) {
        _ = self.socket.shutdown(Shutdown::Both);
    }

    fn tls(&self) -> MutexGuard<'_, Option<ServerConnection>> {
        self.tls.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Everything after this is under TLS; the handshake is part of it.
    pub(crate) fn start_tls(&self, config: &std::sync::Arc<ServerConfig>) -> io::Result<()> {
        let mut connection = ServerConnection::new(config.clone()).map_err(io::Error::other)?;
        while connection.is_handshaking() {
            connection.complete_io(&mut Plain(self))?;
        }
        *self.tls() = Some(connection);
        self.sealed.lock().unwrap_or_else(PoisonError::into_inner).bytes = vec![0; RAW].into();
        _ = self.is_secure.set(());
        Ok(())
    }

    /// Some bytes; none at the client's end.
    pub(crate) fn read(&self, buffer: &mut [u8]) -> io::Result<usize> {
        self.arm()?;
        if !self.is_secure() {
            return retry(|| self.socket.read(buffer));
        }
        let mut sealed = self.sealed.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(connection) = &mut *self.tls() {
                match connection.reader().read(buffer) {
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                    Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(0),
                    other => return other,
                }
                // A record at a time: what is opened has room in the connection, and is taken before the next.
                if !sealed.rest().is_empty() || sealed.is_over {
                    let taken = connection.read_tls(&mut sealed.rest())?;
                    sealed.start += taken;
                    connection.process_new_packets().map_err(io::Error::other)?;
                    if taken > 0 || !sealed.is_over {
                        continue;
                    }
                    return Ok(0);
                }
            }
            // Nobody who writes waits for this.
            let len = retry(|| self.socket.read(&mut sealed.bytes))?;
            (sealed.start, sealed.end, sealed.is_over) = (0, len, len == 0);
        }
    }

    /// Writes a whole message, in parts; nothing of another one comes between.
    pub(crate) fn write(&self, parts: &mut [IoSlice<'_>]) -> io::Result<()> {
        let mut message = self.writing.lock().unwrap_or_else(PoisonError::into_inner);
        self.arm()?;
        if !self.is_secure() {
            return self.write_plain(parts);
        }
        for part in parts {
            // Sealed a piece at a time, so that no second copy of a large reply is held.
            for piece in part.chunks(64 << 10) {
                message.clear();
                if let Some(connection) = &mut *self.tls() {
                    connection.writer().write_all(piece)?;
                    while connection.wants_write() {
                        connection.write_tls(&mut *message)?;
                    }
                }
                self.write_plain(&mut [IoSlice::new(&message)])?;
            }
        }
        Ok(())
    }

    fn write_plain(&self, mut parts: &mut [IoSlice<'_>]) -> io::Result<()> {
        IoSlice::advance_slices(&mut parts, 0);
        while !parts.is_empty() {
            match retry(|| self.socket.write_vectored(parts))? {
                0 => return Err(io::ErrorKind::WriteZero.into()),
                len => IoSlice::advance_slices(&mut parts, len),
            }
        }
        Ok(())
    }
}

fn retry(mut act: impl FnMut() -> io::Result<usize>) -> io::Result<usize> {
    loop {
        match act() {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            other => return other,
        }
    }
}

/// The socket itself, for the handshake of TLS; the time that is left counts for each step.
struct Plain<'a>(&'a Link);

impl Read for Plain<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.arm()?;
        self.0.socket.read(buffer)
    }
}

impl Write for Plain<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.arm()?;
        self.0.socket.write_vectored(&[IoSlice::new(bytes)])
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
