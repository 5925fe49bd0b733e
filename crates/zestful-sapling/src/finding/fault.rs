//! Why a structure of a file is none.

use thiserror::Error;

/// Why bytes are not the structure that should be there.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Fault {
    /// It does not begin as the structure does.
    #[error("the signature `{0}` is missing")]
    Signature(&'static str),
    /// It does not begin as the structure does, whose specification calls the signature a cookie.
    #[error("the cookie `{0}` is missing")]
    Cookie(&'static str),
    /// Its checksum is not that of its bytes.
    #[error("the checksum is wrong")]
    Checksum,
    /// It claims more entries than there can be.
    #[error("it claims {claimed} entries, at most {most} are legal")]
    Entries {
        /// The number that it gives.
        claimed: u64,
        /// The specification's limit.
        most: u64,
    },
}
