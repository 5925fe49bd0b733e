//! A checkpoint of a machine whose disks another process has open: that process is asked to take it.

use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::Duration;

use zestful_sapling::error::ErrorFamily;
use zestful_sapling::grove::{Grove, Role, TakeOutcome};
use zestful_sapling::ops::Plan;
use zestful_sapling::path_data::PathData;

use super::client::{Attached, ask, attachments, is_same};
use super::protocol::{Answer, Ask, TakePlanned, TakeRequest};
use crate::error::AttachError;
use crate::front::Mode;

/// How long the host may take beyond the pause, for what is made durable before and after it.
const PATIENCE: Duration = Duration::from_secs(600);

/// Why no checkpoint was taken.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TakeError {
    /// The disks are open in more than one process, so that there is no moment that all of them could keep.
    #[error(
        "disks of the machine are open for writing in {} processes ({}), and a checkpoint keeps all of them at one \
         moment: have one process serve all disks, or end these first",
        processes.len(), listed(processes)
    )]
    Several {
        /// Those processes.
        processes: Vec<u32>,
    },
    /// The process has not taken it.
    #[error("{message}")]
    NotTaken {
        /// What that is about.
        family: ErrorFamily,
        /// Why, and what to do.
        message: String,
        /// Somebody is at it, who will not be for long.
        is_busy: bool,
    },
    /// The process does not answer. Whether the checkpoint is there is to be looked up.
    #[error("process {process}, which has the machine's disks open, gave no answer: {reason}")]
    NoAnswer {
        /// The process.
        process: u32,
        /// Why.
        reason: String,
    },
    /// The host refuses.
    #[error(transparent)]
    Attach(#[from] AttachError),
}

fn listed(processes: &[u32]) -> String {
    processes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// A process that has disks of a machine open for others to write to.
#[derive(Debug)]
pub struct RunningMachine {
    process: u32,
    control: PathBuf,
}

impl RunningMachine {
    /// The process that has tracked disks of a machine open for writing, if there is one.
    ///
    /// # Errors
    /// `Several`; as [`attachments`].
    pub fn of(grove: &Grove) -> Result<Option<Self>, TakeError> {
        let tracked = grove.catalogue().disks.iter().filter(|disk| disk.role == Role::Tracked);
        let paths: Vec<PathBuf> = tracked.map(|disk| grove.folder().join(&disk.path)).collect();
        let has_one = |attached: &Attached| {
            let images = attached.images.iter().chain(&attached.path);
            let images: Vec<PathBuf> = images.map(PathData::to_path).collect();
            attached.mode == Some(Mode::Writable)
                && images.iter().any(|image| paths.iter().any(|path| is_same(image, path)))
        };
        let found: Vec<Attached> = attachments()?.into_iter().filter(has_one).collect();
        match &*found {
            [] => Ok(None),
            [one] => Ok(one.process.zip(one.control.clone()).map(|(process, control)| Self { process, control })),
            several => {
                Err(TakeError::Several { processes: several.iter().filter_map(|attached| attached.process).collect() })
            }
        }
    }

    /// The process.
    pub fn process(&self) -> u32 {
        self.process
    }

    /// Has it look what taking a checkpoint would do.
    ///
    /// # Errors
    /// [`TakeError`].
    pub fn plan(&self, request: TakeRequest) -> Result<Plan, TakeError> {
        match self.ask(request, true)? {
            Answer::Planned { plan: TakePlanned { steps, create, change, space, warnings } } => {
                let mut plan = Plan::of("checkpoint take", steps);
                plan.files.create = create.iter().map(PathData::to_path).collect();
                plan.files.change = change.iter().map(PathData::to_path).collect();
                (plan.bytes_written, plan.peak_extra_space, plan.warnings) = (space, space, warnings);
                Ok(plan)
            }
            _ => Err(self.no_answer("none that is known here")),
        }
    }

    /// Has it take one. When this process ends before it is told, the checkpoint is taken all the same, or not.
    ///
    /// # Errors
    /// [`TakeError`].
    pub fn take(&self, request: TakeRequest) -> Result<TakeOutcome, TakeError> {
        match self.ask(request, false)? {
            Answer::Taken { outcome } => Ok(*outcome),
            _ => Err(self.no_answer("none that is known here")),
        }
    }

    fn ask(&self, request: TakeRequest, plan: bool) -> Result<Answer, TakeError> {
        let patience = PATIENCE.saturating_add(Duration::from_millis(request.pause_at_most));
        let stream = UnixStream::connect(&self.control).map_err(|error| self.no_answer(&error.to_string()))?;
        match ask(&stream, Ask::TakeCheckpoint { request, plan }, patience) {
            Ok(Answer::NotTaken { family, message, is_busy }) => Err(TakeError::NotTaken { family, message, is_busy }),
            Ok(Answer::Failed { message }) => Err(self.no_answer(&message)),
            Ok(Answer::Ending) => Err(self.no_answer("it ends this moment")),
            Ok(answer) => Ok(answer),
            Err(error) => Err(self.no_answer(&error.to_string())),
        }
    }

    fn no_answer(&self, reason: &str) -> TakeError {
        TakeError::NoAnswer { process: self.process, reason: reason.to_owned() }
    }
}
