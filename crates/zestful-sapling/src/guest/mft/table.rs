//! The table of files, which is a file itself.

use std::ops::Range;

use super::boot::Boot;
use super::record::{ATTRIBUTE_LIST, Attribute, DATA, Record};
use super::value::Value;
use crate::bytes::{index, le_u16};
use crate::guest::row::Row;
use crate::guest::trouble::Trouble;
use crate::guest::window::Window;

const TABLE: u64 = 0;
const JOURNAL: u64 = 2;
const BITMAP: u64 = 6;
/// The largest there are.
const MOST_CLUSTER: u64 = 2 << 20;
/// A bitmap is looked at in pieces of this.
const PIECE: u64 = 32 << 10;

/// A volume's table of files.
pub(in crate::guest) struct Mft {
    pub(super) window: Window,
    /// The length of a cluster, and how many there are.
    pub(in crate::guest) cluster: u64,
    pub(in crate::guest) clusters: u64,
    /// The length of the file system, without the copy of its first sector.
    pub(in crate::guest) len: u64,
    pub(in crate::guest) sector: u64,
    record_len: u64,
    /// How many records there are.
    pub(in crate::guest) records: u64,
    own: Value,
    bitmap: Option<Value>,
}

fn damaged<T>(what: impl Into<String>) -> Result<T, Trouble> {
    Err(Trouble::Damaged(what.into()))
}

impl Mft {
    pub(in crate::guest) fn open(mut window: Window) -> Result<Self, Trouble> {
        let boot = Boot::of(&window.bytes(0, 512)?);
        let boot = boot.filter(|boot| {
            (256..=4096).contains(&boot.sector)
                && boot.sector * boot.per_cluster <= MOST_CLUSTER
                && boot.record_len.is_power_of_two()
                && (512..=64 << 10).contains(&boot.record_len)
                && boot.sectors < (1 << 60) / boot.sector
                && boot.table < boot.clusters()
        });
        let Some(boot) = boot else { return damaged("the boot sector contradicts itself") };
        let Boot { sector, record_len, table: first, .. } = boot;
        let (cluster, clusters, len) = (sector * boot.per_cluster, boot.clusters(), boot.sectors * sector);
        let mut bytes = vec![0; index(record_len)];
        window.read_at(&mut bytes, first * cluster)?;
        let Some(base) = Record::parse(bytes, TABLE)? else {
            return damaged("the table of files has no record of itself");
        };
        let (own, bitmap) = (Value::default(), None);
        let mut table = Self { window, cluster, clusters, len, sector, record_len, records: 0, own, bitmap };
        // The records that tell of the rest lie in the part that its first record tells of.
        for attribute in base.attributes() {
            let attribute = attribute?;
            if attribute.kind == DATA && attribute.name().is_empty() {
                table.own.add(&attribute, clusters)?;
            }
        }
        table.records = table.own.len / record_len;
        if let Some(own) = table.value(TABLE, &base, DATA, &[])? {
            table.own = own;
        }
        // It has no holes, and lies in the volume.
        let held = table.own.runs().fold(0u64, |sum, run| sum.saturating_add(run.end - run.start));
        table.records = table.own.len.min(held.min(clusters).saturating_mul(cluster)) / record_len;
        Ok(table)
    }

    /// A record; none where none was ever written.
    pub(in crate::guest) fn record(&mut self, number: u64) -> Result<Option<Record>, Trouble> {
        if number >= self.records {
            return damaged(format!("there is no record {number}"));
        }
        let mut bytes = vec![0; index(self.record_len)];
        let own = std::mem::take(&mut self.own);
        let read = self.read_value(&own, &mut bytes, number * self.record_len);
        self.own = own;
        read?;
        Record::parse(bytes, number)
    }

    /// Where the record of a file stands on the volume, in bytes; none when it has several, or lies in pieces.
    pub(in crate::guest) fn only_record(&mut self, number: u64) -> Result<Option<Range<u64>>, Trouble> {
        let Some(record) = self.record(number)? else { return Ok(None) };
        let has_list = record.attributes().any(|attribute| attribute.is_ok_and(|one| one.kind == ATTRIBUTE_LIST));
        let (place, len) = self.own.place(number * self.record_len, self.record_len, self.cluster)?;
        let place = place.filter(|_| !has_list && len == self.record_len);
        Ok(place.map(|place| place..place + self.record_len))
    }

    /// All clusters that a file takes, whose base record this is: of its content, its streams, its list of names.
    pub(in crate::guest) fn places(
        &mut self,
        number: u64,
        take: &mut dyn FnMut(Range<u64>) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let Some(base) = self.record(number)? else { return damaged(format!("record {number} was never written")) };
        let clusters = self.clusters;
        let mut of = |attribute: &Attribute<'_>| match attribute.is_outside() {
            true => attribute.runs(clusters, &mut |_, run| run.map_or(Ok(()), &mut *take)),
            false => Ok(()),
        };
        let mut list = None;
        for attribute in base.attributes() {
            let attribute = attribute?;
            of(&attribute)?;
            if attribute.kind == ATTRIBUTE_LIST {
                list = Some(attribute);
            }
        }
        let records = list.map_or_else(|| Ok(Vec::new()), |list| self.parts(number, &base, &list, None))?;
        for record in &records {
            for attribute in record.attributes() {
                of(&attribute?)?;
            }
        }
        Ok(())
    }

    /// The clusters that one record tells of, whatever it belongs to, and whether it is in use.
    pub(in crate::guest) fn runs_of_record(
        &self,
        record: &Record,
        take: &mut dyn FnMut(Range<u64>),
    ) -> Result<(), Trouble> {
        for attribute in record.attributes() {
            let attribute = attribute?;
            if attribute.is_outside() {
                attribute.runs(self.clusters, &mut |_, run| {
                    run.into_iter().for_each(&mut *take);
                    Ok(())
                })?;
            }
        }
        Ok(())
    }

    /// Refuses a volume in whose journal changes may wait: neither of its two first pages may say that it is in use.
    pub(in crate::guest) fn refuse_waiting_journal(&mut self) -> Result<(), Trouble> {
        const PAGE: u64 = 4096;
        const NOBODY: u16 = 0xFFFF;
        const IS_CLEAN: u16 = 0x2;
        let journal = self.data(JOURNAL)?;
        for at in [0, PAGE] {
            let mut page = vec![0; index(PAGE)];
            self.read_value(&journal, &mut page, at)?;
            // One that was emptied from outside holds nothing.
            if page.iter().all(|byte| *byte == 0xFF) {
                continue;
            }
            let area = page.get(usize::from(le_u16(&page, 24))..).filter(|area| area.len() >= 16);
            let area = area.filter(|_| page.starts_with(b"RSTR"));
            let is_clean = area.is_some_and(|area| le_u16(area, 12) == NOBODY || le_u16(area, 14) & IS_CLEAN != 0);
            if !is_clean {
                return damaged("changes may wait in its journal");
            }
        }
        Ok(())
    }

    /// The length of what it lies in.
    pub(in crate::guest) fn window_len(&self) -> u64 {
        self.window.len()
    }

    /// The unnamed data of a file, if it has any.
    pub(in crate::guest) fn data_of(&mut self, number: u64, record: &Record) -> Result<Option<Value>, Trouble> {
        self.value(number, record, DATA, &[])
    }

    /// The same of a file that must have it.
    fn data(&mut self, number: u64) -> Result<Value, Trouble> {
        let Some(record) = self.record(number)? else { return damaged(format!("record {number} was never written")) };
        let value = self.data_of(number, &record)?;
        value.map_or_else(|| damaged(format!("record {number} has no content")), Ok)
    }

    /// Calls `take` with the clusters of a range that the bitmap marks as free, upwards.
    pub(in crate::guest) fn free(
        &mut self,
        within: Range<u64>,
        take: &mut dyn FnMut(Range<u64>),
    ) -> Result<(), Trouble> {
        let bitmap = match self.bitmap.take() {
            Some(bitmap) => bitmap,
            None => self.data(BITMAP)?,
        };
        if bitmap.len.saturating_mul(8) < self.clusters {
            return damaged("the bitmap has fewer bits than the volume has clusters");
        }
        let read = self.free_in(&bitmap, within, take);
        self.bitmap = Some(bitmap);
        read
    }

    fn free_in(&mut self, bitmap: &Value, within: Range<u64>, take: &mut dyn FnMut(Range<u64>)) -> Result<(), Trouble> {
        let (mut at, end) = (within.start, within.end.min(self.clusters));
        let (patience, mut row) = (self.window.patience(), Row::default());
        while at < end {
            patience.renew();
            let first = at / 8;
            let last = end.div_ceil(8).min((first / PIECE + 1) * PIECE);
            let mut bytes = vec![0; index(last - first)];
            self.read_value(bitmap, &mut bytes, first)?;
            let stop = end.min(last * 8);
            for number in at..stop {
                let bit = number - first * 8;
                let is_free = bytes[index(bit / 8)] & 1 << (bit % 8) == 0;
                row.see(number..number + 1, is_free, take);
            }
            at = stop;
        }
        row.end(take);
        Ok(())
    }
}
