//! Whether pinned images still are what was pinned.

use std::path::Path;

use super::report::CheckReport;
use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::finding::{CompanionFinding, Finding};
use crate::image::Format;
use crate::progress::Progress;
use crate::sidecar::{Companion, Pin};
use crate::transfer::changed_since;

/// Ranges that are told one by one.
const MOST_RANGES: usize = 50;

/// Reads a pinned image and compares it with its digests.
pub(super) fn verify(path: &Path, format: Option<Format>, progress: &Progress, report: &mut CheckReport) -> Result<()> {
    let Some(pin) = pin_of(path, &mut report.findings) else { return Ok(()) };
    // A chain that does not open has findings of its own.
    let Ok(disk) = Chain::open(path, &OpenOptions::of_format(format)) else { return Ok(()) };
    if disk.info().data_identity != pin.identity {
        report.findings.push(Finding::new(CompanionFinding::PinIdentity, 0).at(path));
    }
    let changed = match changed_since(&disk, &pin, progress) {
        Err(Error::Damaged(finding)) => {
            report.findings.push(*finding);
            return Ok(());
        }
        other => other?,
    };
    let told = changed.iter().take(MOST_RANGES);
    report.findings.extend(told.map(|range| {
        let (offset, length) = (range.start, range.end - range.start);
        Finding::new(CompanionFinding::PinChanged { offset, length, pinned: pin.pinned }, 0).at(path)
    }));
    if let Some(last) = report.findings.last_mut().filter(|_| changed.len() > MOST_RANGES) {
        last.more = true;
    }
    Ok(())
}

fn pin_of(path: &Path, findings: &mut Vec<Finding>) -> Option<Pin> {
    match Companion::known(path) {
        Ok(companion) => companion.and_then(|companion| companion.pin),
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
            findings.push(*finding);
            None
        }
        // An image can be read without its companion.
        Err(_) => None,
    }
}
