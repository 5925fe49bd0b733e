//! Control sockets: what is attached is asked for, and ended, at a small socket of its process (docs/attach.md has the
//! protocol).

mod client;
mod protocol;
mod runtime;
mod server;

pub use client::{Attached, AttachedState, DetachError, attachments, detach};
pub use protocol::Description;
pub(crate) use protocol::{Answer, Ask};
pub use runtime::runtime_folder;
pub use server::ControlSocket;
