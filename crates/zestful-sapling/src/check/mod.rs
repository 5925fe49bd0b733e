//! Verifies an image and everything that it reads through.

mod pins;
mod report;
mod unfinished;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::chain::{Ascent, OpenOptions};
use crate::error::{Error, ParentProblem, ParentProblemKind, Result};
use crate::family::{Health, PinDoubts};
use crate::finding::{ChainFinding, Finding};
use crate::image::{Format, Image, open_image, open_place, probe, vhd, vhdx};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::waits_to_be_removed;
use crate::storage::{Access, FileStorage, ReadAt};

pub use report::CheckReport;

/// An image to be verified: every structure of it, then its parent and whether it is the right one, and so on to the
/// base. An image that is pinned is read and compared with its digests; a pinned parent only shows whether it was
/// touched since. Nothing is written.
#[derive(Clone, Debug)]
pub struct Check {
    path: PathBuf,
    format: Option<Format>,
}

impl Check {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), format: None }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

impl Operation for Check {
    type Planned = CheckPlan;

    /// What verifying would read.
    ///
    /// # Errors
    /// None: what is wrong is found by the run.
    fn plan(self) -> Result<Self::Planned> {
        let mut plan = Plan { operation: "check", ..Plan::default() };
        plan.steps.push(format!("verify {} and all that it reads through", self.path.display()));
        Ok(CheckPlan { plan, request: self })
    }
}

/// A plan to verify an image.
pub struct CheckPlan {
    plan: Plan,
    request: Check,
}

impl Planned for CheckPlan {
    type Outcome = CheckReport;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Verifies. Damage, also of a parent, is a finding.
    ///
    /// # Errors
    /// `Io` when the image itself cannot be read; `Usage` when it is no image; `Refused` when somebody writes to it;
    /// `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        check(&self.request.path, self.request.format, progress)
    }
}

fn check(path: &Path, format: Option<Format>, progress: &Progress) -> Result<CheckReport> {
    let options = OpenOptions::new();
    let mut report = CheckReport { state: Health::Healthy, files: Vec::new(), findings: Vec::new() };
    let place = match open_place(path, Access::Read) {
        // A piece that is missing is damage that the descriptor tells of.
        Err(Error::Damaged(finding)) => {
            let files = vec![path.to_owned()];
            return Ok(CheckReport { state: Health::Broken, files, findings: vec![*finding] });
        }
        other => other?,
    };
    if let Some(pieces) = &place.pieces {
        report.findings.extend(pieces.check(progress)?);
    }
    let (mut ascent, mut doubts) = (Ascent::new(path, place.identity, &options), PinDoubts::default());
    let mut current = check_one(place.storage, format, progress, &mut report)?;
    if current.is_some() {
        pins::verify(path, format, progress, &mut report)?;
    }
    while let Some(image) = current.take() {
        match ascent.parent_of(&*image) {
            Ok(None) => {}
            Ok(Some(found)) => {
                report.findings.extend(found.warnings);
                report.findings.extend(doubts.of(&*found.image, found.identity));
                let storage = FileStorage::open(found.image.path(), Access::Read)?;
                current = check_one(Arc::new(storage), None, progress, &mut report)?;
            }
            Err(Error::Parent(_)) if waits_to_be_removed(image.path()) => {
                report.findings.push(Finding::new(ChainFinding::WaitsForRemoval, 0).at(image.path()));
            }
            Err(Error::Parent(problem)) => report.findings.push(parent_finding(&problem)),
            Err(other) => return Err(other),
        }
    }
    let unfinished = unfinished::look(path, &mut report.findings);
    report.state = Health::of_findings(&report.findings).max(unfinished);
    Ok(report)
}

/// Checks one file; the image is returned when it is sound enough to be opened.
fn check_one(
    storage: Arc<dyn ReadAt>,
    format: Option<Format>,
    progress: &Progress,
    report: &mut CheckReport,
) -> Result<Option<Box<dyn Image>>> {
    report.files.push(storage.path().to_owned());
    let format = match probe(&*storage, format) {
        Ok(format) => format,
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
            report.findings.push(*finding);
            return Ok(None);
        }
        Err(other) => return Err(other),
    };
    let opened = match format {
        Format::Vhd | Format::Vhdx => {
            let findings = match format {
                Format::Vhd => vhd::check(storage.clone(), progress)?,
                _ => vhdx::check(storage.clone(), progress)?,
            };
            let openable = !findings.iter().any(Finding::prevents_opening);
            report.findings.extend(findings);
            openable.then(|| open_image(storage, Some(format))).transpose()?
        }
        Format::Raw => {
            let image = open_image(storage, Some(format))?;
            report.findings.extend(image.warnings().iter().cloned());
            Some(image)
        }
    };
    Ok(opened)
}

fn parent_finding(problem: &ParentProblem) -> Finding {
    let problem_kind = problem.kind.clone();
    let kind = match &problem.kind {
        ParentProblemKind::Missing { .. } => ChainFinding::ParentMissing { problem: problem_kind },
        ParentProblemKind::Mismatch { .. } => ChainFinding::ParentMismatch { problem: problem_kind },
        ParentProblemKind::Cycle { .. } => ChainFinding::ParentCycle { problem: problem_kind },
        ParentProblemKind::TooDeep { .. } => ChainFinding::Depth { problem: problem_kind },
        _ => ChainFinding::ParentUnusable { problem: problem_kind },
    };
    Finding::new(kind, 0).at(&problem.child)
}
