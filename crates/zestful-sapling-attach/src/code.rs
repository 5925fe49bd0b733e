//! How clients learn that a request failed: by the numbers of Linux, which both protocols use.

use std::io;

use zestful_sapling::{Error, Refusal};

/// Why a request failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Code {
    NotPermitted = 1,
    Io = 5,
    Busy = 16,
    Invalid = 22,
    NoSpace = 28,
    ReadOnly = 30,
    Overflow = 75,
    NotSupported = 95,
}

/// What clients are told of this error.
pub(crate) fn code_of(error: &Error) -> Code {
    match error {
        Error::Usage(_) => Code::Invalid,
        Error::Refused(Refusal::NoSpace { .. }, _) => Code::NoSpace,
        Error::Io { source, .. } => match source.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded | io::ErrorKind::FileTooLarge => Code::NoSpace,
            io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => Code::NotPermitted,
            _ => Code::Io,
        },
        _ => Code::Io,
    }
}
