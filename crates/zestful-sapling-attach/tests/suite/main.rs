//! The server as its clients see it: a small client of our own says what real ones never would.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test ends where it fails")]

mod client;
mod durable;
mod handshake;
mod misuse;
mod requests;
mod scene;
mod tls;
