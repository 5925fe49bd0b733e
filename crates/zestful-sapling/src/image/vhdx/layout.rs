//! Everything that opening an image finds out, in the order in which it may be trusted: headers, log, regions,
//! metadata, table. Each step judges what it reads; `check` runs the same steps and keeps all findings.

use std::sync::Arc;

use uuid::Uuid;

use super::MAX_FILE_SIZE;
use super::header::{Current, HEADER_SECTION, Header, select};
use super::metadata::{self, Parameters};
use super::region::{self, Region};
use super::replay::{Replayed, replay};
use super::space::Claims;
use super::table::{Bounds, ENTRY_LEN, Entry, Geometry, Table};
use crate::bytes::{index, is_zero, le_u64};
use crate::error::{Error, Result};
use crate::finding::{Finding, VhdxFinding};
use crate::image::{Format, ImageInfo, Kind};
use crate::progress::Progress;
use crate::storage::ReadAt;

/// Tables whose used part is no larger are read and judged whole at opening; of larger ones each page is judged when it
/// is read. A table of 1 MiB speaks of 256 GiB in blocks of 2 MiB, or of 4 TiB in blocks of 32 MiB.
const JUDGED_AT_OPENING: u64 = 1 << 20;

/// An image whose structures are known and sound, its table not yet read.
pub(super) struct Layout {
    pub(super) header: Header,
    /// Which of the two places holds it.
    pub(super) slot: usize,
    pub(super) log: Region,
    pub(super) bat: Region,
    pub(super) metadata: Region,
    pub(super) parameters: Parameters,
    pub(super) geometry: Geometry,
    pub(super) bounds: Bounds,
    /// The file as it is once its log is replayed.
    pub(super) view: Arc<dyn ReadAt>,
    /// What the replay changes, when there is one.
    pub(super) pending: Option<Arc<Replayed>>,
}

impl Layout {
    /// Reads everything but the table.
    pub(super) fn read(storage: Arc<dyn ReadAt>, findings: &mut Vec<Finding>) -> Result<Self> {
        let Current { header, slot, content_settled } = select(&*storage, findings)?;
        let log =
            Region { id: Uuid::nil(), offset: header.log_offset, len: u64::from(header.log_length), required: false };
        let pending = match header.log.is_nil() {
            true => None,
            false => {
                let replayed = replay(storage.clone(), &header, log).map_err(|error| match error {
                    Error::Damaged(finding) if content_settled && finding.code() == "vhdx-log-sequence" => {
                        Finding::new(VhdxFinding::LogEmpty, log.offset).into()
                    }
                    other => other,
                });
                Some(Arc::new(replayed?))
            }
        };
        let view: Arc<dyn ReadAt> = match &pending {
            Some(replayed) => replayed.clone(),
            None => storage,
        };
        let file_len = view.len()?;
        if file_len > MAX_FILE_SIZE {
            return Err(Finding::new(VhdxFinding::FileSize { file: file_len, most: MAX_FILE_SIZE }, 0).into());
        }
        let regions = region::read(&*view, log, findings)?;
        let find = |id: Uuid, region: &'static str| {
            let found = regions.iter().find(|region| region.id == id).copied();
            found.ok_or_else(|| Finding::new(VhdxFinding::RegionMissing { region }, region::TABLES[0]))
        };
        let bat = find(region::BAT, "block allocation table")?;
        let metadata = find(region::METADATA, "metadata region")?;
        let parameters = metadata::read(&*view, metadata, findings)?;
        let geometry = Geometry::new(&parameters);
        if geometry.entries.saturating_mul(ENTRY_LEN) > bat.len {
            let (room, size, needed) = (bat.len / ENTRY_LEN, parameters.virtual_size, geometry.entries);
            return Err(Finding::new(VhdxFinding::TableShort { room, size, needed }, bat.offset).into());
        }
        let mut taken =
            vec![(0, HEADER_SECTION, "the header section".to_owned()), (log.offset, log.end(), "the log".to_owned())];
        taken.extend(regions.iter().map(|region| (region.offset, region.end(), format!("the {}", region.name()))));
        let bounds = Bounds { file_len, taken };
        Ok(Self { header, slot, log, bat, metadata, parameters, geometry, bounds, view, pending })
    }

    pub(super) fn table(&self) -> Table {
        Table::new(self.view.clone(), self.geometry, self.bounds.clone(), self.bat.offset)
    }

    /// Judges the table if it is small; the result tells which space is in use.
    ///
    /// # Errors
    /// The first finding that forbids opening.
    pub(super) fn judge_small_table(&self, findings: &mut Vec<Finding>) -> Result<Option<Claims>> {
        if !self.table_uses_at_most(JUDGED_AT_OPENING)? {
            return Ok(None);
        }
        let (found, claims) = self.judge_table(&Progress::new())?;
        match found.iter().position(Finding::prevents_opening) {
            Some(first) => Err(found[first].clone().into()),
            None => {
                findings.extend(found);
                Ok(Some(claims))
            }
        }
    }

    /// Bytes of the table outside of the host's holes; counting stops soon after `most`.
    fn table_used_upto(&self, most: u64) -> Result<u64> {
        let (mut at, mut used) = (self.bat.offset, 0);
        while let Some(data) = self.view.next_data(at)?.filter(|data| data.start < self.bat.end()) {
            used = data.end.min(self.bat.end()).saturating_sub(data.start).saturating_add(used);
            at = data.end;
            if used > most {
                break;
            }
        }
        Ok(used)
    }

    /// Bytes of the table outside of the host's holes.
    pub(super) fn table_used(&self) -> Result<u64> {
        self.table_used_upto(u64::MAX)
    }

    /// Whether the table has no more bytes than that outside of the host's holes.
    pub(super) fn table_uses_at_most(&self, most: u64) -> Result<bool> {
        Ok(self.table_used_upto(most)? <= most)
    }

    /// Calls `act` for each entry of the table that is not all zero, in order.
    pub(super) fn for_each_entry(
        &self,
        progress: &Progress,
        mut act: impl FnMut(u64, Entry) -> Result<()>,
    ) -> Result<()> {
        const STEP: u64 = 64 << 10;
        let mut buffer = vec![0; index(STEP)];
        let (mut at, end) = (self.bat.offset, self.bat.end());
        while let Some(data) = self.view.next_data(at)?.filter(|data| data.start < end) {
            at = (data.start / STEP).saturating_mul(STEP);
            while at < data.end.min(end) {
                progress.check()?;
                let len = STEP.min(end.saturating_sub(at));
                let bytes = &mut buffer[..index(len)];
                self.view.read_at(bytes, at)?;
                if !is_zero(bytes) {
                    let first = at.saturating_sub(self.bat.offset) / ENTRY_LEN;
                    for (number, raw) in (first..).zip(bytes.chunks_exact(index(ENTRY_LEN))) {
                        let entry = Entry(le_u64(raw, 0));
                        if entry.0 != 0 {
                            act(number, entry)?;
                        }
                    }
                }
                at = at.saturating_add(len);
                progress.advance(len);
            }
        }
        Ok(())
    }

    pub(super) fn info(&self) -> ImageInfo {
        let parameters = &self.parameters;
        let kind = match (&parameters.parent, parameters.leave_blocks_allocated) {
            (Some(_), _) => Kind::Differencing,
            (None, true) => Kind::Fixed,
            (None, false) => Kind::Dynamic,
        };
        ImageInfo {
            format: Format::Vhdx,
            kind,
            virtual_size: parameters.virtual_size,
            block_size: Some(parameters.block_size),
            logical_sector: parameters.logical_sector,
            physical_sector: parameters.physical_sector,
            identity: Some(parameters.disk_id),
            data_identity: Some(self.header.data_write),
            time_stamp: None,
            parent: parameters.parent.clone(),
            log_pending: self.pending.is_some(),
            saved_state: false,
        }
    }
}
