//! The documents that scripts read, where they say more than the library's own types: what may be typed next.

use std::collections::HashSet;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::check::CheckReport;
use zestful_sapling::family::{
    CurrentDisk, Family, Health, Held, Node, OldestFrozen, Problem, ProblemKind, Report, Status, Totals, UnderWay,
};
use zestful_sapling::finding::{Finding, Losses};
use zestful_sapling::grove::ForgetStep;
use zestful_sapling::ops::{DeriveOutcome, Difference, MergeEstimate, PinReport, Plan, Planned};
use zestful_sapling::path_data::PathData;
use zestful_sapling::repair::{RepairPlan, RepairStep, SalvageOutcome};
use zestful_sapling_attach::Attached;

use super::impact::ImpactTold;
use super::volumes::Inside;
use crate::advice;

/// Why a command failed.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ErrorTold {
    /// The family of the error.
    pub(crate) kind: &'static str,
    /// What, where, why and what to do.
    pub(crate) message: String,
    /// The argument list of the command that may be run next; null where none is known, or a person has to decide.
    pub(crate) next: Option<Vec<String>>,
}

/// The document of a command that failed.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ErrorDocument {
    /// Why it failed.
    pub(crate) error: ErrorTold,
    /// What its plan had to say beforehand.
    pub(crate) warnings: Vec<String>,
}

/// What forgetting checkpoints would do.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ForgetPlanned<'a> {
    /// The plan.
    #[serde(flatten)]
    pub(crate) plan: &'a Plan,
    /// The checkpoints that are meant.
    pub(crate) checkpoints: Vec<String>,
    /// What becomes of each layer.
    pub(crate) layers: &'a [ForgetStep],
}

/// What a repair would do.
#[derive(Serialize, JsonSchema)]
pub(crate) struct RepairPlanned<'a> {
    /// The plan.
    #[serde(flatten)]
    plan: &'a Plan,
    /// What would be mended, in order.
    repairs: &'a [RepairStep],
    /// What that means for the content of the image's disk.
    content: &'a Losses,
    /// What could be mended beside that with a loss, once it is named.
    offered: &'a [RepairStep],
    /// What would be found in the image's own file afterwards.
    left: &'a [Finding],
    #[serde(flatten)]
    impact: ImpactTold,
}

impl<'a> RepairPlanned<'a> {
    pub(crate) fn of(plan: &'a RepairPlan, impact: ImpactTold) -> Self {
        Self {
            impact,
            plan: plan.summary(),
            repairs: plan.steps(),
            content: plan.content(),
            offered: plan.offered(),
            left: plan.left(),
        }
    }
}

/// Something wrong with a file.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ProblemTold {
    /// The file.
    path: PathData,
    /// What it is.
    code: ProblemKind,
    /// How bad that is.
    severity: Health,
    /// What is wrong and what to do.
    message: String,
    /// The argument list of the command that may be run next; null where none is known, or a person has to decide.
    next: Option<Vec<String>>,
}

impl From<&Problem> for ProblemTold {
    fn from(problem: &Problem) -> Self {
        Self {
            path: problem.path.as_path().into(),
            code: problem.code,
            severity: problem.severity,
            message: problem.message.clone(),
            next: advice::first(&advice::next_for(problem)),
        }
    }
}

/// Work that was begun and is not finished.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WorkTold<'a> {
    #[serde(flatten)]
    work: &'a UnderWay,
    /// The argument list of the command that carries it on.
    next: Option<Vec<String>>,
    /// The argument list of the command that gives it up.
    otherwise: Option<Vec<String>>,
}

impl<'a> From<&'a UnderWay> for WorkTold<'a> {
    fn from(work: &'a UnderWay) -> Self {
        let next = advice::next_for_work(work);
        let otherwise = next.get(1).and_then(advice::Next::arguments);
        Self { work, next: advice::first(&next), otherwise }
    }
}

fn told<'a, T, U: From<&'a T>>(list: &'a [T]) -> Vec<U> {
    list.iter().map(U::from).collect()
}

/// What `zsap show` answers. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Shown<'a> {
    /// The images that were asked for.
    images: Vec<ImageShown<'a>>,
    /// Those that cannot be read.
    problems: Vec<ProblemTold>,
    /// The images added up.
    totals: Totals,
}

impl<'a> Shown<'a> {
    /// With what is known of the inside of each, and all added up.
    pub(crate) fn new(images: &'a [Report], inside: &'a [Inside], problems: &[Problem], totals: Totals) -> Self {
        let shown = images.iter().zip(inside).map(|(report, inside)| ImageShown { report, inside }).collect();
        Self { images: shown, problems: told(problems), totals }
    }
}

/// An image, and what lies inside its disk.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ImageShown<'a> {
    #[serde(flatten)]
    report: &'a Report,
    #[serde(flatten)]
    inside: &'a Inside,
}

/// What `zsap check` answers.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Checked<'a> {
    /// Whether no rule is broken anywhere, and every image could be checked.
    ok: bool,
    /// What all of it comes to.
    state: Health,
    /// What was found, each once.
    findings: Vec<&'a Finding>,
    /// The images that were checked.
    images: Vec<CheckedImage<'a>>,
    /// Images that could not be checked, and what else is wrong in the folders.
    problems: Vec<ProblemTold>,
    /// Images of the folders that somebody has in use, and that were not checked.
    in_use: Vec<PathData>,
    /// The argument list of the command that may be run next; null where none is known, or a person has to decide.
    next: Option<Vec<String>>,
}

/// What is the same for one thing that was found, by whatever way the file was come to.
pub(crate) type Same = (Option<PathBuf>, &'static str, u64);

pub(crate) fn same_as(finding: &Finding) -> Same {
    let real = finding.path.as_ref().map(|path| std::fs::canonicalize(path).unwrap_or_else(|_| path.clone()));
    (real, finding.code(), finding.offset)
}

/// One image that was checked.
#[derive(Serialize, JsonSchema)]
struct CheckedImage<'a> {
    /// The image.
    path: PathData,
    /// What the findings of it and its parents come to.
    state: Health,
    /// The files that were looked at, the image itself first.
    files: Vec<PathData>,
    /// What the damage means for the whole disk.
    content: &'a Losses,
    #[serde(flatten)]
    impact: ImpactTold,
}

impl<'a> Checked<'a> {
    pub(crate) fn new(
        state: Health,
        checked: &'a [CheckReport],
        impacts: Vec<ImpactTold>,
        problems: &[Problem],
        in_use: Vec<PathBuf>,
        next: Option<&advice::Next>,
    ) -> Self {
        let mut findings: Vec<&Finding> = Vec::new();
        let mut seen = HashSet::new();
        for finding in checked.iter().flat_map(|report| &report.findings) {
            if seen.insert(same_as(finding)) {
                findings.push(finding);
            }
        }
        let images = checked.iter().zip(impacts).map(|(report, impact)| CheckedImage {
            impact,
            path: PathData::from(&*report.path),
            state: report.state,
            files: report.files.iter().map(|file| PathData::from(&**file)).collect(),
            content: &report.content,
        });
        let damaged = checked.iter().any(CheckReport::has_damage);
        let broken = problems.iter().any(|problem| problem.severity == Health::Broken);
        Self {
            ok: !damaged && !broken,
            state,
            findings,
            images: images.collect(),
            problems: told(problems),
            in_use: in_use.iter().map(|path| PathData::from(&**path)).collect(),
            next: next.and_then(|next| advice::first(std::slice::from_ref(next))),
        }
    }
}

/// What `zsap tree` answers. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Tree<'a> {
    /// How the worst of it is.
    state: Health,
    /// Images without a parent, or whose parent is not known, with all that grew from them.
    roots: &'a [Node],
    /// What is wrong, file by file.
    problems: Vec<ProblemTold>,
    /// What was begun and is not finished.
    under_way: Vec<WorkTold<'a>>,
    /// What they take together.
    totals: Totals,
    /// Bytes that full copies of all current disks would take on the host beyond what all images take now.
    saved: u64,
}

impl<'a> From<&'a Family> for Tree<'a> {
    fn from(family: &'a Family) -> Self {
        Self {
            state: family.state,
            roots: &family.roots,
            problems: told(&family.problems),
            under_way: told(&family.under_way),
            totals: family.totals,
            saved: family.saved,
        }
    }
}

/// What `zsap status` answers. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FolderStatus<'a> {
    /// The folder.
    folder: PathData,
    /// How the worst of it is.
    state: Health,
    /// Images of the folder, those that cannot be read as well.
    images: usize,
    /// Families that they form.
    families: usize,
    /// What is wrong, file by file; the worst comes first.
    problems: Vec<ProblemTold>,
    /// What was begun and is not finished.
    under_way: Vec<WorkTold<'a>>,
    /// Images that somebody uses now, as far as this host tells.
    held: &'a [Held],
    /// The disks that guests write to.
    current: &'a [CurrentDisk],
    /// Images that are pinned.
    pinned: Vec<PathData>,
    /// Layers of the deepest chain.
    deepest: usize,
    /// The frozen layer that was not changed for the longest time.
    oldest_frozen: Option<&'a OldestFrozen>,
    /// The most that all current disks can still grow together.
    most_growth: u64,
    /// What the images of the folder take together.
    totals: Totals,
    /// Free space of the file system that holds the folder.
    host_free: u64,
    /// What could not be looked at when writers were looked for.
    not_seen: Option<&'a str>,
}

impl<'a> From<&'a Status> for FolderStatus<'a> {
    fn from(status: &'a Status) -> Self {
        Self {
            folder: status.folder.as_path().into(),
            state: status.state,
            images: status.images,
            families: status.families,
            problems: told(&status.problems),
            under_way: told(&status.under_way),
            held: &status.held,
            current: &status.current,
            pinned: status.pinned.iter().map(|path| path.as_path().into()).collect(),
            deepest: status.deepest,
            oldest_frozen: status.oldest_frozen.as_ref(),
            most_growth: status.most_growth,
            totals: status.totals,
            host_free: status.host_free,
            not_seen: status.not_seen.as_deref(),
        }
    }
}

/// What `zsap derive` answers.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Grown {
    /// The children.
    pub(crate) images: Vec<Report>,
    #[serde(flatten)]
    pub(crate) outcome: DeriveOutcome,
}

/// What `zsap merge --plan` answers: the plan, and what each way would cost.
#[derive(Serialize, JsonSchema)]
pub(crate) struct BothWays<'a> {
    #[serde(flatten)]
    pub(crate) plan: &'a Plan,
    /// The two ways.
    pub(crate) ways: &'a [MergeEstimate],
}

/// What `zsap bytes` answers.
#[derive(Serialize, JsonSchema)]
pub(crate) struct BytesMoved {
    /// The first byte of the disk.
    pub(crate) offset: u64,
    /// How many.
    pub(crate) length: u64,
    /// The file that they were written to, of bytes that were read.
    pub(crate) file: Option<PathData>,
    /// The bytes themselves as hexadecimal digits, of bytes that were read and went to no file.
    pub(crate) hex: Option<String>,
}

/// What is attached.
#[derive(Serialize, JsonSchema)]
pub(crate) struct AttachedDisks {
    pub(crate) attachments: Vec<Attached>,
}

/// What was attached until now.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Detached {
    pub(crate) detached: Attached,
}

/// What comparing a pinned base told.
#[derive(Serialize, JsonSchema)]
pub(crate) struct PinVerified<'a> {
    #[serde(flatten)]
    pub(crate) report: &'a PinReport,
    #[serde(flatten)]
    pub(crate) impact: ImpactTold,
}

/// What was saved.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Saved<'a> {
    #[serde(flatten)]
    pub(crate) outcome: &'a SalvageOutcome,
    #[serde(flatten)]
    pub(crate) impact: ImpactTold,
}

/// What saving would do.
#[derive(Serialize, JsonSchema)]
pub(crate) struct SavePlanned<'a> {
    #[serde(flatten)]
    pub(crate) plan: &'a Plan,
    #[serde(flatten)]
    pub(crate) impact: ImpactTold,
}

/// Where two disks differ.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Differs<'a> {
    #[serde(flatten)]
    pub(crate) found: &'a Difference,
    /// What lies in the ranges that differ; null when it was not asked for.
    pub(crate) files: Option<DifferingFiles>,
}

/// What lies in ranges that differ, in each of two disks.
#[derive(Serialize, JsonSchema)]
pub(crate) struct DifferingFiles {
    /// In the first.
    pub(crate) one: ImpactTold,
    /// In the other.
    pub(crate) other: ImpactTold,
}
