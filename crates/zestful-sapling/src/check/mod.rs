//! Verifies images and everything that they read through.

mod chain;
mod file;
mod many;
mod pins;
mod report;
mod unfinished;

use std::path::PathBuf;

use crate::error::Result;
use crate::family::PinDoubts;
use crate::image::Format;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;

pub use many::{CheckAll, CheckAllPlan, CheckedAll};
pub use report::CheckReport;

/// An image to be verified: every structure of it, then its parent and whether it is the right one, and so on to the
/// base. A pinned image only shows whether it was touched since. Nothing is written.
#[derive(Clone, Debug)]
pub struct Check {
    path: PathBuf,
    format: Option<Format>,
    data: bool,
}

impl Check {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), format: None, data: false }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Also reads all content: what the host cannot read is told, pinned images and disks in pieces are compared with
    /// their digests, and sectors of VHD images that were never written must be zeros.
    pub fn with_data(mut self, data: bool) -> Self {
        self.data = data;
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
        let Check { path, format, data } = &self.request;
        chain::check(path, *format, &file::Files::new(*data), &mut PinDoubts::default(), progress)
    }
}
