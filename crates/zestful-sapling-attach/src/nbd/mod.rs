//! The network block device protocol, fixed newstyle: a server for any number of clients.

mod client;
mod folder;
mod handshake;
mod incoming;
mod limits;
mod link;
mod machine;
mod on_demand;
mod protocol;
mod server;
mod tls;
mod work;

pub use folder::FolderCatalogue;
pub use limits::Limits;
pub use machine::MachineCatalogue;
pub use server::{Listener, Server, Stopper};
pub use tls::Tls;
