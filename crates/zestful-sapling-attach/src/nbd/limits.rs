//! How much a server does for whoever comes.

use std::time::Duration;

/// Limits of a server. The default ones are those of a host with a few dozen guests.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Limits {
    /// The largest read or write, in bytes.
    pub request: u32,
    /// The most options in a handshake.
    pub options: usize,
    /// The most clients at a time.
    pub clients: usize,
    /// Bytes of requests that one client may have under way; one request of the largest size always may be.
    pub bytes_in_flight: usize,
    /// Requests of one client that are worked on at a time.
    pub requests_at_once: usize,
    /// The time that a handshake may take.
    pub handshake: Duration,
    /// The time that clients get at the end to take their last replies.
    pub farewell: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            request: 32 << 20,
            options: 100,
            clients: 64,
            bytes_in_flight: 32 << 20,
            requests_at_once: 16,
            handshake: Duration::from_secs(10),
            farewell: Duration::from_secs(10),
        }
    }
}
