//! Whether pinned images still are what was pinned.

use std::path::Path;

use super::report::CheckReport;
use crate::chain::{Chain, OpenOptions};
use crate::error::{Error, Result};
use crate::finding::{Finding, Repair};
use crate::image::{Format, Image};
use crate::progress::Progress;
use crate::sidecar::{Companion, Pin, touched_since};
use crate::size::format_size;
use crate::transfer::changed_since;

/// Ranges that are told one by one.
const MOST_RANGES: usize = 50;

/// Reads a pinned image and compares it with its digests.
pub(super) fn verify(path: &Path, format: Option<Format>, progress: &Progress, report: &mut CheckReport) -> Result<()> {
    let Some(pin) = pin_of(path, &mut report.findings) else { return Ok(()) };
    // A chain that does not open has findings of its own.
    let Ok(disk) = Chain::open(path, &OpenOptions::of_format(format)) else { return Ok(()) };
    judge_identity(&*disk.layers()[0], &pin, &mut report.findings);
    let changed = match changed_since(&disk, &pin, progress) {
        Err(Error::Damaged(finding)) => {
            report.findings.push(*finding);
            return Ok(());
        }
        other => other?,
    };
    for range in changed.iter().take(MOST_RANGES) {
        let message = format!(
            "{} at byte {} of the disk are no longer what was pinned {:.0}; verifying the pin tells which children \
             read them",
            format_size(range.end - range.start),
            range.start,
            pin.pinned
        );
        report.findings.push(finding(path, "pin-changed", message));
    }
    if changed.len() > MOST_RANGES {
        let message = format!("{} more ranges are no longer what was pinned", changed.len() - MOST_RANGES);
        report.findings.push(finding(path, "pin-changed", message));
    }
    Ok(())
}

/// Looks whether a pinned parent was touched, without reading it.
pub(super) fn look(parent: &dyn Image, findings: &mut Vec<Finding>) {
    let path = parent.path();
    let Some(pin) = pin_of(path, findings) else { return };
    judge_identity(parent, &pin, findings);
    if let Some(message) = touched_since(path, &pin) {
        // Until it is verified nobody knows what is read through it.
        findings.push(finding(path, "pin-touched", message));
    }
}

fn judge_identity(image: &dyn Image, pin: &Pin, findings: &mut Vec<Finding>) {
    if image.info().data_identity != pin.identity {
        let message =
            "it was pinned under another data identity: it was written to since, or another file took its name";
        findings.push(finding(image.path(), "pin-identity", message.to_owned()));
    }
}

fn pin_of(path: &Path, findings: &mut Vec<Finding>) -> Option<Pin> {
    match Companion::known(path) {
        Ok(companion) => companion.and_then(|companion| companion.pin),
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
            findings.push(*finding);
            None
        }
        // Without its companion an image is what it is.
        Err(_) => None,
    }
}

fn finding(path: &Path, code: &'static str, message: String) -> Finding {
    Finding::broken(code, "companion", 0, message, Repair::None).at(path)
}
