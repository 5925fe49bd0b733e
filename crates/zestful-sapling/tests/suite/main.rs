//! The library through its public interface: against a model, through crashes, and with hostile files.

mod chains;
mod corpus;
mod crash;
mod damage;
mod layers;
mod model;
mod operations;
mod storages;
mod world;
