//! Virtual disk images: made, read, written, chained, copied and checked, safe against crashes.
//!
//! # Words
//! A *disk* is what a guest sees, an *image* is one file that holds a disk or one layer of it. A differencing image
//! records its *parent* and holds only what differs from it; image, parent, parent's parent and so on to the *base*
//! are a *chain*. Only the end of a chain, its *current* image, may be written to: a parent's file knows nothing of its
//! children, so nothing may change it behind their backs.
//!
//! # Where things are
//! Each module uses only those above it in this list.
//!
//! | module | holds |
//! |---|---|
//! | [`error`], [`finding`], [`size`], [`progress`], [`path_data`] | words that everything shares |
//! | [`storage`] | where bytes live: files with their holes and locks, devices, memory |
//! | [`image`] | one image file of a format, alone |
//! | [`chain`] | a disk as the guest sees it: an image and its parents |
//! | [`guest`] | what lies inside a disk: partition tables, volumes, files |
//! | [`family`] | who depends on whom: the tree of a folder, its status, and what speaks against a change |
//! | [`check`], [`ops`] | verifying; making, deriving, copying, merging, moving: each asked for, planned, run |
//! | [`safety`], [`formats`], [`findings`] | pages: the state after a crash, the formats, what `check` finds |
//!
//! Everything that can be asked for is an [`Operation`](ops::Operation): `new` and setters, `plan()`, which changes
//! nothing, and the plan's `run(&Progress)`. To read or write a disk open a [`Chain`](chain::Chain) or a
//! [`ChainMut`](chain::ChainMut); to see a folder ask for its [`Family`](family::Family) or its
//! [`Status`](family::Status).
//!
//! # An example
//! ```
//! use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
//! use zestful_sapling::ops::{Derive, Make, Operation, Planned};
//! use zestful_sapling::progress::Progress;
//!
//! # fn main() -> zestful_sapling::Result<()> {
//! # let folder = tempfile::tempdir().unwrap();
//! let base = folder.path().join("fen-base.vhdx");
//! let child = folder.path().join("germination-01.vhdx");
//! Make::new(&base, 64 << 30).plan()?.run(&Progress::new())?;
//! Derive::new(&base, vec![child.clone()]).plan()?.run(&Progress::new())?;
//!
//! let mut disk = ChainMut::open(&child, &OpenOptions::new())?;
//! disk.write_at(b"Caltha palustris", 40 << 30)?;
//! disk.close()?;
//!
//! let disk = Chain::open(&child, &OpenOptions::new())?;
//! let mut name = [0; 16];
//! disk.read_at(&mut name, 40 << 30)?;
//! assert_eq!(&name, b"Caltha palustris");
//! # Ok(())
//! # }
//! ```
//!
//! # Errors
//! [`Error`] has a family for each answer that a user may have to give: *damaged* files want a check and a backup,
//! *unsupported* ones a newer version, *usage* another call, *refused* a decision, *I/O* a look at the host. Each says
//! what, where, why and what to do; a [`Refusal`] carries the facts, so that a caller can decide:
//!
//! ```
//! use zestful_sapling::Error;
//! use zestful_sapling::error::Refusal;
//! use zestful_sapling::ops::{Merge, Operation, Planned};
//! use zestful_sapling::progress::Progress;
//!
//! fn merge_or_say_who_is_in_the_way(child: &str) -> Result<(), Error> {
//!     match Merge::new(child).plan() {
//!         Ok(plan) => plan.run(&Progress::new()).map(|outcome| println!("{} bytes moved", outcome.bytes_moved)),
//!         Err(Error::Refused(Refusal::InUse { path, holder }, _)) => {
//!             let who = holder.map_or_else(|| "somebody".to_owned(), |holder| holder.name);
//!             println!("{} is used by {who}: try again later", path.display());
//!             Ok(())
//!         }
//!         Err(other) => Err(other),
//!     }
//! }
//! ```
//!
//! # After a crash
//! At every moment the files are valid images that hold all that was flushed; a new file stands under its name whole or
//! not at all. Work that spans several files is recorded in a journal before it begins, and can be carried on or given
//! up. [`safety`] gives the argument.

mod bounded;
mod bytes;
pub mod chain;
pub mod check;
pub mod error;
pub mod family;
pub mod finding;
pub mod grove;
pub mod guest;
pub mod image;
mod inside;
mod operation;
pub mod ops;
pub mod path_data;
mod program;
pub mod progress;
pub mod ranges;
mod refusal;
pub mod repair;
mod sidecar;
pub mod size;
pub mod storage;
mod transfer;

pub use error::{Error, Refusal, Result};

#[doc = include_str!("../docs/safety.md")]
pub mod safety {}

#[doc = include_str!("../docs/formats.md")]
pub mod formats {}

#[doc = include_str!("../docs/findings.md")]
pub mod findings {}
