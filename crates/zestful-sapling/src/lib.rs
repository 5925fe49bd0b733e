//! Virtual disk images: made, read, written, chained, copied and checked, safe against crashes.
#![doc = ""]
mod bytes;
pub mod chain;
pub mod check;
pub mod error;
pub mod finding;
pub mod image;
pub mod ops;
pub mod progress;
pub mod size;
pub mod storage;

pub use error::{Error, Result};
