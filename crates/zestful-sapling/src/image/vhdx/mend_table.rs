//! What is damaged in the block allocation table is put right.
//!
//! A block whose bytes are gone reads as zero afterwards, never as what the parent holds: what is lost is to be seen.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::bitmap::fill;
use super::judge::lost_of;
use super::layout::Layout;
use super::metadata_edits;
use super::space::Claims;
use super::table::{Entry, State};
use super::{ALIGNMENT, PAGE};
use crate::bytes::{in_units, index, is_zero, split};
use crate::error::Result;
use crate::finding::{Losses, TableEntry, VhdxFinding};
use crate::image::{Mended, counted, data_in};
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::{Overlay, ReadAt, Storage};

/// Entries that are changed at most: more are not kept in memory meanwhile.
const MOST_ENTRIES: usize = 1 << 18;

/// Mends all entries that break the same rule as `kind` says; `None` where nothing says how.
pub(super) fn mend(storage: &Arc<Overlay>, kind: &VhdxFinding, progress: &Progress) -> Result<Option<Mended>> {
    let layout = Layout::read(storage.clone(), &mut Vec::new())?;
    let table = Entries { storage, layout: &layout, progress };
    match kind {
        VhdxFinding::EntryUnneeded { .. } => table.clear_unneeded(),
        VhdxFinding::EntryReserved { .. } => table.clear_reserved(),
        VhdxFinding::EntryPlace { .. } => table.clear_places(),
        VhdxFinding::BitmapUnneeded { .. } => table.clear_bitmaps(),
        VhdxFinding::BlockState { .. } => table.give_states(),
        VhdxFinding::BlockPartial { .. } => table.explain_partial(),
        VhdxFinding::BlockOutside { .. } => table.end_inside(),
        VhdxFinding::BlockOverlap { .. } => table.choose_owners(),
        VhdxFinding::BitmapMissing { .. } => table.make_bitmaps(),
        _ => Ok(None),
    }
}

/// Somebody who claims a place of the file that others claim as well.
struct Claimant {
    index: u64,
    role: TableEntry,
    entry: Entry,
    /// How many of its neighbours in the table are its neighbours in the file.
    neighbours: u32,
}

struct Entries<'a> {
    storage: &'a Arc<Overlay>,
    layout: &'a Layout,
    progress: &'a Progress,
}

impl Entries<'_> {
    /// Sets every entry for which `change` tells another one; how many those were.
    fn rewrite(&self, mut change: impl FnMut(u64, Entry) -> Result<Option<Entry>>) -> Result<usize> {
        let mut changed: Vec<(u64, Entry)> = Vec::new();
        self.layout.for_each_entry(self.progress, |index, entry| {
            changed.extend(change(index, entry)?.filter(|new| *new != entry).map(|new| (index, new)));
            match changed.len() < MOST_ENTRIES {
                true => Ok(()),
                false => Err(self.storage.too_much()),
            }
        })?;
        let table = self.layout.table();
        changed.iter().try_for_each(|(at, entry)| self.storage.write_at(&entry.0.to_le_bytes(), table.place(*at)))?;
        Ok(changed.len())
    }

    fn is_needed(&self, index: u64) -> bool {
        index < self.layout.geometry.entries
    }

    fn clear_unneeded(&self) -> Result<Option<Mended>> {
        let count = self.rewrite(|index, _| Ok((!self.is_needed(index)).then_some(Entry(0))))?;
        Ok(told("vhdx-entry-unneeded", count, "clear", "behind the last block's"))
    }

    fn clear_reserved(&self) -> Result<Option<Mended>> {
        let clear = |entry: Entry| Entry(entry.0 & !entry.reserved_bits());
        let count = self.rewrite(|index, entry| Ok(self.is_needed(index).then(|| clear(entry))))?;
        Ok(told("vhdx-entry-reserved", count, "clear the bits that mean nothing in", "of the table"))
    }

    fn clear_places(&self) -> Result<Option<Mended>> {
        let geometry = &self.layout.geometry;
        let count = self.rewrite(|index, entry| {
            let state = entry.state();
            let keeps = state.may_keep_place() && matches!(geometry.role(index), TableEntry::Payload(_));
            let is_wrong = self.is_needed(index) && !state.has_place() && !keeps && entry.offset() != 0;
            Ok((is_wrong && [State::NOT_PRESENT, State::ZERO].contains(&state)).then(|| Entry::new(state, 0)))
        })?;
        Ok(told("vhdx-entry-place", count, "clear the place in", "of blocks that take no space"))
    }

    fn clear_bitmaps(&self) -> Result<Option<Mended>> {
        let geometry = &self.layout.geometry;
        let count = self.rewrite(|index, _| {
            let is_bitmap = matches!(geometry.role(index), TableEntry::Bitmap(_)) && !geometry.has_parent;
            Ok((self.is_needed(index) && is_bitmap).then_some(Entry(0)))
        })?;
        Ok(told("vhdx-bitmap-unneeded", count, "clear", "of sector bitmaps, which the image does not need"))
    }

    /// What becomes of an entry of which nothing is left.
    fn given_up(&self, role: TableEntry, content: &mut Losses) -> Entry {
        match role {
            TableEntry::Payload(block) => {
                content.lose(self.layout.geometry.range_of(block));
                Entry::new(State::ZERO, 0)
            }
            TableEntry::Bitmap(_) => Entry(0),
        }
    }

    fn give_states(&self) -> Result<Option<Mended>> {
        let (table, geometry) = (self.layout.table(), &self.layout.geometry);
        let (_, mut claims) = self.layout.judge_table(self.progress)?;
        let (mut content, mut taken) = (Losses::default(), 0usize);
        let count = self.rewrite(|index, entry| {
            let role = geometry.role(index);
            let is_known = match role {
                TableEntry::Payload(_) => entry.state().0 <= 3 || entry.state().has_place(),
                TableEntry::Bitmap(_) => [State::NOT_PRESENT, State::FULLY_PRESENT].contains(&entry.state()),
            };
            if !self.is_needed(index) || is_known {
                return Ok(None);
            }
            let present = Entry::new(State::FULLY_PRESENT, entry.offset());
            let is_free = entry.offset() != 0
                && table.judge(index, present).is_ok()
                && claims.claim(entry.offset(), geometry.len_of(role));
            if !is_free {
                return Ok(Some(self.given_up(role, &mut content)));
            }
            taken = taken.saturating_add(1);
            if let TableEntry::Payload(block) = role {
                content.doubt(geometry.range_of(block));
            }
            Ok(Some(present))
        })?;
        let what = format!(
            "give {} a legal state: {taken} of them with a place that nothing else claims, which count as present, the \
             others as zeros",
            counted(count, "entry", "entries")
        );
        Ok((count > 0).then(|| Mended::new("vhdx-block-state", what).touching(content)))
    }

    fn explain_partial(&self) -> Result<Option<Mended>> {
        let code = "vhdx-block-partial";
        let edits = metadata_edits::say_has_parent(&**self.storage, self.layout.metadata)?;
        if !edits.is_empty() {
            edits.iter().try_for_each(|(at, bytes)| self.storage.write_at(bytes, *at))?;
            let what = "say again that the image has a parent: it has a parent locator, and blocks that need one";
            return Ok(Some(Mended::new(code, what)));
        }
        let (geometry, mut content) = (&self.layout.geometry, Losses::default());
        let count = self.rewrite(|index, entry| match geometry.role(index) {
            TableEntry::Payload(block) if self.is_needed(index) && entry.state() == State::PARTIALLY_PRESENT => {
                content.doubt(geometry.range_of(block));
                Ok(Some(Entry::new(State::FULLY_PRESENT, entry.offset())))
            }
            _ => Ok(None),
        })?;
        let blocks = counted(count, "block", "blocks");
        let what = format!("take {blocks} as wholly present: the image has no parent for the rest");
        Ok((count > 0).then(|| Mended::new(code, what).touching(content)))
    }

    /// Blocks that begin inside the file are completed with zeros, others are given up.
    fn end_inside(&self) -> Result<Option<Mended>> {
        let (table, geometry) = (self.layout.table(), &self.layout.geometry);
        let file = table.file_len();
        let (mut content, mut end, mut completed) = (Losses::default(), file, 0usize);
        let gone = self.rewrite(|index, entry| {
            let role = geometry.role(index);
            let stop = entry.offset().saturating_add(geometry.len_of(role));
            let has_place =
                entry.state().has_place() && (geometry.has_parent || matches!(role, TableEntry::Payload(_)));
            if !self.is_needed(index) || !has_place || stop <= file {
                return Ok(None);
            }
            match role {
                TableEntry::Payload(block) if entry.offset() < file => {
                    (end, completed) = (end.max(stop), completed.saturating_add(1));
                    content.lose(lost_of(geometry, block, entry, file));
                    Ok(None)
                }
                // Of a bitmap, too: zeros in it would show what the parent holds.
                _ => Ok(Some(self.given_up(role, &mut content))),
            }
        })?;
        if end > file {
            self.storage.set_len(end.next_multiple_of(ALIGNMENT))?;
        }
        let complete =
            format!("complete {} with zeros: the end of the file was cut", counted(completed, "block", "blocks"));
        let give_up =
            format!("give up {} behind the end of the file: zeros stand there", counted(gone, "place", "places"));
        let what = match (completed, gone) {
            (0, 0) => return Ok(None),
            (0, _) => give_up,
            (_, 0) => complete,
            _ => format!("{complete}; {give_up}"),
        };
        Ok(Some(Mended::new("vhdx-block-outside", what).touching(content)))
    }

    /// Of those who claim one place the one keeps it that stands among its neighbours; a block that lies over a
    /// structure is given up.
    fn choose_owners(&self) -> Result<Option<Mended>> {
        let (table, geometry) = (self.layout.table(), &self.layout.geometry);
        let (claimants, contested) = self.claimants()?;
        let (mut content, mut lose, mut kept) = (Losses::default(), BTreeMap::new(), Ranges::default());
        let mut first: Option<String> = None;
        for one in &claimants {
            let place = one.entry.offset()..one.entry.offset().saturating_add(geometry.len_of(one.role));
            let taken = kept.within(place.clone()).next().is_some();
            if taken {
                lose.insert(one.index, one.role);
                continue;
            }
            kept.add(place);
            if let TableEntry::Payload(block) = one.role {
                content.doubt(geometry.range_of(block));
            }
            first.get_or_insert_with(|| {
                let why = match one.neighbours {
                    0 => "the first of them in the table",
                    _ => "its neighbours in the table are its neighbours in the file",
                };
                format!("{} keeps the place at {}: {why}", one.role, one.entry.offset())
            });
        }
        let count = self.rewrite(|index, entry| {
            let role = geometry.role(index);
            let over_structure = self.is_needed(index)
                && matches!(table.judge(index, entry), Err(finding) if finding.code() == "vhdx-block-overlap");
            Ok((over_structure || lose.contains_key(&index)).then(|| self.given_up(role, &mut content)))
        })?;
        let more = match (first, contested.list().len()) {
            (None, _) => "they lie over structures of the file".to_owned(),
            (Some(first), 1) => first,
            (Some(first), many) => format!("in the first of {many} places {first}"),
        };
        let entries = counted(count, "entry", "entries");
        let what = format!("give up {entries} with a place that others claim as well, zeros stand there; {more}");
        Ok((count > 0).then(|| Mended::new("vhdx-block-overlap", what).touching(content)))
    }

    /// All who claim places that others claim as well, the best claim first, and those places.
    fn claimants(&self) -> Result<(Vec<Claimant>, Ranges)> {
        let (table, geometry) = (self.layout.table(), &self.layout.geometry);
        let (mut claims, mut contested) = (Claims::new(table.file_len()), Ranges::default());
        let is_sound = |index: u64, entry: Entry| {
            self.is_needed(index)
                && entry.state().has_place()
                && (geometry.has_parent || matches!(geometry.role(index), TableEntry::Payload(_)))
                && table.judge(index, entry).is_ok()
        };
        let place_of = |index: u64, entry: Entry| {
            entry.offset()..entry.offset().saturating_add(geometry.len_of(geometry.role(index)))
        };
        self.layout.for_each_entry(self.progress, |index, entry| {
            let place = place_of(index, entry);
            if is_sound(index, entry) && !claims.claim(place.start, place.end.saturating_sub(place.start)) {
                contested.add(place);
            }
            Ok(())
        })?;
        let mut claimants = Vec::new();
        self.layout.for_each_entry(self.progress, |index, entry| {
            if is_sound(index, entry) && contested.within(place_of(index, entry)).next().is_some() {
                let role = geometry.role(index);
                let neighbours = match role {
                    TableEntry::Payload(block) => self.neighbours(block, entry)?,
                    // A bitmap speaks of many blocks.
                    TableEntry::Bitmap(_) => 3,
                };
                claimants.push(Claimant { index, role, entry, neighbours });
            }
            match claimants.len() < MOST_ENTRIES {
                true => Ok(()),
                false => Err(self.storage.too_much()),
            }
        })?;
        claimants.sort_by_key(|one| (std::cmp::Reverse(one.neighbours), one.index));
        Ok((claimants, contested))
    }

    fn neighbours(&self, block: u64, entry: Entry) -> Result<u32> {
        let (table, geometry) = (self.layout.table(), &self.layout.geometry);
        let stands_at = |block: Option<u64>, place: Option<u64>| -> Result<bool> {
            let (Some(block), Some(place)) = (block.filter(|block| *block < geometry.blocks), place) else {
                return Ok(false);
            };
            Ok(table.payload(block).is_ok_and(|other| other.state().has_place() && other.offset() == place))
        };
        let before = stands_at(block.checked_sub(1), entry.offset().checked_sub(geometry.block_size))?;
        let behind = stands_at(block.checked_add(1), entry.offset().checked_add(geometry.block_size))?;
        Ok(u32::from(before).saturating_add(u32::from(behind)))
    }

    /// A new bitmap for each chunk that needs one: sectors that hold anything but zeros count as present.
    fn make_bitmaps(&self) -> Result<Option<Mended>> {
        let (table, geometry) = (self.layout.table(), &self.layout.geometry);
        let (mut content, mut chunks) = (Losses::default(), BTreeMap::<u64, Vec<(u64, Entry)>>::new());
        self.layout.for_each_entry(self.progress, |index, entry| {
            let TableEntry::Payload(block) = geometry.role(index) else { return Ok(()) };
            let chunk = geometry.chunk_of(block);
            let is_partial = self.is_needed(index)
                && entry.state() == State::PARTIALLY_PRESENT
                && table.judge(index, entry).is_ok()
                && table.bitmap(chunk).is_ok_and(|bitmap| bitmap.is_none());
            if is_partial {
                chunks.entry(chunk).or_default().push((block, entry));
            }
            Ok(())
        })?;
        for (chunk, blocks) in &chunks {
            let mut bits = vec![0; index(ALIGNMENT)];
            for (block, entry) in blocks {
                self.note_sectors(*block, *entry, &mut bits)?;
                content.doubt(geometry.range_of(*block));
            }
            let place = self.storage.len()?.next_multiple_of(ALIGNMENT);
            self.storage.set_len(place.saturating_add(ALIGNMENT))?;
            for step in in_units(0, ALIGNMENT, PAGE) {
                let page = &bits[index(step.done)..][..index(step.len)];
                // What is new reads as zero.
                if !is_zero(page) {
                    self.storage.write_at(page, place.saturating_add(step.done))?;
                }
            }
            let entry = Entry::new(State::FULLY_PRESENT, place);
            self.storage.write_at(&entry.0.to_le_bytes(), table.place(geometry.bitmap_index(*chunk)))?;
        }
        let what = format!(
            "make {} anew: sectors that hold anything but zeros count as this layer's, the others as the parent's",
            counted(chunks.len(), "sector bitmap", "sector bitmaps")
        );
        Ok((!chunks.is_empty()).then(|| Mended::new("vhdx-bitmap-missing", what).touching(content)))
    }

    fn note_sectors(&self, block: u64, entry: Entry, bits: &mut [u8]) -> Result<()> {
        const STEP: u64 = 64 << 10;
        let geometry = &self.layout.geometry;
        let (_, within) = split(block, geometry.chunk_ratio);
        let base = within.saturating_mul(geometry.sectors());
        let (mut at, mut buffer) = (0, vec![0; index(STEP)]);
        while at < geometry.block_size {
            self.progress.check()?;
            let data =
                data_in(&**self.storage, entry.offset().saturating_add(at), geometry.block_size.saturating_sub(at))?;
            at = (data.start.saturating_sub(entry.offset()) / STEP).saturating_mul(STEP);
            if data.is_empty() {
                break;
            }
            let len = STEP.min(geometry.block_size.saturating_sub(at));
            let part = &mut buffer[..index(len)];
            self.storage.read_at(part, entry.offset().saturating_add(at))?;
            let (mut sector, _) = split(at, geometry.sector);
            for bytes in part.chunks(index(geometry.sector)) {
                if !is_zero(bytes) {
                    fill(bits, base.saturating_add(sector), 1, true);
                }
                sector = sector.saturating_add(1);
            }
            at = at.saturating_add(len);
        }
        Ok(())
    }
}

/// What was done to so many entries; nothing, if those are none.
fn told(code: &'static str, count: usize, act: &str, which: &str) -> Option<Mended> {
    (count > 0).then(|| Mended::new(code, format!("{act} {} {which}", counted(count, "entry", "entries"))))
}
