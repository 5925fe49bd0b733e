//! The files of a host's folder on an empty FAT volume, by Microsoft's FAT specification of 2000.
//!
//! The crate that formats the volume writes files, too, but looks through a folder for each new name, and begins
//! folders as checkers do not want them. Onto an empty volume everything can be put in one go instead: each file and
//! each folder as one run of clusters, a folder when all that is in it has its place.

use std::collections::{HashMap, HashSet};
use std::fs::{File, Metadata};
use std::io::{self, Read};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use rustix::fs::OFlags;

use super::fill::children_of;
use super::scratch::Scratch;
use crate::bytes::{data_runs, le_u16, le_u32, put};
use crate::error::{Error, Result};
use crate::progress::Progress;

const ENTRY: usize = 32;
const FOLDER: u8 = 0x10;
const ARCHIVE: u8 = 0x20;
/// What marks an entry as a part of a long name; so many units of UTF-16 are in each.
const LONG_NAME: u8 = 0x0F;
const LONG_PART: usize = 13;
const LAST_PART: u8 = 0x40;
const PIECE: usize = 1 << 20;
const ZEROS: usize = 4096;

/// A short name, as it stands in an entry.
type ShortName = [u8; 11];

/// An empty volume that is being filled.
pub(super) struct FatWriter<'a> {
    file: File,
    path: &'a Path,
    progress: &'a Progress,
    bits: u8,
    cluster: u64,
    clusters: u32,
    /// Where the tables begin, and how long each is.
    tables: Vec<u64>,
    /// Where the first cluster lies.
    data: u64,
    /// The root of FAT12 and FAT16, which has a place of its own, or the cluster of that of FAT32.
    root: Root,
    info: Option<u64>,
    next: u32,
    buffer: Vec<u8>,
}

#[derive(Clone, Copy)]
enum Root {
    Region { place: u64, entries: usize },
    Cluster(u32),
}

impl<'a> FatWriter<'a> {
    /// Of a volume that was formatted just now, with entries of so many bits.
    pub(super) fn new(scratch: &'a Scratch, bits: u8, progress: &'a Progress) -> Result<Self> {
        let file = scratch.open()?;
        let mut boot = [0; 512];
        file.read_exact_at(&mut boot, 0).map_err(|e| Error::io("read", scratch.path(), e))?;
        let (sector, per_cluster) = (u64::from(le_u16(&boot, 11)), u64::from(boot[13]));
        let (reserved, count) = (u64::from(le_u16(&boot, 14)) * sector, u64::from(boot[16]));
        let table_len = sector
            * match le_u16(&boot, 22) {
                0 => u64::from(le_u32(&boot, 36)),
                sectors => u64::from(sectors),
            };
        let entries = usize::from(le_u16(&boot, 17));
        let behind_tables = reserved + count * table_len;
        let data = behind_tables + (entries as u64 * ENTRY as u64).next_multiple_of(sector);
        let cluster = sector * per_cluster;
        let root = match bits {
            32 => Root::Cluster(le_u32(&boot, 44)),
            _ => Root::Region { place: behind_tables, entries },
        };
        Ok(Self {
            file,
            path: scratch.path(),
            progress,
            bits,
            cluster,
            clusters: ((scratch.len() - data) / cluster) as u32,
            tables: (0..count).map(|number| reserved + number * table_len).collect(),
            data,
            root,
            info: (bits == 32).then(|| u64::from(le_u16(&boot, 48)) * sector),
            next: if bits == 32 { le_u32(&boot, 44) + 1 } else { 2 },
            buffer: vec![0; PIECE],
        })
    }

    /// Puts everything below a folder in.
    ///
    /// # Errors
    /// `Usage` when the volume is too small; `Io`, also when a file changes meanwhile; `Cancelled`.
    pub(super) fn fill(mut self, folder: &Path) -> Result<()> {
        self.folder(folder, None)?;
        if let Some(info) = self.info {
            let used = self.next - 2;
            self.write(&(self.clusters - used).to_le_bytes(), info + 488)?;
            self.write(&self.next.to_le_bytes(), info + 492)?;
        }
        Ok(())
    }

    /// Writes a folder with all that is in it, behind the cluster of the one above (0 of the root; none when it is the
    /// root itself). Returns its first cluster.
    fn folder(&mut self, folder: &Path, above: Option<u32>) -> Result<u32> {
        let children = children_of(folder)?;
        let mut names = Names::default();
        let named: Vec<(PathBuf, Metadata, Vec<u8>)> = children
            .into_iter()
            .map(|(path, found)| (names.entries_for(&path), path, found))
            .map(|(e, p, f)| (p, f, e))
            .collect();
        let label = if above.is_none() { self.label()? } else { Vec::new() };
        let own = if above.is_some() { 2 * ENTRY } else { label.len() };
        let len = own + named.iter().map(|(.., entries)| entries.len()).sum::<usize>();
        let (first, places) = self.room_for_folder(len, above.is_none(), folder)?;
        let mut bytes = label;
        if let Some(above) = above {
            let time = std::fs::metadata(folder).and_then(|found| found.modified()).ok();
            bytes.extend(entry(*b".          ", FOLDER, first, 0, time));
            bytes.extend(entry(*b"..         ", FOLDER, above, 0, time));
        }
        // Seen from the folders in it the root has no cluster.
        let seen = if above.is_none() { 0 } else { first };
        for (path, found, entries) in named {
            self.progress.check()?;
            let (attributes, cluster, size) = match found.is_dir() {
                true => (FOLDER, self.folder(&path, Some(seen))?, 0),
                false => (ARCHIVE, self.file(&path, found.len())?, found.len() as u32),
            };
            let (long, short) = entries.split_at(entries.len() - ENTRY);
            bytes.extend_from_slice(long);
            let name = crate::bytes::array(short, 0);
            bytes.extend(entry(name, attributes, cluster, size, found.modified().ok()));
        }
        let mut rest = &bytes[..];
        for (place, room) in places {
            let (now, behind) = rest.split_at(rest.len().min(room as usize));
            self.write(now, place)?;
            rest = behind;
        }
        Ok(first)
    }

    /// The label is the first entry of the root.
    fn label(&self) -> Result<Vec<u8>> {
        let place = match self.root {
            Root::Region { place, .. } => place,
            Root::Cluster(cluster) => self.place(cluster),
        };
        let mut first = vec![0; ENTRY];
        self.file.read_exact_at(&mut first, place).map_err(|e| Error::io("read", self.path, e))?;
        Ok(if first[0] == 0 { Vec::new() } else { first })
    }

    /// Where the entries of a folder go: its first cluster, and parts of the volume that are long enough together.
    fn room_for_folder(&mut self, len: usize, is_root: bool, folder: &Path) -> Result<(u32, Vec<(u64, u64)>)> {
        let too_many = || {
            Error::usage(
                format!("{} has more entries than a folder of FAT can have there", folder.display()),
                "put them into folders, or make the volume ext4",
            )
        };
        if len > ENTRY * 65_536 {
            return Err(too_many());
        }
        let count = (len as u64).div_ceil(self.cluster).max(1) as u32;
        match self.root {
            Root::Region { place, entries } if is_root => {
                let room = entries * ENTRY;
                if len > room { Err(too_many()) } else { Ok((0, vec![(place, room as u64)])) }
            }
            Root::Cluster(root) if is_root => {
                let mut places = vec![(self.place(root), self.cluster)];
                if count > 1 {
                    let more = self.allocate(count - 1)?;
                    self.chain(root, &[more])?;
                    places.push((self.place(more), u64::from(count - 1) * self.cluster));
                }
                Ok((root, places))
            }
            _ => {
                let first = self.allocate(count)?;
                Ok((first, vec![(self.place(first), u64::from(count) * self.cluster)]))
            }
        }
    }

    /// Copies a file in. Returns its first cluster; 0 of an empty one.
    fn file(&mut self, path: &Path, len: u64) -> Result<u32> {
        if len == 0 {
            return Ok(0);
        }
        let first = self.allocate(len.div_ceil(self.cluster) as u32)?;
        let failed = |e: io::Error| Error::io("put into the volume", path, e);
        // What was a file when it was looked at is not followed to somewhere else.
        let flags = OFlags::NOFOLLOW.bits().cast_signed();
        let mut source = File::options().read(true).custom_flags(flags).open(path).map_err(failed)?;
        let (place, mut done) = (self.place(first), 0);
        while done < len {
            self.progress.check()?;
            let part = &mut self.buffer[..(len - done).min(PIECE as u64) as usize];
            source.read_exact(part).map_err(failed)?;
            for run in data_runs(part, ZEROS) {
                let at = place + done + run.start as u64;
                self.file.write_all_at(&part[run], at).map_err(|e| Error::io("write to", self.path, e))?;
            }
            done += part.len() as u64;
            self.progress.advance(part.len() as u64);
        }
        Ok(first)
    }

    /// So many clusters in a row, chained.
    fn allocate(&mut self, count: u32) -> Result<u32> {
        let first = self.next;
        let end = first.checked_add(count).filter(|end| *end <= self.clusters + 2);
        self.next = end.ok_or_else(|| {
            Error::usage("the files do not fit into the volume", "make the volume larger, or leave some of them out")
        })?;
        let mut number = first;
        while number < self.next {
            // A piece of the table at a time.
            let last = self.next.min(number + (PIECE / 4) as u32);
            let links: Vec<u32> = (number + 1..last).chain([if last == self.next { u32::MAX } else { last }]).collect();
            self.chain(number, &links)?;
            number = last;
        }
        Ok(first)
    }

    /// What follows each cluster from `first` on, in all tables; `u32::MAX` ends a chain.
    fn chain(&mut self, first: u32, links: &[u32]) -> Result<()> {
        for table in self.tables.clone() {
            match self.bits {
                12 => {
                    for (number, link) in (u64::from(first)..).zip(links) {
                        let at = table + number * 3 / 2;
                        let mut pair = [0; 2];
                        self.file.read_exact_at(&mut pair, at).map_err(|e| Error::io("read", self.path, e))?;
                        let (old, link) = (u16::from_le_bytes(pair), (link & 0xFFF) as u16);
                        let new = if number % 2 == 0 { old & 0xF000 | link } else { old & 0xF | link << 4 };
                        self.write(&new.to_le_bytes(), at)?;
                    }
                }
                16 => {
                    let bytes: Vec<u8> = links.iter().flat_map(|link| (*link as u16).to_le_bytes()).collect();
                    self.write(&bytes, table + u64::from(first) * 2)?;
                }
                _ => {
                    let bytes: Vec<u8> = links.iter().flat_map(|link| (link & 0x0FFF_FFFF).to_le_bytes()).collect();
                    self.write(&bytes, table + u64::from(first) * 4)?;
                }
            }
        }
        Ok(())
    }

    fn place(&self, cluster: u32) -> u64 {
        self.data + u64::from(cluster - 2) * self.cluster
    }

    fn write(&self, bytes: &[u8], at: u64) -> Result<()> {
        self.file.write_all_at(bytes, at).map_err(|e| Error::io("write to", self.path, e))
    }
}

/// An entry with a short name.
fn entry(name: ShortName, attributes: u8, cluster: u32, size: u32, modified: Option<SystemTime>) -> [u8; ENTRY] {
    let mut bytes = [0; ENTRY];
    put(&mut bytes, 0, &name);
    bytes[11] = attributes;
    let (date, time) = modified.and_then(date_and_time).unwrap_or((1 << 5 | 1, 0));
    for (at, word) in [(14, time), (16, date), (18, date), (22, time), (24, date)] {
        put(&mut bytes, at, &word.to_le_bytes());
    }
    put(&mut bytes, 20, &((cluster >> 16) as u16).to_le_bytes());
    put(&mut bytes, 26, &(cluster as u16).to_le_bytes());
    put(&mut bytes, 28, &size.to_le_bytes());
    bytes
}

/// FAT knows the years from 1980 to 2107, and every second second.
fn date_and_time(time: SystemTime) -> Option<(u16, u16)> {
    let time = Timestamp::try_from(time).ok()?.to_zoned(TimeZone::UTC);
    let part = |number: i8| number.cast_unsigned() as u16;
    let year = u16::try_from(time.year()).ok()?.checked_sub(1980).filter(|year| *year < 128)?;
    let date = year << 9 | part(time.month()) << 5 | part(time.day());
    Some((date, part(time.hour()) << 11 | part(time.minute()) << 5 | (part(time.second()) / 2)))
}

/// The names of a folder.
#[derive(Default)]
struct Names {
    short: HashSet<ShortName>,
    /// The number that was given last to short names that begin so.
    numbers: HashMap<ShortName, u32>,
}

impl Names {
    /// The entries for a name: those of the long one, and a last one that holds the short one and nothing else.
    fn entries_for(&mut self, path: &Path) -> Vec<u8> {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let (basis, is_same) = short_name(&name);
        let mut short = basis;
        if !is_same || self.short.contains(&short) {
            let number = self.numbers.entry(basis).or_default();
            loop {
                *number += 1;
                short = numbered(basis, *number);
                if !self.short.contains(&short) {
                    break;
                }
            }
        }
        self.short.insert(short);
        let mut entries = if is_same && short == basis { Vec::new() } else { long_entries(&name, &short) };
        entries.extend_from_slice(&short);
        entries.resize(entries.len() + ENTRY - short.len(), 0);
        entries
    }
}

/// What a name becomes in capital letters, eight and three of them; and whether that is the very name.
fn short_name(name: &str) -> (ShortName, bool) {
    let (stem, ending) = name.rsplit_once('.').filter(|(stem, _)| !stem.is_empty()).unwrap_or((name, ""));
    let fits = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'()-@^_`{}~".contains(&byte);
    let shortened = |text: &str, most: usize| -> Vec<u8> {
        let kept = text.chars().filter(|c| *c != ' ' && *c != '.');
        let byte = |c: char| u8::try_from(c).ok().filter(|byte| fits(*byte)).unwrap_or(b'_');
        kept.map(|c| byte(c).to_ascii_uppercase()).take(most).collect()
    };
    let (stem, ending) = (shortened(stem, 8), shortened(ending, 3));
    let mut short = [b' '; 11];
    let stem = if stem.is_empty() { b"_".to_vec() } else { stem };
    short[..stem.len()].copy_from_slice(&stem);
    short[8..8 + ending.len()].copy_from_slice(&ending);
    let dot = if ending.is_empty() { &b""[..] } else { b"." };
    let is_same = name.as_bytes() == [&stem[..], dot, &ending].concat();
    (short, is_same)
}

fn numbered(basis: ShortName, number: u32) -> ShortName {
    let tail = format!("~{number}");
    let stem = basis[..8].iter().take_while(|byte| **byte != b' ').take(8 - tail.len().min(7)).copied();
    let mut short = [b' '; 11];
    for (slot, byte) in short.iter_mut().zip(stem.chain(tail.bytes()).take(8)) {
        *slot = byte;
    }
    short[8..].copy_from_slice(&basis[8..]);
    short
}

/// The entries of a long name, its end first.
fn long_entries(name: &str, short: &ShortName) -> Vec<u8> {
    let sum = short.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte));
    let units: Vec<u16> = name.encode_utf16().collect();
    let parts = units.chunks(LONG_PART).enumerate().rev();
    let last = units.len().div_ceil(LONG_PART) - 1;
    let entry = |(number, part): (usize, &[u16])| {
        // A zero ends a name that does not fill its last part, and ones follow it.
        let mut padded = [0xFFFF; LONG_PART];
        padded[..part.len()].copy_from_slice(part);
        if let Some(end) = padded.get_mut(part.len()) {
            *end = 0;
        }
        let mut bytes = [0; ENTRY];
        bytes[0] = (number + 1) as u8 | if number == last { LAST_PART } else { 0 };
        bytes[11] = LONG_NAME;
        bytes[13] = sum;
        let places = (1..11).step_by(2).chain((14..26).step_by(2)).chain((28..32).step_by(2));
        places.zip(padded).for_each(|(at, unit)| put(&mut bytes, at, &unit.to_le_bytes()));
        bytes
    };
    parts.flat_map(entry).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_are_the_first_of_their_kind() {
        let short = |name: &str| {
            let (short, is_same) = short_name(name);
            (String::from_utf8(short.to_vec()).unwrap(), is_same)
        };
        for (name, expected, is_same) in [
            ("HF00001.TXT", "HF00001 TXT", true),
            ("README", "README     ", true),
            ("readme", "README     ", false),
            ("a b.c.tar.gz", "ABCTAR  GZ ", false),
            (".bashrc", "BASHRC     ", false),
            ("Käfer.dat", "K_FER   DAT", false),
            ("苔", "_          ", false),
        ] {
            assert_eq!(short(name), (expected.to_owned(), is_same), "{name}");
        }
        let mut names = Names::default();
        let mut last = |name: &str| {
            let entries = names.entries_for(Path::new(name));
            String::from_utf8(entries[entries.len() - ENTRY..][..11].to_vec()).unwrap()
        };
        assert_eq!(last("accession one.txt"), "ACCESS~1TXT");
        assert_eq!(last("accession two.txt"), "ACCESS~2TXT");
        assert_eq!(last("ACCESS~3.TXT"), "ACCESS~3TXT");
        assert_eq!(last("accession four.txt"), "ACCESS~4TXT");
        assert_eq!((5..12).map(|n| last(&format!("accession {n}.txt"))).last().unwrap(), "ACCES~11TXT");
    }
}
