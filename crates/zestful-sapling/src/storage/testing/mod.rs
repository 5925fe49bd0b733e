//! Equipment for tests, behind the feature `testing`: storage that fails on demand and tells every state in which a
//! loss of power could leave a file ([`FaultStorage`]), and a recorder of everything that this library changes below
//! a folder of the host ([`HostRecorder`]).

mod fault;
mod host_state;
mod recorder;

pub use super::changes::{FileChange, HostChange};
pub use fault::{CrashStates, Fault, FaultStorage, Recording};
pub use host_state::HostState;
pub use recorder::{HostRecorder, Pause};
