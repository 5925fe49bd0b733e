//! Lines that begin with a digest of their rest, so that one that is torn, or that time has changed, is told.

use serde::Serialize;

use crate::error::{Error, Result};

/// Hexadecimal digits of the digest before each line.
const DIGEST: usize = 16;

/// What a line says, if it is what was written.
pub(super) fn checked(line: &[u8]) -> Option<&[u8]> {
    let (digest, rest) = line.split_at_checked(DIGEST)?;
    // A space stands between them.
    let (_, text) = rest.split_first()?;
    (blake3::hash(text).to_hex().as_bytes()[..DIGEST] == *digest).then_some(text)
}

/// The line that says this, with its end.
pub(super) fn line(value: &impl Serialize) -> Result<Vec<u8>> {
    let text = serde_json::to_string(value).map_err(|error| {
        Error::usage(format!("the work cannot be recorded: {error}"), "report this, it should not happen")
    })?;
    let digest = blake3::hash(text.as_bytes()).to_hex();
    Ok(format!("{} {text}\n", &digest[..DIGEST]).into_bytes())
}
