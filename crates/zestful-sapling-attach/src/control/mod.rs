//! Control sockets: what is attached is asked for, and ended, at a small socket of its process (docs/attach.md has the
//! protocol).

mod client;
mod grow;
mod protocol;
mod runtime;
mod server;
mod take;

pub(crate) use client::is_same;
pub use client::{Attached, AttachedState, DetachError, attachments, detach};
pub use grow::{GrowError, WritableDisk};
pub(crate) use protocol::{Answer, Ask, TakePlanned};
pub use protocol::{Description, TakeRequest};
pub use runtime::runtime_folder;
pub use server::ControlSocket;
pub use take::{RunningMachine, TakeError};
