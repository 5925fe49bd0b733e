//! The table judged as a whole: every entry by itself, and that no two blocks share a place.

use std::ops::Range;
use std::sync::Arc;

use super::ALIGNMENT;
use super::layout::Layout;
use super::space::Claims;
use super::table::{ENTRY_LEN, Entry, Geometry, State, Table};
use crate::error::Result;
use crate::finding::{Finding, FindingKind, FindingList, Losses, TableEntry, VhdxFinding};
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::ReadAt;

impl Geometry {
    /// The bytes of the disk that a block stands for.
    pub(super) fn range_of(&self, block: u64) -> Range<u64> {
        let start = block.saturating_mul(self.block_size);
        start..start.saturating_add(self.visible_len(block))
    }

    /// Bytes of the file that an entry of the table speaks of.
    pub(super) fn len_of(&self, entry: TableEntry) -> u64 {
        match entry {
            TableEntry::Bitmap(_) => ALIGNMENT,
            TableEntry::Payload(_) => self.block_size,
        }
    }
}

/// What is lost of a block that does not lie wholly inside a file of this length.
pub(super) fn lost_of(geometry: &Geometry, block: u64, entry: Entry, file: u64) -> Range<u64> {
    let range = geometry.range_of(block);
    let left = file.saturating_sub(entry.offset());
    range.start.saturating_add(left).min(range.end)..range.end
}

/// What it means for the content that the entry of a block breaks a rule.
fn with_content(table: &Table, finding: Finding, block: u64, entry: Entry) -> Finding {
    let range = table.geometry.range_of(block);
    match &finding.kind {
        FindingKind::Vhdx(VhdxFinding::BlockOutside { .. }) => {
            finding.losing(lost_of(&table.geometry, block, entry, table.file_len()))
        }
        // The place belongs to a structure.
        FindingKind::Vhdx(VhdxFinding::BlockOverlap { .. }) => finding.losing(range),
        _ => finding.doubting(range),
    }
}

/// The blocks of one chunk of which the chunk's bitmap tells the sectors.
#[derive(Default)]
struct Partial {
    chunk: u64,
    content: Losses,
}

impl Partial {
    fn note(&mut self, geometry: &Geometry, block: u64, entry: Entry) {
        let chunk = geometry.chunk_of(block);
        if chunk != self.chunk {
            *self = Self { chunk, content: Losses::default() };
        }
        if entry.state() == State::PARTIALLY_PRESENT {
            self.content.doubt(geometry.range_of(block));
        }
    }

    fn of(&self, chunk: u64) -> Losses {
        if chunk == self.chunk { self.content.clone() } else { Losses::default() }
    }
}

impl Layout {
    /// Judges every entry of the table, and that no two blocks share a place.
    pub(super) fn judge_table(&self, progress: &Progress) -> Result<(Vec<Finding>, Claims)> {
        let (table, geometry) = (self.table(), &self.geometry);
        let (mut findings, mut partial) = (FindingList::default(), Partial::default());
        let mut claims = Claims::new(self.bounds.file_len);
        // Kept apart: a place that an entry without content still names may belong to another block, which is no
        // damage.
        let mut kept = Claims::new(self.bounds.file_len);
        for (start, end, _) in &self.bounds.taken {
            claims.claim(*start, end.saturating_sub(*start));
        }
        let mut contested = Ranges::default();
        self.for_each_entry(progress, |index, entry| {
            let (at, role) = (table.place(index), geometry.role(index));
            let found = |kind| Finding::new(kind, at);
            if index >= geometry.entries {
                findings.push(found(VhdxFinding::EntryUnneeded { index }));
                return Ok(());
            }
            if let TableEntry::Payload(block) = role {
                partial.note(geometry, block, entry);
            }
            if entry.reserved_bits() != 0 {
                findings.push(found(VhdxFinding::EntryReserved { entry: role, value: entry.0 }));
            }
            if let Err(finding) = table.judge(index, entry) {
                findings.push(match role {
                    TableEntry::Payload(block) => with_content(&table, finding, block, entry),
                    TableEntry::Bitmap(chunk) => Finding { content: Box::new(partial.of(chunk)), ..finding },
                });
                return Ok(());
            }
            if let TableEntry::Bitmap(chunk) = role
                && !geometry.has_parent
            {
                findings.push(found(VhdxFinding::BitmapUnneeded { chunk }));
                return Ok(());
            }
            let len = geometry.len_of(role);
            if !entry.state().has_place() {
                if entry.state().may_keep_place() && matches!(role, TableEntry::Payload(_)) {
                    // The program that wrote the entry may count on the place: no new block goes there.
                    kept.claim(entry.offset(), if entry.offset() == 0 { 0 } else { len });
                } else if entry.offset() != 0 {
                    findings.push(found(VhdxFinding::EntryPlace { entry: role, offset: entry.offset() }));
                }
                return Ok(());
            }
            if !claims.claim(entry.offset(), len) {
                let over = "another block".to_owned();
                contested.add(entry.offset()..entry.offset().saturating_add(len));
                findings.push(found(VhdxFinding::BlockOverlap { entry: role, offset: entry.offset(), over }));
            }
            if let TableEntry::Payload(block) = role
                && entry.state() == State::PARTIALLY_PRESENT
                && table.bitmap(geometry.chunk_of(block)).is_ok_and(|bitmap| bitmap.is_none())
            {
                let chunk = geometry.chunk_of(block);
                let missing = found(VhdxFinding::BitmapMissing { block, chunk });
                findings.push(missing.doubting(geometry.range_of(block)));
            }
            Ok(())
        })?;
        claims.join(&kept);
        let mut findings = findings.into_vec();
        if !contested.is_empty() {
            let doubts = self.content_at(&contested, progress, |content, block, _| {
                content.doubt(geometry.range_of(block));
            })?;
            let is_contest =
                |finding: &&mut Finding| finding.code() == "vhdx-block-overlap" && finding.content.is_empty();
            findings.iter_mut().find(is_contest).into_iter().for_each(|finding| *finding.content = doubts.clone());
        }
        Ok((findings, claims))
    }

    /// What is lost where the file once ended at this byte and was lengthened with zeros.
    pub(super) fn cut_at(&self, file: u64, progress: &Progress) -> Result<Losses> {
        let behind: Ranges = std::iter::once(file..self.bounds.file_len).collect();
        self.content_at(&behind, progress, |content, block, entry| {
            content.lose(lost_of(&self.geometry, block, entry, file));
        })
    }

    /// The content whose blocks, or whose bitmaps, lie at these places of the file: of blocks `touch` says what becomes
    /// of them, of bitmaps all is in doubt that they speak of.
    fn content_at(
        &self,
        places: &Ranges,
        progress: &Progress,
        touch: impl Fn(&mut Losses, u64, Entry),
    ) -> Result<Losses> {
        let (table, geometry) = (self.table(), &self.geometry);
        let (mut content, mut partial) = (Losses::default(), Partial::default());
        self.for_each_entry(progress, |index, entry| {
            let role = geometry.role(index);
            if let TableEntry::Payload(block) = role {
                partial.note(geometry, block, entry);
            }
            let is_used = index < geometry.entries && entry.state().has_place() && table.judge(index, entry).is_ok();
            let place = entry.offset()..entry.offset().saturating_add(geometry.len_of(role));
            if is_used && places.within(place).next().is_some() {
                match role {
                    TableEntry::Payload(block) => touch(&mut content, block, entry),
                    TableEntry::Bitmap(chunk) => content.join(&partial.of(chunk)),
                }
            }
            Ok(())
        })?;
        Ok(content)
    }
}

/// What is in doubt where these parts of the file could not be read and count as zeros: blocks that the table seems not
/// to have, and sectors that a bitmap seems to leave to the parent. All else has checksums, or does not open.
///
/// # Errors
/// `Io`, `Cancelled`; `Damaged` when the image does not open.
pub(crate) fn doubt_of_unreadable(storage: Arc<dyn ReadAt>, bad: &Ranges, progress: &Progress) -> Result<Losses> {
    let layout = Layout::read(storage, &mut Vec::new())?;
    let geometry = &layout.geometry;
    let mut content = layout.content_at(bad, progress, |_, _, _| ())?;
    for range in bad.within(layout.bat.offset..layout.bat.end()) {
        let first = range.offset.saturating_sub(layout.bat.offset) / ENTRY_LEN;
        let after = range.end().saturating_sub(layout.bat.offset).div_ceil(ENTRY_LEN).min(geometry.entries);
        let (start, stop) = (geometry.block_from(first), geometry.block_from(after).min(geometry.blocks));
        content.doubt(geometry.range_of(start).start..geometry.range_of(stop).start.min(geometry.virtual_size));
    }
    Ok(content)
}
