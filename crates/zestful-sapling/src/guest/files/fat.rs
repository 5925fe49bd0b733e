//! Files of FAT volumes, by the `fatfs` crate.

use std::io::{self, Read};
use std::rc::Rc;

use fatfs::{DirEntry, FileAttributes, FileSystem, FsOptions};
use jiff::Timestamp;
use jiff::civil;
use jiff::tz::TimeZone;

use super::system::{EntryKind, Facts, Item, Place, System, Take, Visit, called, circle};
use crate::bytes::wide;
use crate::guest::trouble::Trouble;
use crate::guest::window::{Patience, Window};

const PIECE: usize = 1 << 20;
/// A folder has at most so many, by the specification.
const MOST_ENTRIES: usize = 65_536;

pub(super) struct Fat {
    volume: FileSystem<Window>,
    patience: Rc<Patience>,
}

fn damaged(error: io::Error) -> Trouble {
    Trouble::Damaged(error.to_string())
}

impl Fat {
    pub(super) fn open(window: Window) -> Result<Self, Trouble> {
        let patience = window.patience();
        let volume = called(&patience, || FileSystem::new(window, FsOptions::new()), damaged)?;
        Ok(Self { volume, patience })
    }
}

struct FatItem<'a> {
    entry: DirEntry<'a, Window>,
    name: Vec<u8>,
    patience: &'a Rc<Patience>,
}

impl Item for FatItem<'_> {
    fn name(&self) -> &[u8] {
        &self.name
    }

    fn number(&self) -> u64 {
        0
    }

    fn facts(&mut self) -> Result<Facts, Trouble> {
        let is_folder = self.entry.is_dir();
        let kind = if is_folder { EntryKind::Folder } else { EntryKind::File };
        let size = (!is_folder).then(|| self.entry.len());
        let is_fixed = self.entry.attributes().contains(FileAttributes::READ_ONLY);
        let permissions = is_fixed.then_some(if is_folder { 0o555 } else { 0o444 });
        Ok(Facts { kind, size, allocated: size, modified: time(self.entry.modified()), permissions })
    }

    fn target(&mut self) -> Result<Vec<u8>, Trouble> {
        Err(Trouble::Damaged("FAT has no links".to_owned()))
    }

    fn content(&mut self, take: &mut Take<'_>) -> Result<(), Trouble> {
        let mut file = called(self.patience, || Ok(self.entry.to_file()), damaged)?;
        let (mut buffer, mut at) = (vec![0; PIECE.min(self.entry.len() as usize)], 0);
        while at < self.entry.len() {
            let wanted = (self.entry.len() - at).min(wide(buffer.len())) as usize;
            let mut done = 0;
            while done < wanted {
                let part = &mut buffer[done..wanted];
                match called(self.patience, || file.read(part), damaged)? {
                    // The crate ends a file where its chain of clusters ends.
                    0 => return Err(Trouble::Damaged("its chain of clusters ends before the file does".to_owned())),
                    len => done += len,
                }
            }
            self.patience.renew();
            take(at, &buffer[..wanted])?;
            at += wide(wanted);
        }
        Ok(())
    }
}

/// FAT tells the time of a clock of which it does not say where it stood: it is taken for UTC.
fn time(told: fatfs::DateTime) -> Option<Timestamp> {
    let part = |number: u16| i8::try_from(number).ok();
    let year = i16::try_from(told.date.year).ok()?;
    let date = civil::Date::new(year, part(told.date.month)?, part(told.date.day)?).ok()?;
    let nanoseconds = i32::from(told.time.millis) * 1_000_000;
    let time = civil::Time::new(part(told.time.hour)?, part(told.time.min)?, part(told.time.sec)?, nanoseconds).ok()?;
    Some(date.to_datetime(time).to_zoned(TimeZone::UTC).ok()?.timestamp())
}

impl System for Fat {
    fn root(&self) -> u64 {
        0
    }

    fn each(
        &mut self,
        folder: &Place,
        enter: &mut dyn FnMut(u64) -> bool,
        visit: &mut Visit<'_>,
    ) -> Result<(), Trouble> {
        self.patience.renew();
        let path = folder.path.to_string();
        let open = || match path.trim_start_matches('/') {
            "" => Ok(self.volume.root_dir()),
            path => self.volume.root_dir().open_dir(path),
        };
        let dir = called(&self.patience, open, damaged)?;
        let mut entries = dir.iter();
        // Where its first entry stands tells a folder from all others; the crate does not say, and reads it first.
        self.patience.note_place();
        let mut count = 0;
        loop {
            let next = called(&self.patience, || entries.next().transpose(), damaged)?;
            if count == 0 && !enter(self.patience.noted_place()) {
                return Err(circle());
            }
            let Some(entry) = next else { return Ok(()) };
            let name = called(&self.patience, || Ok(entry.file_name()), damaged)?.into_bytes();
            if name == b"." || name == b".." {
                count += 1;
                continue;
            }
            count += 1;
            if count > MOST_ENTRIES {
                return Err(Trouble::Damaged("it has more entries than a folder can have".to_owned()));
            }
            if !visit(&mut FatItem { entry, name, patience: &self.patience })? {
                return Ok(());
            }
        }
    }

    fn ignores_case(&self) -> bool {
        true
    }
}
