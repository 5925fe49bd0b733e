//! Files of NTFS volumes, by the `ntfs` crate, with what it does not say: how much of a file was ever written, and
//! which files only a guest can read.

use std::rc::Rc;

use jiff::Timestamp;
use ntfs::structured_values::{NtfsFileAttributeFlags, NtfsFileNamespace};
use ntfs::{
    KnownNtfsFileRecordNumber, Ntfs as Crate, NtfsAttribute, NtfsAttributeFlags, NtfsAttributeType, NtfsError,
    NtfsFile, NtfsFileReference, NtfsReadSeek, NtfsTime,
};

use super::system::{EntryKind, Facts, Item, Place, System, Take, Visit, called, circle};
use crate::bytes::{le_u64, wide};
use crate::guest::trouble::Trouble;
use crate::guest::window::{Patience, Window};

const PIECE: usize = 1 << 20;
/// Files below this number are the file system's own.
const FIRST_OF_USERS: u64 = 24;
/// An entry of a folder takes at least as much.
const LEAST_ENTRY: u64 = 80;
/// Where an attribute that lies outside of its record says how much of it was ever written.
const INITIALIZED_AT: u64 = 56;
/// Where it says what it takes, and where instead when it has holes.
const ALLOCATED_AT: u64 = 40;
const SPARSE_ALLOCATED_AT: u64 = 64;

pub(super) struct Ntfs {
    volume: Crate,
    window: Window,
    patience: Rc<Patience>,
}

fn damaged(error: NtfsError) -> Trouble {
    Trouble::Damaged(error.to_string())
}

impl Ntfs {
    pub(super) fn open(mut window: Window) -> Result<Self, Trouble> {
        let patience = window.patience();
        let volume = called(&patience, || Crate::new(&mut window), damaged)?;
        Ok(Self { volume, window, patience })
    }
}

struct NtfsItem<'a> {
    volume: &'a Crate,
    window: &'a mut Window,
    patience: &'a Rc<Patience>,
    name: Vec<u8>,
    reference: NtfsFileReference,
}

impl<'a> NtfsItem<'a> {
    fn file(&mut self) -> Result<NtfsFile<'a>, Trouble> {
        let file = called(self.patience, || self.reference.to_file(self.volume, self.window), damaged)?;
        if file.sequence_number() != self.reference.sequence_number() {
            return Err(Trouble::Damaged("its record belongs to another file by now".to_owned()));
        }
        Ok(file)
    }

    fn is_special(&self, file: &NtfsFile<'_>) -> Result<bool, Trouble> {
        let info = called(self.patience, || file.info(), damaged)?;
        Ok(info.file_attributes().contains(NtfsFileAttributeFlags::REPARSE_POINT))
    }
}

impl Item for NtfsItem<'_> {
    fn name(&self) -> &[u8] {
        &self.name
    }

    fn number(&self) -> u64 {
        self.reference.file_record_number()
    }

    fn facts(&mut self) -> Result<Facts, Trouble> {
        let file = self.file()?;
        let info = called(self.patience, || file.info(), damaged)?;
        let kind = match (self.is_special(&file)?, file.is_directory()) {
            // Links, and files whose content lies elsewhere or in another form: their data is not what they show.
            (true, _) => EntryKind::Other,
            (false, true) => EntryKind::Folder,
            (false, false) => EntryKind::File,
        };
        let (size, allocated) = match kind {
            EntryKind::File => self.with_data(&file, |data, window| match data {
                None => Ok((Some(0), Some(0))),
                Some(data) => Ok((Some(data.value_length()), Some(allocated(data, window)?.min(data.value_length())))),
            })?,
            _ => (None, None),
        };
        Ok(Facts { kind, size, allocated, modified: time(info.modification_time()), permissions: None })
    }

    fn target(&mut self) -> Result<Vec<u8>, Trouble> {
        Err(Trouble::Unsupported("where links of NTFS lead only their guest can tell".to_owned()))
    }

    fn content(&mut self, take: &mut Take<'_>) -> Result<(), Trouble> {
        let file = self.file()?;
        if self.is_special(&file)? {
            let what = "its content is kept elsewhere, or in a form that only its guest can read";
            return Err(Trouble::Unsupported(what.to_owned()));
        }
        let patience = self.patience;
        self.with_data(&file, |data, window| {
            let Some(data) = data else { return Ok(()) };
            let flags = data.flags();
            if flags.intersects(NtfsAttributeFlags::COMPRESSED | NtfsAttributeFlags::ENCRYPTED) {
                let how = if flags.contains(NtfsAttributeFlags::ENCRYPTED) { "encrypted" } else { "compressed" };
                return Err(Trouble::Unsupported(format!("it is {how}")));
            }
            let len = match data.is_resident() {
                true => data.value_length(),
                false => data.value_length().min(written(data, window)?),
            };
            let mut value = called(patience, || data.value(window), damaged)?;
            let (mut buffer, mut at) = (vec![0; PIECE.min(len as usize)], 0);
            while at < len {
                let wanted = (len - at).min(wide(buffer.len())) as usize;
                let mut done = 0;
                while done < wanted {
                    let part = &mut buffer[done..wanted];
                    match called(patience, || value.read(window, part), damaged)? {
                        0 => return Err(Trouble::Damaged("its list of clusters ends before the file does".to_owned())),
                        len => done += len,
                    }
                    patience.renew();
                }
                take(at, &buffer[..wanted])?;
                at += wide(wanted);
            }
            Ok(())
        })
    }
}

impl NtfsItem<'_> {
    /// Lends the unnamed data of a file, if it has any.
    fn with_data<T>(
        &mut self,
        file: &NtfsFile<'_>,
        look: impl FnOnce(Option<&NtfsAttribute<'_, '_>>, &mut Window) -> Result<T, Trouble>,
    ) -> Result<T, Trouble> {
        let item = called(self.patience, || file.data(self.window, "").transpose(), damaged)?;
        let Some(item) = item else { return look(None, self.window) };
        let attribute = called(self.patience, || item.to_attribute(), damaged)?;
        look(Some(&attribute), self.window)
    }
}

/// How much of an attribute was ever written: behind that it reads as zero, whatever stands in its clusters.
fn written(attribute: &NtfsAttribute<'_, '_>, window: &mut Window) -> Result<u64, Trouble> {
    field(attribute, INITIALIZED_AT, window)
}

/// What an attribute takes on the volume.
fn allocated(attribute: &NtfsAttribute<'_, '_>, window: &mut Window) -> Result<u64, Trouble> {
    match (attribute.is_resident(), attribute.flags().contains(NtfsAttributeFlags::SPARSE)) {
        (true, _) => Ok(attribute.value_length()),
        (false, true) => field(attribute, SPARSE_ALLOCATED_AT, window),
        (false, false) => field(attribute, ALLOCATED_AT, window),
    }
}

/// A length in an attribute that the crate does not tell.
fn field(attribute: &NtfsAttribute<'_, '_>, at: u64, window: &mut Window) -> Result<u64, Trouble> {
    let place = attribute.position().value().map(|place| place.get());
    let place = place.ok_or_else(|| Trouble::Damaged("its data is nowhere".to_owned()))?;
    let field = window.bytes(place.saturating_add(at), 8)?;
    // The two upper bytes may be taken by the record's own check; no file is that long.
    Ok(le_u64(&field, 0) & 0xFFFF_FFFF_FFFF)
}

/// Units of 100 ns since 1601.
fn time(told: NtfsTime) -> Option<Timestamp> {
    const TO_1970: i64 = 11_644_473_600;
    let (seconds, rest) = (told.nt_timestamp() / 10_000_000, told.nt_timestamp() % 10_000_000);
    Timestamp::new(i64::try_from(seconds).ok()? - TO_1970, i32::try_from(rest * 100).ok()?).ok()
}

impl System for Ntfs {
    fn root(&self) -> u64 {
        KnownNtfsFileRecordNumber::RootDirectory as u64
    }

    fn each(
        &mut self,
        folder: &Place,
        enter: &mut dyn FnMut(u64) -> bool,
        visit: &mut Visit<'_>,
    ) -> Result<(), Trouble> {
        self.patience.renew();
        if !enter(folder.number) {
            return Err(circle());
        }
        let Self { volume, window, patience } = self;
        let file = called(patience, || volume.file(window, folder.number), damaged)?;
        let most = most_entries(&file, window, patience)?;
        let index = called(patience, || file.directory_index(window), damaged)?;
        let mut entries = index.entries();
        let mut count = 0;
        loop {
            let next = called(patience, || entries.next(window).transpose(), damaged)?;
            let Some(entry) = next else { return Ok(()) };
            count += 1;
            if count > most {
                return Err(Trouble::Damaged("its list of names comes back to itself".to_owned()));
            }
            patience.renew();
            let reference = entry.file_reference();
            let Some(key) = called(patience, || entry.key().transpose(), damaged)? else { continue };
            let is_second = key.namespace() == NtfsFileNamespace::Dos;
            if is_second || reference.file_record_number() < FIRST_OF_USERS {
                continue;
            }
            let name = key.name().to_string_lossy().into_bytes();
            if !visit(&mut NtfsItem { volume, window, patience, name, reference })? {
                return Ok(());
            }
        }
    }

    fn ignores_case(&self) -> bool {
        true
    }
}

/// No more names than this fit into the folder's own lists.
fn most_entries(file: &NtfsFile<'_>, window: &mut Window, patience: &Rc<Patience>) -> Result<u64, Trouble> {
    let mut len = 0u64;
    let mut attributes = file.attributes();
    while let Some(item) = called(patience, || attributes.next(window).transpose(), damaged)? {
        let attribute = called(patience, || item.to_attribute(), damaged)?;
        if attribute.ty().is_ok_and(|kind| kind == NtfsAttributeType::IndexAllocation) {
            len = len.saturating_add(attribute.value_length().min(window.len()));
        }
    }
    Ok(len / LEAST_ENTRY + 1024)
}
