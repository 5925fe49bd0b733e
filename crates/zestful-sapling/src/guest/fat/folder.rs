//! Folders of FAT: entries of 32 bytes, the longer names before them.

use std::ops::Range;

use jiff::Timestamp;
use jiff::civil;
use jiff::tz::TimeZone;

use super::volume::FatVolume;
use crate::bytes::{le_u16, le_u32, wide};
use crate::guest::trouble::Trouble;

/// The length of an entry.
const LEN: u64 = 32;
/// A folder has at most so many, by the specification.
const MOST_ENTRIES: u64 = 65_536;
/// Entries are read in pieces of this many.
const AT_ONCE: u64 = 128;
const LONG_NAME: u8 = 0x0F;
const LABEL: u8 = 0x08;
const FOLDER: u8 = 0x10;
const READ_ONLY: u8 = 0x01;
const DELETED: u8 = 0xE5;
/// Where the letters of a part of a long name stand.
const LETTERS: [Range<usize>; 3] = [1..11, 14..26, 28..32];
const LETTERS_OF_PART: usize = 13;
const MOST_PARTS: u8 = 20;

/// Something in a folder.
#[derive(Clone, Debug)]
pub(in crate::guest) struct FatEntry {
    pub(in crate::guest) name: Vec<u8>,
    pub(in crate::guest) is_folder: bool,
    pub(in crate::guest) is_read_only: bool,
    /// Its first cluster; zero when it has none.
    pub(in crate::guest) first: u64,
    pub(in crate::guest) len: u64,
    pub(in crate::guest) modified: Option<Timestamp>,
    /// Whether it was deleted: nothing tells then where it lay behind its first cluster.
    pub(in crate::guest) is_deleted: bool,
    /// Where it stands on the volume, in bytes.
    pub(in crate::guest) place: Range<u64>,
}

/// Takes something in a folder; `false` when nothing more is wanted.
pub(in crate::guest) type VisitEntries<'a> = dyn FnMut(&mut FatVolume, FatEntry) -> Result<bool, Trouble> + 'a;

impl FatVolume {
    /// Goes over a folder, which is known by its first cluster, and the root by zero. What ends it before its end is
    /// told after all that came before.
    pub(in crate::guest) fn entries(&mut self, folder: u64, visit: &mut VisitEntries<'_>) -> Result<(), Trouble> {
        self.all_entries(folder, &mut |volume, entry| if entry.is_deleted { Ok(true) } else { visit(volume, entry) })
    }

    /// The same with those that were deleted.
    pub(in crate::guest) fn all_entries(&mut self, folder: u64, visit: &mut VisitEntries<'_>) -> Result<(), Trouble> {
        let (places, trouble) = self.folder_places(folder, MOST_ENTRIES * LEN)?;
        self.scan(places, visit)?;
        trouble.map_or(Ok(()), Err)
    }

    /// What the first cluster of a folder holds that was deleted; nothing where that is not it any more.
    pub(in crate::guest) fn deleted_folder(&mut self, first: u64, visit: &mut VisitEntries<'_>) -> Result<(), Trouble> {
        if !self.layout().numbers().contains(&first) {
            return Ok(());
        }
        let place = self.layout().place(first);
        let mut own = [0; LEN as usize];
        self.read_at(&mut own, place)?;
        // It begins with an entry of itself.
        if short_name(&own) != b"." || first_of(&own) != first {
            return Ok(());
        }
        let places = std::iter::once(place..place + self.layout().cluster).collect();
        self.scan(places, &mut |volume, entry| visit(volume, FatEntry { is_deleted: true, ..entry }))
    }

    fn scan(&mut self, places: Vec<Range<u64>>, visit: &mut VisitEntries<'_>) -> Result<(), Trouble> {
        let (mut name, mut count) = (LongName::default(), 0);
        for place in places {
            let mut at = place.start;
            while at < place.end {
                let mut bytes = vec![0; (AT_ONCE * LEN).min(place.end - at) as usize];
                self.read_at(&mut bytes, at)?;
                for (entry, number) in bytes.chunks_exact(LEN as usize).zip(0..) {
                    count += 1;
                    if entry[0] == 0 {
                        return Ok(());
                    }
                    if count > MOST_ENTRIES {
                        let what = "it has more entries than a folder can have";
                        return Err(Trouble::Damaged(what.to_owned()));
                    }
                    let Some(found) = name.next(entry, at + number * LEN) else { continue };
                    if !visit(self, found)? {
                        return Ok(());
                    }
                }
                at += wide(bytes.len());
            }
        }
        Ok(())
    }
}

fn first_of(entry: &[u8]) -> u64 {
    u64::from(le_u16(entry, 20)) << 16 | u64::from(le_u16(entry, 26))
}

/// The parts of a long name that were met so far, the last part of it first.
#[derive(Default)]
struct LongName {
    /// Of UTF-16.
    letters: Vec<u16>,
    /// The number of the part that comes next; none when the name is whole, or there is none.
    next: u8,
    sum: u8,
    /// Its entries were deleted: what they said of their order is gone.
    is_deleted: bool,
}

fn sum_of(name: &[u8]) -> u8 {
    name.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}

impl LongName {
    /// One entry more: something that has a name, once there is all of it.
    fn next(&mut self, entry: &[u8], at: u64) -> Option<FatEntry> {
        let attributes = entry[11];
        let is_deleted = entry[0] == DELETED;
        if is_deleted != self.is_deleted {
            *self = Self { is_deleted, ..Self::default() };
        }
        if attributes & 0x3F == LONG_NAME {
            if is_deleted {
                self.add_deleted(entry)
            } else {
                self.add(entry)
            };
            return None;
        }
        let long = std::mem::take(self);
        if attributes & LABEL != 0 {
            return None;
        }
        // Deleting has taken its first letter, which the sum beside a long name gives back.
        let mut whole = entry.to_vec();
        if is_deleted {
            let is_right = |letter: &u8| sum_of(&[&[*letter], &entry[1..11]].concat()) == long.sum;
            let letter = if long.letters.is_empty() { None } else { (0x20..0x7F).find(is_right) };
            whole[0] = letter.unwrap_or(b'_');
        }
        let entry = &whole[..];
        let short = short_name(entry);
        if short == b"." || short == b".." {
            return None;
        }
        let is_folder = attributes & FOLDER != 0;
        Some(FatEntry {
            name: long.whole(entry).unwrap_or(short),
            is_folder,
            is_read_only: attributes & READ_ONLY != 0,
            first: first_of(entry),
            is_deleted,
            len: if is_folder { 0 } else { u64::from(le_u32(entry, 28)) },
            modified: moment(le_u16(entry, 24), le_u16(entry, 22)),
            place: at..at + LEN,
        })
    }

    fn add(&mut self, entry: &[u8]) {
        const LAST: u8 = 0x40;
        let (order, sum) = (entry[0] & !LAST, entry[13]);
        if entry[0] & LAST != 0 {
            *self = Self { letters: Vec::new(), next: order, sum, is_deleted: false };
        }
        if order == 0 || order > MOST_PARTS || order != self.next || sum != self.sum {
            *self = Self::default();
            return;
        }
        self.prepend(entry);
        self.next = order - 1;
    }

    /// One part more, before those that came already.
    fn prepend(&mut self, entry: &[u8]) {
        let part = LETTERS.into_iter().flat_map(|place| entry[place].chunks_exact(2)).map(|pair| le_u16(pair, 0));
        let mut letters: Vec<u16> = part.collect();
        letters.append(&mut self.letters);
        self.letters = letters;
    }

    /// A part whose order is not told: all with one sum that follow each other are of one name.
    fn add_deleted(&mut self, entry: &[u8]) {
        if entry[13] != self.sum || self.letters.len() >= usize::from(MOST_PARTS) * LETTERS_OF_PART {
            *self = Self { sum: entry[13], is_deleted: true, ..Self::default() };
        }
        self.prepend(entry);
    }

    /// The name, if it is whole and belongs to this entry.
    fn whole(self, entry: &[u8]) -> Option<Vec<u8>> {
        if self.letters.len() < LETTERS_OF_PART || self.next != 0 || sum_of(&entry[..11]) != self.sum {
            return None;
        }
        let end = self.letters.iter().position(|letter| *letter == 0).unwrap_or(self.letters.len());
        Some(String::from_utf16_lossy(&self.letters[..end]).into_bytes()).filter(|name| !name.is_empty())
    }
}

/// A name of eight letters and three. What is no ASCII depends on a code page that nothing tells.
fn short_name(entry: &[u8]) -> Vec<u8> {
    const LOWER: [u8; 2] = [0x08, 0x10];
    let part = |bytes: &[u8], is_lower: bool| {
        let letters = bytes.iter().map(|byte| match byte {
            0x80.. => char::REPLACEMENT_CHARACTER,
            byte if is_lower => char::from(byte.to_ascii_lowercase()),
            byte => char::from(*byte),
        });
        letters.collect::<String>().trim_end_matches(' ').to_owned()
    };
    let mut stem = entry[..8].to_vec();
    if stem[0] == 0x05 {
        stem[0] = DELETED;
    }
    let (stem, ending) = (part(&stem, entry[12] & LOWER[0] != 0), part(&entry[8..11], entry[12] & LOWER[1] != 0));
    if ending.is_empty() { stem } else { format!("{stem}.{ending}") }.into_bytes()
}

/// FAT tells the time of a clock of which it does not say where it stood: it is taken for UTC.
fn moment(date: u16, time: u16) -> Option<Timestamp> {
    let part = |number: u16, shift: u32, bits: u32| (number >> shift & ((1 << bits) - 1)) as i8;
    let year = 1980 + i16::from(part(date, 9, 7));
    let date = civil::Date::new(year, part(date, 5, 4), part(date, 0, 5)).ok()?;
    let time = civil::Time::new(part(time, 11, 5), part(time, 5, 6), part(time, 0, 5) * 2, 0).ok()?;
    Some(date.to_datetime(time).to_zoned(TimeZone::UTC).ok()?.timestamp())
}
