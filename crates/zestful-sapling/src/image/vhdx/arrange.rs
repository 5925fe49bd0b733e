//! The blocks of a VHDX image move to other places in its file.

use std::ops::Range;

use super::ALIGNMENT;
use super::layout::Layout;
use super::space::{Claims, SpaceMap};
use super::state::VhdxMut;
use super::table::{ENTRY_LEN, Entry};
use crate::bytes::{fit_u32, in_units};
use crate::error::Result;
use crate::finding::{Severity, TableEntry};
use crate::image::moving::{Movable, Moves, copy_within};
use crate::image::placement::{Arrangement, Placed, Placement, packed_end};
use crate::progress::Progress;
use crate::storage::Storage;

/// An image whose blocks move. Which of them have a place does not change meanwhile.
struct Moving<'a> {
    image: &'a mut VhdxMut,
    layout: &'a Layout,
}

impl Layout {
    /// How the blocks stand in the file; `None` when the used part of the table is longer than `most` bytes.
    ///
    /// # Errors
    /// `Io`.
    pub(super) fn placement(&self, most: u64, pack: bool) -> Result<Option<Placement>> {
        if !self.table_uses_at_most(most)? {
            return Ok(None);
        }
        let (table, geometry, file_len) = (self.table(), &self.geometry, self.bounds.file_len);
        let mut found = Placement { file_len, packed_len: file_len, ..Placement::default() };
        let (mut last, mut claims, mut end) = (None, Claims::new(file_len), 0);
        let taken = self.bounds.taken.iter();
        taken.for_each(|(start, end, _)| _ = claims.claim(*start, end.saturating_sub(*start)));
        let fixed_end = self.bounds.taken.iter().map(|(_, end, _)| *end).max().unwrap_or(0);
        let mut movable = Vec::new();
        self.for_each_entry(&Progress::new(), |index, entry| {
            let role = geometry.role(index);
            let is_used = index < geometry.entries && entry.state().has_place() && table.judge(index, entry).is_ok();
            if is_used && (geometry.has_parent || matches!(role, TableEntry::Payload(_))) {
                claims.claim(entry.offset(), geometry.len_of(role));
                match role {
                    TableEntry::Payload(_) => {
                        found.note(&mut last, entry.offset(), geometry.block_size);
                        movable.extend((pack && entry.offset() >= fixed_end).then(|| unit_of(entry.offset())));
                    }
                    // Those fit into gaps that are too small for blocks.
                    TableEntry::Bitmap(_) => end = end.max(entry.offset().saturating_add(ALIGNMENT)),
                }
            }
            Ok(())
        })?;
        if !pack {
            return Ok(Some(found));
        }
        movable.sort_unstable();
        let block = geometry.block_size;
        let place_in = |gap: &Range<u64>| Some(gap.start).filter(|at| at.saturating_add(block) <= gap.end);
        let gaps = claims.unused().map(|(at, len)| at..at.saturating_add(len));
        let packed = packed_end(movable, ALIGNMENT, block, gaps, place_in).max(fixed_end);
        // The bitmaps behind them follow, as far as gaps are left; one block more or less tells nobody anything.
        found.packed_len = if end > packed { end.min(packed.saturating_add(block)) } else { packed }.min(file_len);
        Ok(Some(found))
    }

    /// The sector bitmaps by chunk, and where they stand.
    fn placed_bitmaps(&self) -> Result<Vec<(u64, u64)>> {
        let (geometry, mut bitmaps) = (&self.geometry, Vec::new());
        self.for_each_entry(&Progress::new(), |index, entry| {
            if geometry.has_parent
                && let TableEntry::Bitmap(chunk) = geometry.role(index)
                && index < geometry.entries
                && entry.state().has_place()
            {
                bitmaps.push((chunk, entry.offset()));
            }
            Ok(())
        })?;
        Ok(bitmaps)
    }
}

/// What places are counted in: the format's offsets are whole MiB.
fn unit_of(place: u64) -> u32 {
    fit_u32(place / ALIGNMENT)
}

impl VhdxMut {
    /// Blocks move, and the file is cut behind the last of them. Content and data identity stay. What was moved before
    /// an error stays moved.
    pub(super) fn arrange_blocks(&mut self, how: Arrangement, mut moves: Moves<'_>) -> Result<()> {
        let moved = self.move_all(how, &mut moves);
        self.turn().holds = false;
        let ended = self.end_session().and_then(|()| self.give_back_unused());
        moved.and(ended)
    }

    fn move_all(&mut self, how: Arrangement, moves: &mut Moves<'_>) -> Result<()> {
        loop {
            self.turn().holds = true;
            self.end_session()?;
            let layout = Layout::read(self.storage.clone(), &mut Vec::new())?;
            let (found, claims) = layout.judge_table(&Progress::new())?;
            // Of two blocks that share a place one would be lost when the other moves.
            if let Some(bad) = found.into_iter().find(|finding| finding.severity() == Severity::Error) {
                return Err(bad.into());
            }
            if how == Arrangement::Kept {
                return Ok(());
            }
            self.turn().space = SpaceMap::new(Some(&claims), layout.bounds.file_len);
            if !self.move_table_down(&layout)? {
                return self.move_blocks(how, &layout, moves);
            }
        }
    }

    /// A table that a growth laid behind the blocks stands in the way of a shorter file: it goes where there is room.
    fn move_table_down(&mut self, layout: &Layout) -> Result<bool> {
        let (bat, taken) = (layout.bat, &layout.bounds.taken);
        let is_last = taken.iter().all(|(_, end, _)| *end <= bat.end());
        let needed = layout.geometry.entries.saturating_mul(ENTRY_LEN).next_multiple_of(ALIGNMENT);
        let place = if is_last { self.turn().space.allocate_below(needed, bat.offset) } else { None };
        let Some(place) = place else { return Ok(false) };
        self.move_table(layout, layout.geometry, place)?;
        *self = Self::open(self.storage.inner())?;
        Ok(true)
    }

    fn move_blocks(&mut self, how: Arrangement, layout: &Layout, moves: &mut Moves<'_>) -> Result<()> {
        // What stands before a structure that stays is not in the way of a shorter file.
        let fixed_end = layout.bounds.taken.iter().map(|(_, end, _)| *end).max().unwrap_or(0);
        let from = if how == Arrangement::InOrder { 0 } else { fixed_end };
        moves.pack(&mut Moving { image: self, layout }, from)?;
        self.pack_bitmaps(layout.placed_bitmaps()?.into_iter().filter(|(_, place)| *place >= from).collect())?;
        if how == Arrangement::InOrder {
            moves.order(&mut Moving { image: self, layout })?;
        }
        Ok(())
    }

    /// Bitmaps fill the gaps that are too small for blocks, the last first.
    fn pack_bitmaps(&mut self, mut bitmaps: Vec<(u64, u64)>) -> Result<()> {
        bitmaps.sort_unstable_by_key(|(_, place)| *place);
        while let Some((chunk, from)) = bitmaps.pop() {
            let Some(to) = self.turn().space.allocate_below(ALIGNMENT, from) else { break };
            self.begin_file(&mut self.session())?;
            self.put(|storage| copy_within(storage, from, to, ALIGNMENT))?;
            self.table.set_bitmap(chunk, to)?;
            self.turn().released.push((from, ALIGNMENT));
            self.commit()?;
            // Another structure may come to stand there.
            for page in in_units(from, ALIGNMENT, super::PAGE) {
                self.table.pages.parts.forget(from.saturating_add(page.done));
            }
        }
        Ok(())
    }
}

impl Movable for Moving<'_> {
    fn stride(&self) -> u64 {
        self.image.table.geometry.block_size
    }

    fn unit(&self) -> u64 {
        ALIGNMENT
    }

    fn each_placed(&self, visit: &mut dyn FnMut(Placed)) -> Result<()> {
        let geometry = &self.layout.geometry;
        self.layout.for_each_entry(&Progress::new(), |index, entry| {
            if let TableEntry::Payload(block) = geometry.role(index)
                && index < geometry.entries
                && entry.state().has_place()
            {
                // The file may not know yet where it stands now.
                let place = self.image.table.payload(block)?.offset();
                visit(Placed { block: fit_u32(block), place: unit_of(place) });
            }
            Ok(())
        })
    }

    fn shift(&mut self, block: u64, from: u64, to: u64) -> Result<()> {
        let len = self.stride();
        self.image.begin_file(&mut self.image.session())?;
        if to.saturating_add(len) > self.image.table.file_len() {
            let end = self.image.turn().space.end();
            self.image.put(|storage| storage.set_len(end))?;
            self.image.table.set_file_len(end);
        }
        self.image.put(|storage| copy_within(storage, from, to, len))?;
        let mut turn = self.image.turn_with_room()?;
        let state = self.image.table.payload(block)?.state();
        self.image.table.set_payload(block, Entry::new(state, to))?;
        turn.released.push((from, len));
        Ok(())
    }

    fn take_below(&mut self, below: u64) -> Result<Option<u64>> {
        let len = self.stride();
        Ok(self.image.turn().space.allocate_below(len, below))
    }

    fn take_any(&mut self) -> Result<u64> {
        let len = self.stride();
        Ok(self.image.turn().space.allocate(len).offset)
    }

    fn take(&mut self, place: u64) -> Result<()> {
        let len = self.stride();
        let is_free = self.image.turn().space.take(place, len);
        debug_assert!(is_free, "{place} is taken");
        Ok(())
    }

    fn leave(&mut self, place: u64) {
        let len = self.stride();
        self.image.turn().space.release(place, len);
    }

    fn secure(&mut self) -> Result<()> {
        self.image.commit()
    }
}
