//! The parent locator item (specification: "parent locator").

use uuid::{Uuid, uuid};

use super::header::guid;
use crate::bytes::{le_u16, le_u32, put, to_utf16le, utf16le};
use crate::image::{ParentRecord, ParentReference, RecordedPath};

pub(super) const TYPE: Uuid = uuid!("B04AEFB7-D19E-4A81-B789-25B8E9445913");

const HEADER_LEN: usize = 20;
const ENTRY_LEN: usize = 12;
const LINKAGE: &str = "parent_linkage";
const LINKAGE2: &str = "parent_linkage2";
/// The paths in the order in which the specification has them tried.
const PATHS: [&str; 3] = ["relative_path", "volume_path", "absolute_win32_path"];

/// The parent that these bytes name, or what is wrong with them.
pub(super) fn parse(bytes: &[u8]) -> std::result::Result<ParentReference, String> {
    if bytes.len() < HEADER_LEN {
        return Err(format!("it is only {} bytes long", bytes.len()));
    }
    let found = guid(bytes, 0);
    if found != TYPE {
        return Err(format!("its type {found} is not known"));
    }
    let count = usize::from(le_u16(bytes, 18));
    let entries = bytes[HEADER_LEN..].chunks_exact(ENTRY_LEN);
    if entries.len() < count {
        return Err(format!("it claims {count} entries, but has room for {}", entries.len()));
    }
    let mut pairs: Vec<(String, String)> = Vec::new();
    for (number, entry) in entries.take(count).enumerate() {
        let text = |at: usize, length: usize| {
            let (from, len) = (le_u32(entry, at) as usize, usize::from(le_u16(entry, length)));
            let end = from.checked_add(len).filter(|_| len > 0 && len % 2 == 0)?;
            bytes.get(from..end).map(utf16le)
        };
        let (Some(key), Some(value)) = (text(0, 8), text(4, 10)) else {
            return Err(format!("its entry {number} lies outside of it"));
        };
        if pairs.iter().any(|(other, _)| *other == key) {
            return Err(format!("it has the key `{key}` twice"));
        }
        pairs.push((key, value));
    }
    let value = |wanted: &str| pairs.iter().find(|(key, _)| key == wanted).map(|(_, value)| value.as_str());
    let linkage = value(LINKAGE).ok_or("it has no `parent_linkage`")?;
    let linkage = Uuid::parse_str(linkage).map_err(|_| format!("its `parent_linkage` is no GUID: `{linkage}`"))?;
    let mut accepted = vec![linkage];
    accepted.extend(value(LINKAGE2).and_then(|text| Uuid::parse_str(text).ok()).filter(|id| !id.is_nil()));
    let paths =
        PATHS.iter().filter_map(|key| value(key).map(|text| RecordedPath { key, text: text.to_owned() })).collect();
    Ok(ParentReference { accepted, paths, time_stamp: None })
}

impl From<&ParentRecord> for ParentReference {
    fn from(parent: &ParentRecord) -> Self {
        let mut paths = vec![RecordedPath { key: PATHS[0], text: parent.relative.clone() }];
        paths.extend(parent.absolute.iter().map(|path| RecordedPath { key: PATHS[2], text: path.clone() }));
        let accepted = std::iter::once(parent.identity).chain(parent.also).collect();
        Self { accepted, paths, time_stamp: None }
    }
}

pub(super) fn encode(parent: &ParentReference) -> Vec<u8> {
    let mut pairs: Vec<(&str, String)> = Vec::new();
    for (key, id) in [LINKAGE, LINKAGE2].into_iter().zip(&parent.accepted) {
        pairs.push((key, format!("{{{id}}}")));
    }
    pairs.extend(parent.paths.iter().map(|path| (path.key, path.text.clone())));
    let mut bytes = vec![0; HEADER_LEN + ENTRY_LEN * pairs.len()];
    put(&mut bytes, 0, &TYPE.to_bytes_le());
    put(&mut bytes, 18, &(pairs.len() as u16).to_le_bytes());
    for (number, (key, value)) in pairs.iter().enumerate() {
        let entry = HEADER_LEN + ENTRY_LEN * number;
        for (place, length, text) in [(0, 8, to_utf16le(key)), (4, 10, to_utf16le(value))] {
            let at = bytes.len() as u32;
            put(&mut bytes, entry + place, &at.to_le_bytes());
            put(&mut bytes, entry + length, &(text.len() as u16).to_le_bytes());
            bytes.extend(text);
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_locator_survives_and_is_tried_in_order() {
        let parent = ParentReference {
            accepted: vec![Uuid::from_u128(5)],
            paths: vec![
                RecordedPath { key: "relative_path", text: ".\\fen-base.vhdx".into() },
                RecordedPath { key: "absolute_win32_path", text: "\\srv\\fen-base.vhdx".into() },
            ],
            time_stamp: None,
        };
        assert_eq!(parse(&encode(&parent)), Ok(parent.clone()));
        let turned = ParentReference { paths: parent.paths.iter().rev().cloned().collect(), ..parent.clone() };
        assert_eq!(parse(&encode(&turned)), Ok(parent));
    }

    #[test]
    fn what_it_lacks_is_named() {
        let none = ParentReference { accepted: vec![], paths: vec![], time_stamp: None };
        assert!(parse(&encode(&none)).unwrap_err().contains("no `parent_linkage`"));
        let mut bytes =
            encode(&ParentReference { accepted: vec![Uuid::from_u128(5)], paths: vec![], time_stamp: None });
        bytes[20] = 0xFF;
        bytes[21] = 0xFF;
        assert!(parse(&bytes).unwrap_err().contains("entry 0"));
        bytes[0] ^= 1;
        assert!(parse(&bytes).unwrap_err().contains("type"));
        assert!(parse(&bytes[..19]).is_err());
    }
}
