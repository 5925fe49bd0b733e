//! The structural validator: every rule of the format over one file, without its parents.

use std::sync::Arc;

use super::header::HEADERS;
use super::layout::Layout;
use super::region::TABLES;
use super::table::State;
use super::{ALIGNMENT, PAGE};
use crate::bytes::{index, is_zero};
use crate::error::{Error, Result};
use crate::finding::{Finding, TableEntry, VhdxFinding};
use crate::progress::Progress;
use crate::storage::ReadAt;

/// Everything that is wrong, unusual or worth knowing about one image file; an empty list means that every structure
/// is sound. Nothing is written. The cost depends on the used part of the table, not on the virtual size.
///
/// # Errors
/// `Io` and `Cancelled` only; damage is a finding, not an error.
pub fn check(storage: Arc<dyn ReadAt>, progress: &Progress) -> Result<Vec<Finding>> {
    let path = storage.path().to_owned();
    let mut findings = Vec::new();
    match check_all(storage, progress, &mut findings) {
        Ok(()) => {}
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => findings.push(*finding),
        Err(other) => return Err(other),
    }
    Ok(findings.into_iter().map(|finding| finding.at(&path)).collect())
}

fn check_all(storage: Arc<dyn ReadAt>, progress: &Progress, findings: &mut Vec<Finding>) -> Result<()> {
    let file_len = storage.len()?;
    let layout = Layout::read(storage.clone(), findings)?;
    if layout.pending.is_some() {
        findings.push(Finding::new(VhdxFinding::LogPending, layout.log.offset));
    }
    if !file_len.is_multiple_of(ALIGNMENT) {
        findings.push(Finding::new(VhdxFinding::FileLength { file: file_len }, file_len));
    }
    check_reserved(&layout, findings)?;
    // Twice through the table: its entries, then the bitmaps that they name.
    let name = storage.path().file_name().unwrap_or(storage.path().as_os_str()).to_string_lossy().into_owned();
    progress.begin(format!("checking {name}"), layout.table_used()?.saturating_mul(2));
    let (found, claims) = layout.judge_table(progress)?;
    findings.extend(found);
    check_bitmaps(&layout, progress, findings)?;
    if let Some((first, _)) = claims.unused().next() {
        let bytes = claims.unused().map(|(_, len)| len).sum();
        findings.push(Finding::new(VhdxFinding::SpaceUnused { bytes }, first));
    }
    Ok(())
}

/// What the file type identifier says ends here; the rest of its place is reserved.
pub(super) const IDENTIFIED: u64 = 520;
/// What is set aside for each structure of the header section.
pub(super) const PLACE: u64 = 64 << 10;
/// Where the header section has no more structures.
pub(super) const RESERVED: u64 = 320 << 10;

/// Fields that writers leave zero and readers ignore.
fn check_reserved(layout: &Layout, findings: &mut Vec<Finding>) -> Result<()> {
    let place = HEADERS[layout.slot];
    let places = [
        ("file type identifier", IDENTIFIED, PLACE - IDENTIFIED),
        ("header", place.saturating_add(80), PAGE - 80),
        ("header", place.saturating_add(PAGE), PLACE - PAGE),
        ("region table 1", TABLES[0].saturating_add(12), 4),
        ("reserved part of the header section", RESERVED, ALIGNMENT - RESERVED),
    ];
    for (structure, offset, len) in places {
        let mut bytes = vec![0; index(len)];
        layout.view.read_at(&mut bytes, offset)?;
        if !is_zero(&bytes) {
            findings.push(Finding::new(VhdxFinding::Reserved { structure }, offset));
        }
    }
    Ok(())
}

/// Every bit of every partially present block can be read.
fn check_bitmaps(layout: &Layout, progress: &Progress, findings: &mut Vec<Finding>) -> Result<()> {
    let table = layout.table();
    let sectors = layout.geometry.sectors();
    layout.for_each_entry(progress, |index, entry| {
        let TableEntry::Payload(block) = layout.geometry.role(index) else { return Ok(()) };
        let partial = entry.state() == State::PARTIALLY_PRESENT && layout.geometry.has_parent;
        if index >= layout.geometry.entries || !partial || table.judge(index, entry).is_err() {
            return Ok(());
        }
        let (mut first, mut any) = (0u64, false);
        while first < sectors {
            match table.bit_run(block, first, sectors) {
                Ok((set, run)) => {
                    any |= set && run > 0;
                    first = first.saturating_add(run);
                }
                // Already among the findings of the table.
                Err(Error::Damaged(_)) => return Ok(()),
                Err(other) => return Err(other),
            }
        }
        if !any {
            findings.push(Finding::new(VhdxFinding::BlockEmpty { block }, table.place(index)));
        }
        Ok(())
    })
}
