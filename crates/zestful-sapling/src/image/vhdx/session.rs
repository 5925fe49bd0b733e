//! How changes of a VHDX image become durable.
//!
//! Payload is written to its place at once; what makes it visible, the table and the sector bitmaps, changes in memory
//! only, after the payload is there. Writes into sectors that the image holds already need no turn; whatever changes
//! the table takes one. A commit then
//!
//! 1. takes the changed pages, in a turn, so that no change is half-made;
//! 2. syncs the file: payload, new length, and the pages of earlier commits in their places;
//! 3. writes the pages as one log entry and syncs: from here on they count, and a replay finds them;
//! 4. writes the pages to their places, to be made durable by the next commit's step 2, so that the next entry may
//!    name itself as the tail.
//!
//! A power loss before the end of 3 leaves the image of the commit before, one after it the new one. Writing goes on
//! during all of this. Space given back is used again only after the commit, when nobody who saw the old table is at
//! work any more.
//!
//! What fails for want of space is taken back and may be tried again; only a failed sync is final. The order of locks
//! is: session, turn, pages.

use std::sync::atomic::Ordering;

use uuid::Uuid;

use super::PAGE;
use super::header::{HEADERS, Header};
use super::log_writer::LogWriter;
use super::state::{Session, VhdxMut};
use crate::bytes::{in_units, index, wide};
use crate::error::Result;
use crate::finding::{Finding, VhdxFinding};
use crate::image::parts::Taken;
use crate::storage::{ReadAt, Storage};

impl VhdxMut {
    /// Before the first change of content in a session: a log under a new id, then a header that names it and carries
    /// new identifiers of the file and of the content.
    pub(super) fn begin(&self) -> Result<()> {
        if self.begun.load(Ordering::Acquire) {
            return Ok(());
        }
        let mut session = self.session();
        match session.renewed {
            true => self.begin_file(&mut session)?,
            false => self.put_data_identity(&mut session, Uuid::new_v4())?,
        }
        self.begun.store(true, Ordering::Release);
        Ok(())
    }

    pub(super) fn put_data_identity(&self, session: &mut Session, identity: Uuid) -> Result<()> {
        session.header.data_write = identity;
        match session.log {
            Some(_) => session.slot = write_header(&*self.storage, &mut session.header, session.slot)?,
            None => self.begin_file(session)?,
        }
        self.info.renew(identity);
        session.renewed = true;
        Ok(())
    }

    /// Before the first change of any kind in a session: a log under a new id, then a header that names it and
    /// carries a new identifier of the file.
    pub(super) fn begin_file(&self, session: &mut Session) -> Result<()> {
        if session.log.is_some() {
            return Ok(());
        }
        let end = {
            let turn = self.turn();
            let end = turn.space.end();
            if self.storage.len()? != end {
                self.storage.set_len(end)?;
                self.table.set_file_len(end);
                self.storage.sync()?;
            }
            end
        };
        let log = LogWriter::begin(&*self.storage, self.log_place, end)?;
        session.header.log = log.log;
        session.header.file_write = Uuid::new_v4();
        session.slot = write_header(&*self.storage, &mut session.header, session.slot)?;
        session.log = Some(log);
        Ok(())
    }

    /// Changes bytes of a structure; the next commit carries them.
    pub(super) fn change_bytes(&self, at: u64, mut bytes: &[u8]) -> Result<()> {
        for step in in_units(at, wide(bytes.len()), PAGE) {
            let (part, rest) = bytes.split_at(index(step.len));
            let place = at.saturating_add(step.done);
            self.table.pages.change(place, |page, within| page[within..][..part.len()].copy_from_slice(part))?;
            bytes = rest;
        }
        Ok(())
    }

    pub(super) fn commit(&self) -> Result<()> {
        self.commits.share(|| self.commit_alone())
    }

    fn commit_alone(&self) -> Result<()> {
        let mut session = self.session();
        let Session { log, unplaced, .. } = &mut *session;
        let Some(log) = log else { return Ok(()) };
        self.put_in_place(unplaced)?;
        // From here on others may change pages again: what is taken is what one moment held.
        let (pages, released, end) = {
            let mut turn = self.turn();
            (self.table.pages.parts.take(), std::mem::take(&mut turn.released), turn.space.end())
        };
        let unsynced = self.unsynced.swap(false, Ordering::AcqRel);
        let mut append = || {
            if unsynced || !pages.is_empty() {
                self.storage.sync()?;
            }
            if !pages.is_empty() {
                log.append(&*self.storage, &pages, end)?;
            }
            Ok(())
        };
        if let Err(error) = append() {
            self.unsynced.store(true, Ordering::Release);
            self.table.pages.parts.take_back(&pages);
            self.turn().released.extend(released);
            return Err(error);
        }
        *unplaced = pages;
        // All that was asked for is durable. What has no room in its place now is tried again by the next commit, and a
        // replay would find it in the log.
        _ = self.put_in_place(unplaced);
        let generation = self.visitors.turn_over();
        let mut turn = self.turn();
        turn.retired.extend(released.into_iter().map(|place| (generation, place)));
        self.reclaim(&mut turn);
        Ok(())
    }

    /// Writes pages that the log holds to their places.
    fn put_in_place(&self, unplaced: &mut Vec<Taken>) -> Result<()> {
        for (at, page) in unplaced.iter() {
            self.storage.write_at(page, *at)?;
        }
        self.table.pages.parts.settle(unplaced);
        unplaced.clear();
        Ok(())
    }

    /// Leaves the file as one that nobody writes to: the log empty, both headers alike, and nothing taken ahead.
    pub(super) fn end_session(&self) -> Result<()> {
        self.commit()?;
        let end = self.turn().space.end();
        let mut session = self.session();
        let Session { header, slot, log, unplaced, renewed, .. } = &mut *session;
        if log.is_some() {
            self.put_in_place(unplaced)?;
            // What the last growth took too much is named by nothing.
            if self.table.file_len() > end {
                self.storage.set_len(end)?;
                self.table.set_file_len(end);
            }
            // The last commit's pages reach their places before the log stops naming them.
            self.storage.sync()?;
            // Whatever becomes of the headers, the next change begins a session of its own.
            (*log, *renewed) = (None, false);
            self.begun.store(false, Ordering::Release);
            header.log = Uuid::nil();
            *slot = write_header(&*self.storage, header, *slot)?;
            // Both headers agree, so that losing one of them loses nothing.
            *slot = write_header(&*self.storage, header, *slot)?;
        }
        session.renewed = false;
        self.begun.store(false, Ordering::Release);
        Ok(())
    }
}

/// Writes the header over the one that is not current, and syncs: it is current from then on. Returns its place.
pub(super) fn write_header(storage: &dyn Storage, header: &mut Header, slot: usize) -> Result<usize> {
    let target = usize::from(slot == 0);
    let newer = header.sequence.checked_add(1);
    header.sequence = newer.ok_or_else(|| Finding::new(VhdxFinding::Sequence, HEADERS[slot]))?;
    storage.write_at(&header.encode(), HEADERS[target])?;
    storage.sync()?;
    Ok(target)
}
