//! Files of NTFS volumes.

use std::ops::Range;
use std::rc::Rc;

use super::ntfs_deleted;
use super::system::{
    EntryKind, Facts, Item, Own, OwnTold, Place, Remains, System, Take, TakeOwn, TakePlace, TakeRemains, Visit, circle,
};
use crate::guest::mft::{FIRST_OF_USERS, Mft, NamedRecord, ROOT, Record, Value};
use crate::guest::trouble::Trouble;
use crate::guest::window::{Patience, Window};

const PIECE: u64 = 1 << 20;
const EXTEND: u64 = 11;
const NAMES: [&str; 12] = [
    "table of files ($MFT)",
    "copy of the table of files ($MFTMirr)",
    "journal ($LogFile)",
    "volume ($Volume)",
    "kinds of attributes ($AttrDef)",
    "root folder",
    "bitmap of clusters ($Bitmap)",
    "boot area ($Boot)",
    "bad clusters ($BadClus)",
    "security descriptors ($Secure)",
    "upper case ($UpCase)",
    "further structures ($Extend)",
];

pub(super) struct Ntfs {
    table: Mft,
    patience: Rc<Patience>,
}

impl Ntfs {
    pub(super) fn open(window: Window) -> Result<Self, Trouble> {
        let patience = window.patience();
        Ok(Self { table: Mft::open(window)?, patience })
    }
}

struct NtfsItem<'a> {
    table: &'a mut Mft,
    named: NamedRecord,
}

impl NtfsItem<'_> {
    fn own_record(&mut self) -> Result<Record, Trouble> {
        let record = self.table.record(self.number())?;
        let record = record.filter(|record| record.base.is_none() && record.is_meant_by(self.named.file));
        record.ok_or_else(|| Trouble::Damaged("its record belongs to another file by now".to_owned()))
    }

    /// The unnamed data of a file, if it has any.
    fn data(&mut self, record: &Record) -> Result<Option<Value>, Trouble> {
        self.table.data_of(self.number(), record)
    }
}

impl Item for NtfsItem<'_> {
    fn name(&self) -> &[u8] {
        &self.named.name
    }

    fn number(&self) -> u64 {
        self.named.file.number
    }

    fn is_folder(&self) -> Option<bool> {
        Some(self.named.is_folder)
    }

    fn record(&mut self) -> Option<Range<u64>> {
        self.table.only_record(self.named.file.number).ok().flatten()
    }

    fn mapping(&mut self) -> Result<Vec<u8>, Trouble> {
        let record = self.own_record()?;
        Ok(self.data(&record)?.map(|data| data.mapping()).unwrap_or_default())
    }

    fn facts(&mut self) -> Result<Facts, Trouble> {
        let record = self.own_record()?;
        let kind = match (record.is_special(), record.is_folder) {
            // Links, and files whose content lies elsewhere or in another form: their data is not what they show.
            (true, _) => EntryKind::Other,
            (false, true) => EntryKind::Folder,
            (false, false) => EntryKind::File,
        };
        let data = if kind == EntryKind::File { self.data(&record)? } else { None };
        let of_file = |of: fn(&Value) -> u64| (kind == EntryKind::File).then(|| data.as_ref().map_or(0, of));
        let (size, allocated) = (of_file(|data| data.len), of_file(|data| data.allocated.min(data.len)));
        Ok(Facts { kind, size, allocated, modified: record.modified(), permissions: None })
    }

    fn target(&mut self) -> Result<Vec<u8>, Trouble> {
        Err(Trouble::Unsupported("where links of NTFS lead only their guest can tell".to_owned()))
    }

    fn places(&mut self, take: &mut TakePlace<'_>) -> Result<(), Trouble> {
        let cluster = self.table.cluster;
        self.table.places(self.named.file.number, &mut |run| take(run.start * cluster..run.end * cluster))
    }

    fn content(&mut self, take: &mut Take<'_>) -> Result<(), Trouble> {
        let record = self.own_record()?;
        if record.is_special() {
            let what = "its content is kept elsewhere, or in a form that only its guest can read";
            return Err(Trouble::Unsupported(what.to_owned()));
        }
        let Some(data) = self.data(&record)? else { return Ok(()) };
        data.refuse_unreadable()?;
        self.table.content(&data, PIECE, take)
    }
}

impl System for Ntfs {
    fn root(&self) -> u64 {
        ROOT
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
        let Some(record) = self.table.record(folder.number)?.filter(|record| record.is_in_use) else {
            return Err(Trouble::Damaged("it has no record".to_owned()));
        };
        let patience = &self.patience;
        self.table.names(folder.number, &record, &mut |table, names| {
            for named in names.into_iter().filter(|named| named.file.number >= FIRST_OF_USERS) {
                patience.renew();
                if !visit(&mut NtfsItem { table: &mut *table, named })? {
                    return Ok(false);
                }
            }
            Ok(true)
        })
    }

    fn ignores_case(&self) -> bool {
        true
    }

    fn has_links(&self) -> bool {
        true
    }

    fn len(&self) -> u64 {
        self.table.len
    }

    fn own(&mut self, is_met: &mut dyn FnMut(u64) -> bool, take: &mut TakeOwn<'_>) {
        let table = &mut self.table;
        let cluster = table.cluster;
        if table.len + table.sector <= table.window_len() {
            take(OwnTold::Of(Own::Structure("second boot sector")));
            take(OwnTold::Place(table.len..table.len + table.sector));
        }
        for number in 0..table.records {
            self.patience.renew();
            let record = match table.record(number) {
                Ok(Some(record)) if record.is_in_use && record.base.is_none() => record,
                Ok(_) => continue,
                Err(trouble) => match take(OwnTold::Doubt(trouble)) {
                    true => continue,
                    false => return,
                },
            };
            let Some(own) = own_of(number, &record, is_met) else { continue };
            let mut going_on = take(OwnTold::Of(own));
            let walked = table.places(number, &mut |run| {
                going_on = going_on && take(OwnTold::Place(run.start * cluster..run.end * cluster));
                Ok(())
            });
            if !going_on || walked.is_err_and(|trouble| !take(OwnTold::Doubt(trouble))) {
                return;
            }
        }
    }

    fn free(&mut self, within: Range<u64>, take: &mut dyn FnMut(Range<u64>)) -> Result<(), Trouble> {
        let cluster = self.table.cluster;
        self.table.free(within.start / cluster..within.end.div_ceil(cluster), &mut |run| {
            take((run.start * cluster).max(within.start)..(run.end * cluster).min(within.end));
        })
    }

    fn deleted(&mut self, take: &mut TakeRemains<'_>) -> Result<(), Trouble> {
        ntfs_deleted::all(&mut self.table, &self.patience, take)
    }

    fn deleted_content(&mut self, remains: &Remains, take: &mut Take<'_>) -> Result<(), Trouble> {
        ntfs_deleted::content(&mut self.table, remains, take)
    }

    fn vouch_for_free(&mut self) -> Result<(), Trouble> {
        self.table.refuse_waiting_journal()
    }
}

/// What a record holds that no folder names.
fn own_of(number: u64, record: &Record, is_met: &mut dyn FnMut(u64) -> bool) -> Option<Own> {
    if number == ROOT {
        return Some(Own::Root);
    }
    if let Some(name) = NAMES.get(number as usize) {
        return Some(Own::Structure(name));
    }
    if is_met(number) {
        return None;
    }
    let name = record.name();
    if name.as_ref().is_some_and(|name| name.folder.number == EXTEND) {
        return Some(Own::Structure(NAMES[EXTEND as usize]));
    }
    let name = name.map(|name| format!(" ({})", String::from_utf8_lossy(&name.name))).unwrap_or_default();
    Some(Own::Nameless(format!("record {number}{name}, which no folder names")))
}
