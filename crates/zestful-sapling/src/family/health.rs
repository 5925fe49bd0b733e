//! One ladder of severity for images, families, folders and checks; and the problems that stand on it.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;

use crate::error::{Error, ParentProblemKind};
use crate::finding::{Finding, Repair, Severity};

/// How an image, a family or a folder is; each step is worse than the one before it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Health {
    /// All is as it should be.
    #[default]
    Healthy,
    /// All can be read, and is certain, but somebody should have a look: images that others cannot tell apart, what was
    /// left behind, disks that the host cannot hold when they grow.
    Attention,
    /// Work that was begun was cut short; everything reads as before.
    Unfinished,
    /// Something cannot be read whole, or it is not certain that what is read is right.
    Broken,
}

impl Health {
    /// What findings come to: a rule that is broken, though all is certain, asks for a look; what is harmless does not.
    pub fn of_findings(findings: &[Finding]) -> Self {
        let one = |finding: &Finding| match finding.severity() {
            Severity::Error if finding.prevents_opening() || finding.repair() != Repair::Safe => Self::Broken,
            Severity::Error => Self::Attention,
            _ => Self::Healthy,
        };
        findings.iter().map(one).max().unwrap_or_default()
    }
}

impl std::fmt::Display for Health {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Self::Healthy => "healthy",
            Self::Attention => "attention",
            Self::Unfinished => "unfinished",
            Self::Broken => "broken",
        })
    }
}

/// What is wrong with a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum ProblemKind {
    /// It cannot be opened or read.
    Unreadable,
    /// A structure of it is damaged; what is lost stands in the file twice, so that all can be read and is certain.
    StructureDamaged,
    /// Structures of it contradict each other, so that it is not certain that what is read is right.
    Uncertain,
    /// Its parent is not to be found.
    ParentMissing,
    /// The file that stands for its parent is another disk, or was changed since.
    ParentChanged,
    /// Its parent cannot be opened, or cannot belong to it.
    ParentUnusable,
    /// Its chain leads back to itself, or is longer than any sound one.
    ParentCycle,
    /// It is pinned, and was written to since, so that what its children read is not certain.
    PinTouched,
    /// Its companion cannot be understood.
    CompanionDamaged,
    /// A companion whose image is not there.
    LoneCompanion,
    /// A journal that cannot be understood.
    JournalDamaged,
    /// Two images with one identity.
    Twin,
    /// A link that leads nowhere.
    DanglingLink,
    /// A file that a killed program left under a temporary name; nothing refers to it.
    LeftOver,
    /// The disks of the folder can grow beyond what the host has.
    DoesNotFit,
    /// The catalogue of a machine cannot be understood.
    CatalogueDamaged,
    /// A layer that a checkpoint of a machine keeps, or one of its disks, is not there.
    LayerMissing,
    /// A layer that a checkpoint keeps is not what it kept.
    LayerChanged,
    /// A checkpoint is older than most should get.
    OldCheckpoint,
    /// A checkpoint holds a large share of a disk.
    LargeCheckpoint,
    /// A disk reads through more layers than it should.
    DeepChain,
    /// A guest was quieted for a checkpoint by a command whose process was killed: it may have to be let go on.
    CommandOwed,
    /// A file in a machine's folder belongs to none of its disks and checkpoints.
    NobodysFile,
}

impl ProblemKind {
    /// How bad it is.
    pub fn health(self) -> Health {
        match self {
            Self::StructureDamaged
            | Self::Twin
            | Self::DanglingLink
            | Self::LeftOver
            | Self::LoneCompanion
            | Self::DoesNotFit
            | Self::OldCheckpoint
            | Self::LargeCheckpoint
            | Self::DeepChain
            | Self::NobodysFile => Health::Attention,
            Self::CommandOwed => Health::Unfinished,
            Self::Unreadable
            | Self::Uncertain
            | Self::ParentMissing
            | Self::ParentChanged
            | Self::ParentUnusable
            | Self::ParentCycle
            | Self::PinTouched
            | Self::CompanionDamaged
            | Self::JournalDamaged
            | Self::CatalogueDamaged
            | Self::LayerMissing
            | Self::LayerChanged => Health::Broken,
        }
    }
}

/// Something wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Problem {
    /// The file.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What it is.
    pub code: ProblemKind,
    /// How bad that is.
    pub severity: Health,
    /// What is wrong and what to do.
    pub message: String,
}

impl Problem {
    pub(crate) fn new(path: &Path, code: ProblemKind, message: impl Into<String>) -> Self {
        Self { path: path.to_owned(), code, severity: code.health(), message: message.into() }
    }

    /// What the findings of an image that opens come to, if anything is wrong with it.
    pub(crate) fn of_findings(path: &Path, findings: &[Finding]) -> Option<Self> {
        let health = Health::of_findings(findings);
        let code = match health {
            Health::Healthy => return None,
            Health::Broken => ProblemKind::Uncertain,
            _ => ProblemKind::StructureDamaged,
        };
        let worst: Vec<&Finding> =
            findings.iter().filter(|finding| Health::of_findings(std::slice::from_ref(finding)) == health).collect();
        let first = worst.first()?;
        let more = match worst.len() - 1 {
            0 => String::new(),
            more => format!("; and {more} more"),
        };
        let problem = Self::of_finding(path, code, first);
        Some(Self { message: format!("{}{more}", problem.message), ..problem })
    }

    pub(crate) fn of_finding(path: &Path, code: ProblemKind, finding: &Finding) -> Self {
        Self::new(path, code, finding.clone().at(path).to_string())
    }

    /// Why an image, or something beside it, cannot be read.
    pub fn of_error(path: &Path, error: &Error) -> Self {
        let code = match error {
            Error::Parent(problem) => match &problem.kind {
                ParentProblemKind::Missing { .. } => ProblemKind::ParentMissing,
                ParentProblemKind::Mismatch { .. } => ProblemKind::ParentChanged,
                ParentProblemKind::Cycle { .. } | ParentProblemKind::TooDeep { .. } => ProblemKind::ParentCycle,
                ParentProblemKind::Unreadable { .. } | ParentProblemKind::SectorSize { .. } => {
                    ProblemKind::ParentUnusable
                }
            },
            _ => ProblemKind::Unreadable,
        };
        Self::new(path, code, error.with_causes())
    }
}
