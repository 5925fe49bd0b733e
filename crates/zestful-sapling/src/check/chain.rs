//! One image, and everything that it reads through.

use std::path::Path;
use std::sync::Arc;

use super::file::{Checked, Files};
use super::report::CheckReport;
use super::{pins, unfinished};
use crate::chain::{Ascent, OpenOptions, ShownLosses, read_from_parent};
use crate::error::{Error, ParentProblem, ParentProblemKind, Result};
use crate::family::{Health, PinDoubts};
use crate::finding::{ChainFinding, Finding, Losses};
use crate::image::{Format, Image, open_place};
use crate::progress::Progress;
use crate::sidecar::waits_to_be_removed;
use crate::storage::{Access, FileStorage};

/// Checks the image at `path` and all its parents.
///
/// # Errors
/// `Io` when the image itself cannot be read; `Usage` when it is no image; `Refused` when somebody writes to it;
/// `Cancelled`.
pub(super) fn check(
    path: &Path,
    format: Option<Format>,
    files: &Files,
    doubts: &mut PinDoubts,
    progress: &Progress,
) -> Result<CheckReport> {
    let options = OpenOptions::new();
    let mut report = CheckReport {
        path: path.to_owned(),
        state: Health::Healthy,
        files: Vec::new(),
        findings: Vec::new(),
        content: Losses::default(),
    };
    let place = match open_place(path, Access::Read) {
        // A piece that is missing is damage that the descriptor tells of.
        Err(Error::Damaged(finding)) => {
            report.files.push(path.to_owned());
            report.findings.push(*finding);
            report.state = Health::Broken;
            return Ok(report);
        }
        other => other?,
    };
    if let Some(pieces) = place.pieces.as_ref().filter(|_| files.data) {
        report.findings.extend(pieces.check(progress)?);
    }
    let identity = place.identity;
    let (mut ascent, mut layers) = (Ascent::new(path, identity, &options), ShownLosses::default());
    report.files.push(place.storage.path().to_owned());
    let Checked { findings, image } = files.check(place.storage, identity, format, progress)?;
    note(&mut layers, &findings)?;
    report.findings.extend(findings.iter().cloned());
    if let Some(image) = &image {
        let found = match files.data {
            true => pins::verify(path, format, progress)?,
            false => doubts.of(&**image, identity),
        };
        note(&mut layers, &found)?;
        report.findings.extend(found);
    }
    let mut current = image;
    while let Some(image) = current.take() {
        let found = match ascent.parent_of(&*image) {
            Ok(None) => break,
            Ok(Some(found)) => found,
            Err(Error::Parent(_)) if waits_to_be_removed(image.path()) => {
                report.findings.push(Finding::new(ChainFinding::WaitsForRemoval, 0).at(image.path()));
                break;
            }
            Err(Error::Parent(problem)) => {
                let finding = parent_finding(&problem, &*image)?;
                layers.note(&finding.content)?;
                report.findings.push(finding);
                break;
            }
            Err(other) => return Err(other),
        };
        report.findings.extend(found.warnings);
        layers.descend(image);
        let doubted = doubts.of(&*found.image, found.identity);
        let storage = FileStorage::open(found.image.path(), Access::Read)?;
        report.files.push(found.image.path().to_owned());
        let Checked { findings, image } = files.check(Arc::new(storage), found.identity, None, progress)?;
        note(&mut layers, &doubted)?;
        note(&mut layers, &findings)?;
        report.findings.extend(doubted);
        report.findings.extend(findings.iter().cloned());
        current = image;
    }
    let unfinished = unfinished::look(path, &mut report.findings);
    report.state = Health::of_findings(&report.findings).max(unfinished);
    report.content = layers.into_parts().1;
    Ok(report)
}

fn note(layers: &mut ShownLosses, findings: &[Finding]) -> Result<()> {
    let mut touching = findings.iter().filter(|finding| !finding.content.is_empty());
    touching.try_for_each(|finding| layers.note(&finding.content))
}

/// What is wrong with the parent of an image; all that it does not hold itself is in doubt.
fn parent_finding(problem: &ParentProblem, image: &dyn Image) -> Result<Finding> {
    let problem_kind = Box::new(problem.kind.clone());
    let kind = match &problem.kind {
        ParentProblemKind::Missing { .. } => ChainFinding::ParentMissing { problem: problem_kind },
        ParentProblemKind::Mismatch { .. } => ChainFinding::ParentMismatch { problem: problem_kind },
        ParentProblemKind::Cycle { .. } => ChainFinding::ParentCycle { problem: problem_kind },
        ParentProblemKind::TooDeep { .. } => ChainFinding::Depth { problem: problem_kind },
        _ => ChainFinding::ParentUnusable { problem: problem_kind },
    };
    let doubtful = read_from_parent(image)?;
    let finding = Finding::new(kind, 0).at(&problem.child);
    Ok(doubtful.list().iter().fold(finding, |finding, range| finding.doubting(range.offset..range.end())))
}
