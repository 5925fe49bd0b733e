//! The structural validator: every rule of the format over one file, without its parents.

use std::sync::Arc;

use super::header::HEADERS;
use super::layout::Layout;
use super::region::TABLES;
use super::table::{Role, State};
use super::{ALIGNMENT, PAGE};
use crate::bytes::is_zero;
use crate::error::{Error, Result};
use crate::finding::{Finding, Repair};
use crate::progress::Progress;
use crate::size::format_size;
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
        let message = "changes wait in the log; opening the image for writing puts them in place";
        findings.push(Finding::note("vhdx-log-pending", "log", layout.log.offset, message));
    }
    if !file_len.is_multiple_of(ALIGNMENT) {
        let message = format!("the file's length {file_len} is no multiple of 1 MiB");
        findings.push(Finding::warning("vhdx-file-length", "file", file_len, message, Repair::Safe));
    }
    check_reserved(&layout, findings)?;
    // Twice through the table: its entries, then the bitmaps that they name.
    let name = storage.path().file_name().unwrap_or(storage.path().as_os_str()).to_string_lossy().into_owned();
    progress.begin(format!("checking {name}"), 2 * layout.table_used()?);
    let (found, claims) = layout.judge_table(progress)?;
    findings.extend(found);
    check_bitmaps(&layout, progress, findings)?;
    let leaked: u64 = claims.unused().map(|(_, len)| len).sum();
    if leaked > 0 {
        let first = claims.unused().next().map_or(0, |(offset, _)| offset);
        let message = format!("{} in the file are used by nothing", format_size(leaked));
        findings.push(Finding::note("vhdx-space-unused", "file", first, message));
    }
    Ok(())
}

/// Fields that writers leave zero and readers ignore.
fn check_reserved(layout: &Layout, findings: &mut Vec<Finding>) -> Result<()> {
    let places = [
        ("header", HEADERS[layout.slot] + 80, PAGE - 80),
        ("region table 1", TABLES[0] + 12, 4),
        ("reserved part of the header section", TABLES[1] + (64 << 10), ALIGNMENT - TABLES[1] - (64 << 10)),
    ];
    for (structure, offset, len) in places {
        let mut bytes = vec![0; len as usize];
        layout.view.read_at(&mut bytes, offset)?;
        if !is_zero(&bytes) {
            let message = "reserved bytes are not zero";
            findings.push(Finding::warning("vhdx-reserved", structure, offset, message, Repair::Safe));
        }
    }
    Ok(())
}

/// Every bit of every partially present block can be read.
fn check_bitmaps(layout: &Layout, progress: &Progress, findings: &mut Vec<Finding>) -> Result<()> {
    let table = layout.table();
    let sectors = layout.geometry.block_size / layout.geometry.sector;
    layout.for_each_entry(progress, |index, entry| {
        let Role::Payload(block) = layout.geometry.role(index) else { return Ok(()) };
        let partial = entry.state() == State::PARTIALLY_PRESENT && layout.geometry.has_parent;
        if index >= layout.geometry.entries || !partial || table.judge(index, entry).is_err() {
            return Ok(());
        }
        let (mut first, mut present) = (0, 0);
        while first < sectors {
            match table.bit_run(block, first, sectors) {
                Ok((set, run)) => {
                    present += if set { run } else { 0 };
                    first += run;
                }
                // Already among the findings of the table.
                Err(Error::Damaged(_)) => return Ok(()),
                Err(other) => return Err(other),
            }
        }
        if present == 0 {
            let message = format!("block {block} is partially present, yet none of its sectors is");
            let at = layout.bat.offset + index * super::table::ENTRY_LEN;
            findings.push(Finding::note("vhdx-block-empty", "block allocation table", at, message));
        }
        Ok(())
    })
}
