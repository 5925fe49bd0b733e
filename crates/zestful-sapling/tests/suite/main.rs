//! The library through its public interface: against a model, through crashes, and with hostile files.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test ends where it fails")]

mod acts;
mod beside;
mod chains;
mod corpus;
mod corpus_repairs;
mod crash;
mod damage;
mod damaged_chains;
mod diff;
mod edges;
mod failing;
mod family_crash;
mod family_model;
mod findings;
mod grove_crash;
mod grove_interleaved;
mod groves;
mod growing;
mod interleaved;
mod journals;
mod known_children;
mod layers;
mod machine;
mod matrix;
mod meanwhile;
mod model;
mod names;
mod new_disks;
mod onto;
mod operations;
mod partitions;
mod pins;
mod problems;
mod repair_crash;
mod repairs;
mod running;
mod salvages;
mod shared;
mod sidecars;
mod single_failures;
mod storages;
mod support;
mod unfinished;
