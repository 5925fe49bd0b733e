//! The real command, as its users meet it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test ends where it fails")]

mod advice;
mod attached;
#[path = "../../../zestful-sapling-attach/tests/suite/client.rs"]
#[allow(dead_code, reason = "the server's own tests use all of it")]
mod client;
mod command;
mod compacting;
mod cut_short;
mod devices;
mod documents;
mod edges;
mod exposing;
mod groves;
mod inside;
mod killed_merges;
mod learning;
mod limits;
mod messy;
mod readme;
mod real_file_system;
mod repairing;
mod resizing;
mod running;
mod scene;
mod scripting;
mod served;
mod serving;
mod several;
mod shown;
mod snapshots;
mod statuses;
mod streams;
mod volumes;
