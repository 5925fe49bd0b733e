//! The parent's paths (specification: "parent locator entries"), each in its platform code's own encoding.

use super::SECTOR;
use super::header::{DynamicHeader, LocatorEntry};
use crate::bytes::{fit_u32, index, to_utf16le, utf16le, wide};
use crate::error::Result;
use crate::finding::{Finding, VhdFinding};
use crate::image::{ParentReference, RecordedPath};
use crate::storage::ReadAt;

const RELATIVE: [u8; 4] = *b"W2ru";
const ABSOLUTE: [u8; 4] = *b"W2ku";

/// The codes whose paths can be followed, best first, under the names that messages use.
const CODES: [([u8; 4], &str); 5] =
    [(RELATIVE, "W2ru"), (ABSOLUTE, "W2ku"), (*b"Wi2r", "Wi2r"), (*b"Wi2k", "Wi2k"), (*b"MacX", "MacX")];
/// The field of the header that holds a name.
const NAME: &str = "parent name";

/// The parent that the header and its locators name.
pub(super) fn read(
    storage: &dyn ReadAt,
    header: &DynamicHeader,
    at: u64,
    findings: &mut Vec<Finding>,
) -> Result<ParentReference> {
    let len = storage.len()?;
    let mut paths: Vec<(usize, RecordedPath)> = Vec::new();
    for entry in header.locators() {
        if !entry.is_inside(len) {
            let platform = String::from_utf8_lossy(&entry.code).into_owned();
            let kind = VhdFinding::Locator { platform, offset: entry.offset, length: entry.len };
            findings.push(Finding::new(kind, at));
            continue;
        }
        let Some(rank) = CODES.iter().position(|(code, _)| *code == entry.code) else { continue };
        let mut bytes = vec![0; index(u64::from(entry.len))];
        storage.read_at(&mut bytes, entry.offset)?;
        if let Some(text) = decode(entry.code, &bytes) {
            paths.push((rank, RecordedPath { key: CODES[rank].1, text }));
        }
    }
    paths.sort_by_key(|(rank, _)| *rank);
    let mut paths: Vec<RecordedPath> = paths.into_iter().map(|(_, path)| path).collect();
    if paths.is_empty() {
        findings.push(Finding::new(VhdFinding::LocatorPaths, at));
    }
    let name = header.parent_name();
    if !name.is_empty() {
        paths.push(RecordedPath { key: NAME, text: name });
    }
    Ok(ParentReference { accepted: vec![header.parent_id()], paths, time_stamp: Some(header.parent_time()) })
}

/// The entries that another record of the parent leaves alone: those that are not ours to write, unless they name the
/// parent that was recorded before and is not to be found at `relative`.
pub(super) fn kept(
    storage: &dyn ReadAt,
    header: &DynamicHeader,
    had: Option<&ParentReference>,
    relative: &str,
) -> Result<Vec<LocatorEntry>> {
    let (len, mut kept) = (storage.len()?, Vec::new());
    let had = had.filter(|had| !had.paths.iter().any(|path| path.key == CODES[0].1 && path.text == relative));
    for entry in header.locators().filter(|entry| ![RELATIVE, ABSOLUTE].contains(&entry.code)) {
        if !entry.is_inside(len) {
            continue;
        }
        let mut bytes = vec![0; index(u64::from(entry.len))];
        storage.read_at(&mut bytes, entry.offset)?;
        let text = CODES.iter().any(|(code, _)| *code == entry.code).then(|| decode(entry.code, &bytes)).flatten();
        if !had.zip(text).is_some_and(|(had, text)| had.is_named_in(&text, &[CODES[0].1, CODES[1].1, NAME])) {
            kept.push(entry);
        }
    }
    Ok(kept)
}

fn decode(code: [u8; 4], bytes: &[u8]) -> Option<String> {
    let text = match &code {
        b"W2ru" | b"W2ku" => utf16le(bytes),
        b"MacX" => unescape(std::str::from_utf8(bytes).ok()?.strip_prefix("file://")?),
        _ => String::from_utf8_lossy(bytes).into_owned(),
    };
    let text = text.split('\0').next().unwrap_or_default().to_owned();
    (!text.is_empty()).then_some(text)
}

/// `file://` URLs may name a host before the path, and write bytes as `%20`.
fn unescape(url: &str) -> String {
    let path = url.find('/').map_or(url, |start| &url[start..]);
    let mut bytes = Vec::new();
    let mut rest = path.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        let digits = after.get(..2).filter(|_| *first == b'%').and_then(|two| std::str::from_utf8(two).ok());
        match digits.and_then(|two| u8::from_str_radix(two, 16).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[2..];
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The entries and the bytes of a new child's locators, laid out from `offset` on, each in sectors of its own.
pub(super) fn encode(relative: &str, absolute: Option<&str>, offset: u64) -> (Vec<LocatorEntry>, Vec<u8>) {
    let (mut entries, mut bytes) = (Vec::new(), Vec::new());
    for (code, text) in [(RELATIVE, Some(relative)), (ABSOLUTE, absolute)] {
        let Some(text) = text.map(to_utf16le) else { continue };
        let sectors = wide(text.len()).div_ceil(SECTOR);
        entries.push(LocatorEntry {
            code,
            space: fit_u32(sectors),
            len: fit_u32(wide(text.len())),
            offset: offset.saturating_add(wide(bytes.len())),
        });
        bytes.extend(text);
        bytes.resize(bytes.len().next_multiple_of(index(SECTOR)), 0);
    }
    (entries, bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_code_has_its_encoding() {
        assert_eq!(decode(RELATIVE, &to_utf16le(".\\fen-base.vhd")).as_deref(), Some(".\\fen-base.vhd"));
        assert_eq!(decode(ABSOLUTE, &to_utf16le("\\srv\\a.vhd\0junk")).as_deref(), Some("\\srv\\a.vhd"));
        assert_eq!(decode(*b"Wi2r", b".\\a.vhd").as_deref(), Some(".\\a.vhd"));
        let url = "file://localhost/srv/Eltern%20%C3%A4/100%.vhd";
        assert_eq!(decode(*b"MacX", url.as_bytes()).as_deref(), Some("/srv/Eltern ä/100%.vhd"));
        assert_eq!(decode(*b"MacX", b"alias"), None);
        assert_eq!(decode(RELATIVE, &[]), None);
    }
}
