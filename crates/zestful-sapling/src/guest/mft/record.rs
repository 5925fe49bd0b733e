//! A record of the table of files: its attributes, where they lie, its names.

use std::ops::Range;

use jiff::Timestamp;

use crate::bytes::{le_u16, le_u32, le_u64, utf16le};
use crate::guest::trouble::Trouble;

const SIGNATURE: &[u8] = b"FILE";
/// The last two bytes of so many are kept elsewhere in the record.
const STRIDE: usize = 512;
const IN_USE: u16 = 0x1;
const FOLDER: u16 = 0x2;
/// The part of a reference that is the number of a record; the rest says how often that was used.
const NUMBER: u64 = 0xFFFF_FFFF_FFFF;
const END: u32 = 0xFFFF_FFFF;
/// Names of the old form, which stand beside the others.
const SHORT_NAME: u8 = 2;
const SPECIAL: u32 = 0x400;
/// Said beside a name.
const IS_FOLDER: u32 = 0x1000_0000;

/// Kinds of attributes.
pub(super) const INFORMATION: u32 = 0x10;
pub(super) const ATTRIBUTE_LIST: u32 = 0x20;
const FILE_NAME: u32 = 0x30;
pub(super) const DATA: u32 = 0x80;
pub(super) const INDEX_ROOT: u32 = 0x90;
pub(super) const INDEX_BLOCKS: u32 = 0xA0;
pub(super) const BITS: u32 = 0xB0;

/// A reference to a record: its number, and how often it was used when the reference was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(in crate::guest) struct Reference {
    pub(in crate::guest) number: u64,
    sequence: u16,
}

impl Reference {
    pub(super) fn of(value: u64) -> Self {
        Self { number: value & NUMBER, sequence: (value >> 48) as u16 }
    }
}

/// A record, whole.
pub(in crate::guest) struct Record {
    bytes: Vec<u8>,
    pub(in crate::guest) is_in_use: bool,
    pub(in crate::guest) is_folder: bool,
    /// The record that it belongs to, if it is only a part of that.
    pub(in crate::guest) base: Option<u64>,
    sequence: u16,
}

/// An attribute of a record.
#[derive(Clone, Copy)]
pub(super) struct Attribute<'a> {
    pub(super) kind: u32,
    bytes: &'a [u8],
}

/// A name of a file, and the folder that it stands in.
pub(in crate::guest) struct FileName {
    pub(in crate::guest) folder: Reference,
    pub(in crate::guest) name: Vec<u8>,
    /// It stands beside another one.
    pub(super) is_short: bool,
    pub(super) is_folder: bool,
}

impl FileName {
    pub(super) fn parse(bytes: &[u8]) -> Option<Self> {
        let len = usize::from(*bytes.get(64)?) * 2;
        let text = utf16le(bytes.get(66..66 + len)?);
        let (is_short, is_folder) = (bytes[65] == SHORT_NAME, le_u32(bytes, 56) & IS_FOLDER != 0);
        Some(Self { folder: Reference::of(le_u64(bytes, 0)), name: text.into_bytes(), is_short, is_folder })
    }
}

fn damaged<T>(what: impl Into<String>) -> Result<T, Trouble> {
    Err(Trouble::Damaged(what.into()))
}

/// Puts the last bytes of each stride back in their place; `false` where not all of it was written at one time.
pub(super) fn mend_strides(bytes: &mut [u8]) -> bool {
    let (at, count) = (usize::from(le_u16(bytes, 4)), usize::from(le_u16(bytes, 6)));
    let strides = bytes.len() / STRIDE;
    if count != strides + 1 || at + 2 * count > bytes.len() {
        return false;
    }
    let mark = [bytes[at], bytes[at + 1]];
    (0..strides).all(|stride| {
        let end = (stride + 1) * STRIDE - 2;
        let is_right = bytes[end..end + 2] == mark;
        bytes.copy_within(at + 2 * (stride + 1)..at + 2 * (stride + 2), end);
        is_right
    })
}

impl Record {
    /// From its bytes; none where no record was ever written.
    pub(super) fn parse(mut bytes: Vec<u8>, number: u64) -> Result<Option<Self>, Trouble> {
        if !bytes.starts_with(SIGNATURE) {
            let is_blank = bytes.iter().all(|byte| *byte == 0);
            return if is_blank { Ok(None) } else { damaged(format!("record {number} is none")) };
        }
        if !mend_strides(&mut bytes) {
            return damaged(format!("record {number} was written only in part"));
        }
        let base = Some(le_u64(&bytes, 32)).filter(|base| *base != 0).map(|base| Reference::of(base).number);
        let (sequence, flags) = (le_u16(&bytes, 16), le_u16(&bytes, 22));
        let (is_in_use, is_folder) = (flags & IN_USE != 0, flags & FOLDER != 0);
        Ok(Some(Self { bytes, is_in_use, is_folder, base, sequence }))
    }

    /// Whether it is still the file that a reference meant.
    pub(in crate::guest) fn is_meant_by(&self, reference: Reference) -> bool {
        self.is_in_use && self.sequence == reference.sequence
    }

    /// Its attributes, up to the first that cannot be, which is told.
    pub(super) fn attributes(&self) -> impl Iterator<Item = Result<Attribute<'_>, Trouble>> {
        let mut at = Some(usize::from(le_u16(&self.bytes, 20)));
        std::iter::from_fn(move || {
            let start = at.take()?;
            let head = self.bytes.get(start..)?;
            if head.len() < 8 || le_u32(head, 0) == END {
                return None;
            }
            let len = le_u32(head, 4) as usize;
            // The shortest of each form.
            let least = if head.get(8) == Some(&0) { 24 } else { 64 };
            if len < least || !len.is_multiple_of(8) || len > head.len() {
                return Some(damaged("an attribute of a record is of a length that cannot be"));
            }
            at = Some(start + len);
            Some(Ok(Attribute { kind: le_u32(head, 0), bytes: &head[..len] }))
        })
    }

    fn first_of(&self, kind: u32) -> Option<&[u8]> {
        self.attributes().filter_map(Result::ok).find(|attribute| attribute.kind == kind)?.resident()
    }

    /// The name that is shown, of those that are in this record.
    pub(in crate::guest) fn name(&self) -> Option<FileName> {
        let names = self.attributes().filter_map(Result::ok).filter(|attribute| attribute.kind == FILE_NAME);
        let mut names: Vec<FileName> = names.filter_map(|name| FileName::parse(name.resident()?)).collect();
        names.sort_by_key(|name| name.is_short);
        names.into_iter().next()
    }

    /// When it was last changed.
    pub(in crate::guest) fn modified(&self) -> Option<Timestamp> {
        let information = self.first_of(INFORMATION).filter(|information| information.len() >= 36)?;
        moment(le_u64(information, 8))
    }

    /// When anything of it was last changed: no write to its clusters was later.
    pub(in crate::guest) fn touched(&self) -> Option<Timestamp> {
        let information = self.first_of(INFORMATION).filter(|information| information.len() >= 36)?;
        [0, 8, 16].into_iter().filter_map(|at| moment(le_u64(information, at))).max()
    }

    /// When its record was last changed. Nobody sets that at will, as the other times are; it was there at that moment.
    pub(in crate::guest) fn last_seen(&self) -> Option<Timestamp> {
        let information = self.first_of(INFORMATION).filter(|information| information.len() >= 36)?;
        moment(le_u64(information, 16))
    }

    /// Whether it was deleted since this reference to it was made, and not used again.
    pub(in crate::guest) fn was_meant_by(&self, reference: Reference) -> bool {
        !self.is_in_use && self.sequence == reference.sequence.wrapping_add(1)
    }

    /// Whether it is a link, or its content is kept elsewhere or in another form.
    pub(in crate::guest) fn is_special(&self) -> bool {
        let information = self.first_of(INFORMATION).filter(|information| information.len() >= 36);
        information.is_some_and(|information| le_u32(information, 32) & SPECIAL != 0)
    }
}

/// Units of 100 ns since 1601.
fn moment(told: u64) -> Option<Timestamp> {
    const TO_1970: i64 = 11_644_473_600;
    let (seconds, rest) = (told / 10_000_000, told % 10_000_000);
    Timestamp::new(i64::try_from(seconds).ok()? - TO_1970, i32::try_from(rest * 100).ok()?).ok()
}

impl<'a> Attribute<'a> {
    /// Whether its value lies in clusters.
    pub(super) fn is_outside(&self) -> bool {
        self.bytes[8] != 0
    }

    /// Its value, where that lies in the record.
    pub(super) fn resident(&self) -> Option<&'a [u8]> {
        let (len, at) = (le_u32(self.bytes, 16) as usize, usize::from(le_u16(self.bytes, 20)));
        (!self.is_outside()).then(|| self.bytes.get(at..at.checked_add(len)?)).flatten()
    }

    /// The first cluster of the value that its runs tell of.
    pub(super) fn first_cluster(&self) -> u64 {
        if self.is_outside() { le_u64(self.bytes, 16) } else { 0 }
    }

    /// How it is kept: see [`Value`](super::value::Value).
    pub(super) fn flags(&self) -> u16 {
        le_u16(self.bytes, 12)
    }

    /// Of a value in clusters, in the attribute that is its first: what it takes, how long it is, how much of it was
    /// ever written.
    pub(super) fn lengths(&self, is_sparse: bool) -> [u64; 3] {
        let allocated = if is_sparse && self.bytes.len() >= 72 { 64 } else { 40 };
        [allocated, 48, 56].map(|at| le_u64(self.bytes, at))
    }

    /// Its name, as UTF-16.
    pub(super) fn name(&self) -> &'a [u8] {
        let (len, at) = (usize::from(self.bytes[9]) * 2, usize::from(le_u16(self.bytes, 10)));
        self.bytes.get(at..at + len).unwrap_or_default()
    }

    /// The clusters that it takes, in the order of the value: how many, and the first of them, where they are no hole.
    pub(super) fn runs(
        &self,
        clusters: u64,
        take: &mut dyn FnMut(u64, Option<Range<u64>>) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let at = usize::from(le_u16(self.bytes, 32));
        let Some(mut list) = self.bytes.get(at..) else {
            return damaged("a list of clusters lies outside of its record");
        };
        let (mut place, mut left) = (0i64, clusters);
        while let Some((head, rest)) = list.split_first().filter(|(head, _)| **head != 0) {
            let (count_len, place_len) = (usize::from(head & 0xF), usize::from(head >> 4));
            let parts = rest.get(..count_len).zip(rest.get(count_len..count_len + place_len));
            let Some((count, step)) = parts.filter(|_| count_len <= 8 && place_len <= 8) else {
                return damaged("a list of clusters has an entry that is cut off");
            };
            let mut long = [0; 8];
            long[..count_len].copy_from_slice(count);
            let count = u64::from_le_bytes(long);
            if count == 0 || count > u64::MAX >> 20 {
                return damaged("a list of clusters has a run of a length that cannot be");
            }
            let mut run = None;
            if place_len > 0 {
                let mut long = [if step[place_len - 1] & 0x80 == 0 { 0 } else { 0xFF }; 8];
                long[..place_len].copy_from_slice(step);
                place = place.wrapping_add(i64::from_le_bytes(long));
                let found = u64::try_from(place).ok().and_then(|start| Some(start..start.checked_add(count)?));
                let Some(found) = found.filter(|found| found.end <= clusters) else {
                    return damaged(format!("a file would lie in cluster {place}"));
                };
                let fits = left.checked_sub(count);
                left = fits.map_or_else(|| damaged("a file would hold more than the whole volume"), Ok)?;
                run = Some(found);
            }
            take(count, run)?;
            list = &rest[count_len + place_len..];
        }
        Ok(())
    }
}
