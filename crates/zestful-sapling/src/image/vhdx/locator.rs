//! The parent locator item (specification: "parent locator").

use std::collections::HashMap;

use uuid::{Uuid, uuid};

use super::header::guid;
use crate::bytes::{fit_u16, fit_u32, index, le_u16, le_u32, nth, put, to_utf16le, utf16le, wide};
use crate::image::{ParentRecord, ParentReference, RecordedPath};

pub(super) const TYPE: Uuid = uuid!("B04AEFB7-D19E-4A81-B789-25B8E9445913");

const HEADER_LEN: usize = 20;
const ENTRY_LEN: usize = 12;
const LINKAGE: &str = "parent_linkage";
const LINKAGE2: &str = "parent_linkage2";
/// The paths in the order in which the specification has them tried.
const PATHS: [&str; 3] = ["relative_path", "volume_path", "absolute_win32_path"];

/// A key and its value, each as the bytes of its UTF-16 text.
type Pair<'a> = (&'a [u8], &'a [u8]);

/// What stands in the item.
fn pairs(bytes: &[u8]) -> std::result::Result<Vec<Pair<'_>>, String> {
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
    let (mut pairs, mut taken) = (Vec::with_capacity(count), 0);
    for (number, entry) in entries.take(count).enumerate() {
        let text = |at: usize, length: usize| {
            let (from, len) = (index(u64::from(le_u32(entry, at))), usize::from(le_u16(entry, length)));
            let end = from.checked_add(len).filter(|_| len > 0 && len % 2 == 0)?;
            bytes.get(from..end)
        };
        let (Some(key), Some(value)) = (text(0, 8), text(4, 10)) else {
            return Err(format!("its entry {number} lies outside of it"));
        };
        // Entries that share their text could make a small item ask for gigabytes.
        taken = key.len().saturating_add(value.len()).saturating_add(taken);
        if taken > bytes.len() {
            return Err(format!("its entries overlap: those up to number {number} hold more text than there is"));
        }
        pairs.push((key, value));
    }
    Ok(pairs)
}

/// The parent that these bytes name, or what is wrong with them.
pub(super) fn parse(bytes: &[u8]) -> std::result::Result<ParentReference, String> {
    let mut texts: HashMap<String, String> = HashMap::new();
    for (key, value) in pairs(bytes)? {
        let key = utf16le(key);
        if texts.contains_key(&key) {
            return Err(format!("it has the key `{key}` twice"));
        }
        texts.insert(key, utf16le(value));
    }
    let linkage = texts.get(LINKAGE).ok_or("it has no `parent_linkage`")?;
    let linkage = Uuid::parse_str(linkage).map_err(|_| format!("its `parent_linkage` is no GUID: `{linkage}`"))?;
    let mut accepted = vec![linkage];
    accepted.extend(texts.get(LINKAGE2).and_then(|text| Uuid::parse_str(text).ok()).filter(|id| !id.is_nil()));
    let path = |key: &'static str| texts.get(key).map(|text| RecordedPath { key, text: text.clone() });
    Ok(ParentReference { accepted, paths: PATHS.into_iter().filter_map(path).collect(), time_stamp: None })
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
    encode_pairs(&pairs_of(parent))
}

/// The locator of another parent in place of `old`: what it holds besides stays, unless it names the parent it had.
pub(super) fn replace(old: &[u8], parent: &ParentReference) -> Vec<u8> {
    // If the parent stays where it is, every path that names it stays right.
    let had = parse(old).ok().filter(|had| had.paths.first() != parent.paths.first());
    let mut new = pairs_of(parent);
    for (key, value) in pairs(old).unwrap_or_default() {
        let name = utf16le(key);
        let is_ours = [LINKAGE, LINKAGE2, PATHS[0], PATHS[2]].contains(&&*name);
        if !is_ours && !had.as_ref().is_some_and(|had| had.is_named_in(&utf16le(value), &[PATHS[0], PATHS[2]])) {
            new.push((key.to_vec(), value.to_vec()));
        }
    }
    encode_pairs(&new)
}

fn pairs_of(parent: &ParentReference) -> Vec<(Vec<u8>, Vec<u8>)> {
    let linkages = [LINKAGE, LINKAGE2].into_iter().zip(&parent.accepted).map(|(key, id)| (key, format!("{{{id}}}")));
    let paths = parent.paths.iter().map(|path| (path.key, path.text.clone()));
    linkages.chain(paths).map(|(key, value)| (to_utf16le(key), to_utf16le(&value))).collect()
}

fn encode_pairs(pairs: &[(Vec<u8>, Vec<u8>)]) -> Vec<u8> {
    let mut bytes = vec![0; nth(HEADER_LEN, ENTRY_LEN, pairs.len())];
    put(&mut bytes, 0, &TYPE.to_bytes_le());
    put(&mut bytes, 18, &fit_u16(wide(pairs.len())).to_le_bytes());
    for (number, (key, value)) in pairs.iter().enumerate() {
        let entry = nth(HEADER_LEN, ENTRY_LEN, number);
        for (place, length, text) in [(0, 8, key), (4, 10, value)] {
            let at = fit_u32(wide(bytes.len()));
            put(&mut bytes[entry..], place, &at.to_le_bytes());
            put(&mut bytes[entry..], length, &fit_u16(wide(text.len())).to_le_bytes());
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

    /// Each byte of a locator counts once: entries that share their text are no way to ask for gigabytes.
    #[test]
    fn overlapping_entries_are_refused() {
        let count = 65_535_usize;
        let mut bytes = vec![b'a'; HEADER_LEN + ENTRY_LEN * count + 200_000];
        put(&mut bytes, 0, &TYPE.to_bytes_le());
        put(&mut bytes, 18, &(count as u16).to_le_bytes());
        for number in 0..count {
            let at = HEADER_LEN + ENTRY_LEN * number;
            let from = (HEADER_LEN + ENTRY_LEN * count + 2 * number) as u32;
            put(&mut bytes, at, &from.to_le_bytes());
            put(&mut bytes, at + 4, &from.to_le_bytes());
            put(&mut bytes, at + 8, &60_000_u16.to_le_bytes());
            put(&mut bytes, at + 10, &60_000_u16.to_le_bytes());
        }
        assert!(parse(&bytes).unwrap_err().contains("overlap"));
    }

    #[test]
    fn another_parent_leaves_alone_what_does_not_name_the_old_one() {
        let path = |key, text: &str| RecordedPath { key, text: text.into() };
        let of = |id, name: &str| ParentReference {
            accepted: vec![Uuid::from_u128(id)],
            paths: vec![path(PATHS[0], &format!(".\\{name}"))],
            time_stamp: None,
        };
        let (old, new) = (of(5, "fen-base.vhdx"), of(6, "moor.vhdx"));
        let more = |texts: &[(&str, &str)]| {
            let mut pairs = pairs_of(&old);
            pairs.extend(texts.iter().map(|(key, value)| (to_utf16le(key), to_utf16le(value))));
            encode_pairs(&pairs)
        };
        let (volume, foreign) = ("\\\\?\\Volume{1}\\dir\\other.vhdx", "anything");
        let kept = more(&[("volume_path", volume), ("x-note", foreign)]);
        let mut expected = pairs_of(&new);
        expected.push((to_utf16le("volume_path"), to_utf16le(volume)));
        expected.push((to_utf16le("x-note"), to_utf16le(foreign)));
        assert_eq!(replace(&kept, &new), encode_pairs(&expected));
        let same = ParentReference { accepted: vec![Uuid::from_u128(6)], ..old.clone() };
        assert!(parse(&replace(&more(&[("volume_path", "\\dir\\fen-base.vhdx")]), &same)).unwrap().paths.len() == 2);
        let linkage = format!("{{{}}}", Uuid::from_u128(5)).to_uppercase();
        let named = more(&[("volume_path", "\\\\?\\Volume{1}\\dir\\FEN-base.vhdx"), ("x-id", &linkage)]);
        assert_eq!(replace(&named, &new), encode(&new));
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
