//! Which format a file has. Never a guess: a signature decides, and raw must be said.

use std::path::Path;

use super::{Format, vhd, vhdx};
use crate::error::{Error, Refusal, Result};
use crate::finding::{Fault, Finding, VhdFinding, VhdxFinding};
use crate::storage::{Medium, ReadAt};

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
        "vhd" => Some(Format::Vhd),
        "vhdx" => Some(Format::Vhdx),
        _ => None,
    }
}

/// The format of the file behind `storage`: `named`, when given, rules; otherwise its signature and its name must not
/// contradict each other.
///
/// # Errors
/// `Refused` when name and signature speak of different formats (a guest may have written a signature into its disk);
/// `Damaged` when the signature that the name promises is missing; `Usage` when neither says what it is.
pub fn probe(storage: &dyn ReadAt, named: Option<Format>) -> Result<Format> {
    if let Some(format) = named {
        return Ok(format);
    }
    let path = storage.path();
    let spoken_of = match storage.medium() {
        Medium::File => format_of_name(path),
        // The descriptor names the format.
        Medium::Pieces { .. } => return Ok(Format::Raw),
        Medium::Device { .. } => Some(Format::Raw),
    };
    let found = signatures(storage)?;
    match (spoken_of, found.as_slice()) {
        // A fixed VHD disk may well begin with an image that its guest put there; its own name and footer decide.
        (Some(format), found) if found.contains(&format) => Ok(format),
        (Some(Format::Raw), []) => Ok(Format::Raw),
        (Some(format), []) => {
            let end = storage.len()?.saturating_sub(vhd::SECTOR);
            let finding = match format {
                Format::Vhd => Finding::new(VhdFinding::Footer { fault: Fault::Cookie("conectix") }, end),
                _ => Finding::new(VhdxFinding::Signature, 0),
            };
            Err(finding.at(path).into())
        }
        (None, [only]) => Ok(*only),
        (None, []) => Err(Error::usage(
            format!("{} carries no signature of an image format", path.display()),
            "if it is a raw disk name that format, or give it the ending .raw",
        )),
        (name, found) => {
            let found: Vec<String> = found.iter().map(|format| format!("a {format} image")).collect();
            let name = match (storage.medium(), name) {
                (Medium::Device { .. }, _) => format!("{} is a device, which is a raw disk", path.display()),
                (_, Some(format)) => format!("the name of {} says {format}", path.display()),
                (_, None) => format!("the name of {} speaks of no format", path.display()),
            };
            Err(Error::refused(
                Refusal::FormatDisagrees { path: path.to_owned(), in_content: true },
                format!("{name}, but it begins or ends like {}", found.join(" and ")),
                "say which format it is; a guest can write such a signature into its disk",
            ))
        }
    }
}

/// Refuses a format, named with an option, that contradicts what the file's name says.
///
/// # Errors
/// `Refused` when the two differ; a name that speaks of no format contradicts none.
///
/// ```
/// use zestful_sapling::image::{Format, check_ending};
/// assert!(check_ending("records.img".as_ref(), Some(Format::Raw)).is_ok());
/// assert!(check_ending("records.vhdx".as_ref(), Some(Format::Raw)).is_err());
/// ```
pub fn check_ending(path: &Path, format: Option<Format>) -> Result<()> {
    match (format_of_name(path), format) {
        (Some(name), Some(format)) if name != format => Err(Error::refused(
            Refusal::FormatDisagrees { path: path.to_owned(), in_content: false },
            format!("the name of {} says {name}, {format} was asked for", path.display()),
            "name no format, or choose another name",
        )),
        _ => Ok(()),
    }
}

/// The formats whose signatures the file carries.
pub(crate) fn signatures(storage: &dyn ReadAt) -> Result<Vec<Format>> {
    let len = storage.len()?;
    let read = |offset: u64| -> Result<[u8; 8]> {
        let mut bytes = [0; 8];
        if offset.checked_add(8).is_some_and(|end| end <= len) {
            storage.read_at(&mut bytes, offset)?;
        }
        Ok(bytes)
    };
    let mut found = Vec::new();
    if read(0)? == *vhdx::SIGNATURE {
        found.push(Format::Vhdx);
    }
    for offset in [len.checked_sub(512), len.checked_sub(511), Some(0)].into_iter().flatten() {
        if read(offset)? == *vhd::COOKIE && !found.contains(&Format::Vhd) {
            found.push(Format::Vhd);
        }
    }
    Ok(found)
}
