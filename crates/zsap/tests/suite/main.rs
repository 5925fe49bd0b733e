//! The real command, as its users meet it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test ends where it fails")]

mod advice;
mod command;
mod cut_short;
mod devices;
mod documents;
mod edges;
mod killed_merges;
mod limits;
mod real_file_system;
mod scene;
mod snapshots;
