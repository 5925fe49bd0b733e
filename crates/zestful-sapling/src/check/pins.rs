//! Whether pinned images still are what was pinned.

use std::path::Path;

use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::finding::{CompanionFinding, Finding, FindingList};
use crate::image::Format;
use crate::progress::Progress;
use crate::sidecar::{Companion, Pin};
use crate::transfer::changed_since;

/// Reads a pinned image and compares it with its digests.
pub(super) fn verify(path: &Path, format: Option<Format>, progress: &Progress) -> Result<Vec<Finding>> {
    let mut findings = Vec::new();
    let Some(pin) = pin_of(path, &mut findings) else { return Ok(findings) };
    // A chain that does not open has findings of its own.
    let Ok(disk) = Chain::open(path, &OpenOptions::of_format(format)) else { return Ok(findings) };
    if disk.info().data_identity != pin.identity {
        findings.push(Finding::new(CompanionFinding::PinIdentity, 0).at(path));
    }
    let changed = match changed_since(&disk, &pin, progress) {
        Err(Error::Damaged(finding)) => {
            findings.push(*finding);
            return Ok(findings);
        }
        other => other?,
    };
    let mut list = FindingList::default();
    for range in changed {
        let (offset, length) = (range.start, range.end - range.start);
        let kind = CompanionFinding::PinChanged { offset, length, pinned: pin.pinned };
        list.push(Finding::new(kind, 0).at(path).doubting(range));
    }
    findings.extend(list.into_vec());
    Ok(findings)
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
