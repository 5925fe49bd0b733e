//! Which format a file has. Never a guess: a signature decides, and raw must be said.

use std::path::Path;

use super::{Format, vhdx};
use crate::error::{Error, Refusal, Result};
use crate::finding::Finding;
use crate::storage::ReadAt;

/// The format that a file's name speaks of, by its ending.
///
/// ```
/// use zestful_sapling::image::{Format, format_of_name};
/// assert_eq!(format_of_name("fen-base.VHDX".as_ref()), Some(Format::Vhdx));
/// assert_eq!(format_of_name("notes.txt".as_ref()), None);
/// ```
pub fn format_of_name(path: &Path) -> Option<Format> {
    match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
        "raw" | "img" => Some(Format::Raw),
        "vhdx" => Some(Format::Vhdx),
        _ => None,
    }
}

/// The format of the file behind `storage`: `named`, when given, rules; otherwise its signature and its name must not
/// contradict each other.
///
/// # Errors
/// `Refused` when a file called raw carries another format's signature (a guest may have written it there);
/// `Damaged` when the signature that the name promises is missing; `Usage` when neither says what it is;
/// `Unsupported` for a format that is not there yet.
pub fn probe(storage: &dyn ReadAt, named: Option<Format>) -> Result<Format> {
    if let Some(format) = named {
        return Ok(format);
    }
    let path = storage.path();
    let by_name = format_of_name(path);
    match (signature(storage)?, by_name) {
        (Some(found), Some(Format::Raw)) => Err(Error::refused(
            Refusal::FormatDisagrees,
            format!("{} is called raw by its name, but begins or ends like a {found} image", path.display()),
            "say which it is with the format option; a guest can write such a signature into a raw disk",
        )),
        (Some("vhdx"), _) => Ok(Format::Vhdx),
        (Some(_), _) => Err(Error::Unsupported(Box::new(
            Finding::unsupported("vhd", "footer", 0, "the image is in the VHD format, which is not there yet").at(path),
        ))),
        (None, Some(Format::Raw)) => Ok(Format::Raw),
        (None, Some(Format::Vhdx)) => Err(Error::Damaged(Box::new(
            Finding::fatal("vhdx-signature", "file type identifier", 0, "the signature `vhdxfile` is missing").at(path),
        ))),
        (None, None) => Err(Error::usage(
            format!("{} carries no signature of an image format", path.display()),
            "if it is a raw disk say so with the format option, or give it the ending .raw",
        )),
    }
}

fn signature(storage: &dyn ReadAt) -> Result<Option<&'static str>> {
    let len = storage.len()?;
    let read = |offset: u64| -> Result<[u8; 8]> {
        let mut bytes = [0; 8];
        if offset.checked_add(8).is_some_and(|end| end <= len) {
            storage.read_at(&mut bytes, offset)?;
        }
        Ok(bytes)
    };
    let head = read(0)?;
    if head == *vhdx::SIGNATURE {
        return Ok(Some("vhdx"));
    }
    for offset in [Some(0), len.checked_sub(512), len.checked_sub(511)].into_iter().flatten() {
        if read(offset)? == *b"conectix" {
            return Ok(Some("vhd"));
        }
    }
    Ok(None)
}
