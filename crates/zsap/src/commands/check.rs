//! `zsap check`.

use std::cmp::Reverse;
use std::collections::HashSet;
use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::check::{CheckAll, CheckReport, CheckedAll};
use zestful_sapling::error::Refusal;
use zestful_sapling::family::{Health, Problem, ProblemKind, UnderWay};
use zestful_sapling::finding::{Finding, Severity};
use zestful_sapling::grove::status_of;
use zestful_sapling::image::Format;
use zestful_sapling::repair::{LossImpact, impact_of_losses};

use super::run::perform;
use super::status::state_word;
use crate::advice::{self, Next};
use crate::args::check::Check;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome, status};
use crate::report::findings;
use crate::report::impact::{self, ImpactTold};
use crate::report::json::{Checked, Same};
use crate::report::problems::{FEW_LINES, Troubles};
use crate::report::text;
use crate::settings;
use crate::watch;

/// So many images have a line each; of more, only those with something to tell.
const MOST_LINES: usize = 12;
/// The names of images that are told together take so many columns, in two lines.
const NAMES: usize = 140;

pub(super) fn run(console: &Console, typed: &Check) -> Result<Outcome, Failure> {
    let mut format = None;
    for path in typed.path.iter().filter(|path| !path.is_dir()) {
        format = typed.format.of(path)?;
    }
    let check = with(
        CheckAll::new(typed.path.clone()).with_data(typed.data).with_folders_below(typed.depth.recursive),
        format,
        CheckAll::with_format,
    );
    let Some(mut all) = perform(console, &check)? else { return Ok(Outcome::Done) };
    // What became of the one image that was named is what becomes of the command.
    if typed.path.len() == 1 && !typed.path[0].is_dir() && all.failed.len() == 1 {
        return Err(all.failed.remove(0).1.into());
    }
    // In a folder somebody may be at an image at any time; one that was named is asked for.
    let is_named = |path: &Path| typed.path.iter().any(|named| named == path);
    let is_in_use = |error: &Error| matches!(error, Error::Refused(Refusal::InUse { .. }, _));
    let (in_use, failed): (Vec<_>, Vec<_>) =
        std::mem::take(&mut all.failed).into_iter().partition(|(path, error)| is_in_use(error) && !is_named(path));
    all.failed = failed;
    let mut problems: Vec<Problem> = all.failed.iter().map(|(path, error)| Problem::of_error(path, error)).collect();
    let mut under_way = Vec::new();
    for folder in typed.path.iter().filter(|path| path.is_dir()) {
        let status = status_of(typed.depth.folder(folder), &settings::current().settings.limits())?;
        problems.extend(status.problems.into_iter().filter(is_of_folder));
        under_way.extend(status.under_way);
    }
    let state = all.checked.iter().map(|report| report.state).chain(problems.iter().map(|problem| problem.severity));
    let state = state.max().unwrap_or_default();
    let damaged = all.checked.iter().any(CheckReport::has_damage);
    if console.common().quiet && !console.json() {
        tell_in_short(console, &all);
    }
    // That one could not be read was told already, by this very command.
    let next = next_of(&all.checked, &problems[all.failed.len()..], &under_way);
    let impacts: Vec<Impacted> =
        all.checked.iter().map(|report| impact_of(console, typed, report, format)).collect::<Result<_, _>>()?;
    let mut lines = lines_of(console, &all.checked, &impacts);
    for (path, error) in &all.failed {
        lines.push(format!("{}: {}", console.strong(&text::path(path)), console.alarming("not checked")));
        lines.push(text::wrapped(&format!("  {}", text::safe(&error.with_causes())), "    "));
    }
    for (path, error) in &in_use {
        lines.push(format!("{}: in use, not checked", console.strong(&text::path(path))));
        lines.push(text::wrapped(&format!("  {}", text::safe(&error.with_causes())), "    "));
    }
    let folder = typed.path.iter().find(|path| path.is_dir()).map_or(Path::new(""), |folder| folder.as_path());
    let of_images = |work: &UnderWay| all.checked.iter().any(|report| is_same_place(&report.path, &work.path));
    // Work that was cut short is among the findings of its image.
    let of_folders: Vec<UnderWay> = under_way.iter().filter(|work| !of_images(work)).cloned().collect();
    let troubles = Troubles::new(folder, &problems[all.failed.len()..], &of_folders);
    let told = troubles.facts(console, lines.len());
    lines.extend(told);
    // Of a long answer the beginning has left the screen.
    let verdict = verdict_on_all(console, &all, state);
    let again = verdict.iter().filter(|_| lines.len() > FEW_LINES).map(|verdict| format!("  {verdict}"));
    let mut lines: Vec<String> = verdict.iter().chain(&lines).cloned().chain(again).collect();
    lines.extend(advice::lines(&next.iter().cloned().collect::<Vec<_>>(), "  "));
    let in_use = in_use.iter().map(|(path, _)| path.clone()).collect();
    console.answer(
        &Checked::new(
            state,
            &all.checked,
            impacts.iter().map(Impacted::told).collect(),
            &problems,
            in_use,
            next.as_ref(),
        ),
        lines,
    )?;
    if !all.failed.is_empty() && !console.json() && !console.common().quiet {
        let count = all.failed.len() + all.checked.len();
        console.error(&format!("{} of {count} could not be looked at", all.failed.len()));
    }
    match all.failed.into_iter().next() {
        // Damage that was found says more than that another one could not be read.
        _ if damaged => Ok(Outcome::FoundDamage),
        Some((_, error)) => Err(Failure::Told(status(&error))),
        None if problems.iter().any(|problem| problem.severity == Health::Broken) => Ok(Outcome::FoundDamage),
        None => Ok(Outcome::Done),
    }
}

/// What all the images come to; nothing for a single one, which says it of itself.
fn verdict_on_all(console: &Console, all: &CheckedAll, state: Health) -> Option<String> {
    let checked = all.checked.len();
    if checked <= 1 {
        return None;
    }
    let words = [
        (Health::Broken, "broken"),
        (Health::Unfinished, "unfinished"),
        (Health::Attention, "damaged and readable"),
        (Health::Healthy, "healthy"),
    ];
    let count = |health: Health| all.checked.iter().filter(|report| report.state == health).count();
    let told = words.into_iter().filter_map(|(health, word)| {
        let count = count(health);
        (count > 0).then(|| format!("{count} {word}"))
    });
    let told = told.collect::<Vec<_>>().join(", ");
    let word = state_word(state);
    let word = if state >= Health::Unfinished { console.alarming(word) } else { word.to_owned() };
    Some(format!("{checked} images: {word} ({told})"))
}

/// One line for each image that is damaged or could not be looked at.
fn tell_in_short(console: &Console, all: &CheckedAll) {
    for report in all.checked.iter().filter(|report| report.has_damage()) {
        let is_damage = |finding: &&Finding| finding.severity() == Severity::Error;
        let count = report.findings.iter().filter(is_damage).count();
        let what = text::count(count, "finding", "findings");
        console.error(&format!("{} is damaged: {what}", text::path(&report.path)));
    }
    for (path, error) in &all.failed {
        console.error(&format!("{} was not checked: {}", text::path(path), error.with_causes()));
    }
}

/// What a folder tells beside its images, of which the check itself tells more.
fn is_of_folder(problem: &Problem) -> bool {
    use ProblemKind as K;
    matches!(
        problem.code,
        K::LeftOver
            | K::LoneCompanion
            | K::JournalDamaged
            | K::CompanionDamaged
            | K::DanglingLink
            | K::Twin
            | K::CatalogueDamaged
            | K::LayerMissing
            | K::LayerChanged
            | K::NobodysFile
            | K::CommandOwed
    )
}

/// What the damage of an image hits, where that was asked for.
enum Impacted {
    NotAsked,
    Found(LossImpact),
    Untold(String),
}

impl Impacted {
    fn told(&self) -> ImpactTold {
        match self {
            Self::NotAsked => ImpactTold::default(),
            Self::Found(found) => ImpactTold::of_losses(found),
            Self::Untold(why) => ImpactTold::untold(why.clone()),
        }
    }

    fn lines(&self, console: &Console) -> Vec<String> {
        match self {
            Self::NotAsked => Vec::new(),
            Self::Found(found) => impact::lines_of_losses(console, found),
            Self::Untold(why) => {
                vec![text::wrapped(&format!("  what that hits cannot be told: {}", text::safe(why)), "    ")]
            }
        }
    }
}

fn impact_of(
    console: &Console,
    typed: &Check,
    report: &CheckReport,
    format: Option<Format>,
) -> Result<Impacted, Failure> {
    if !typed.impact || report.content.is_empty() {
        let is_asked = typed.impact.then(LossImpact::default);
        return Ok(is_asked.map_or(Impacted::NotAsked, Impacted::Found));
    }
    let found = watch::run(console, |progress| impact_of_losses(&report.path, format, &report.content, progress));
    match found {
        Ok(found) => Ok(Impacted::Found(found)),
        Err(Error::Cancelled) => Err(Error::Cancelled.into()),
        Err(error) => Ok(Impacted::Untold(error.with_causes())),
    }
}

/// Images that have the same findings are told together, the worst first.
fn lines_of(console: &Console, checked: &[CheckReport], impacts: &[Impacted]) -> Vec<String> {
    let verbose = console.common().verbose;
    let shown = |finding: &&Finding| verbose || finding.severity() > Severity::Note;
    let mut groups: Vec<Group<'_>> = Vec::new();
    for (report, impact) in checked.iter().zip(impacts) {
        let findings: Vec<&Finding> = report.findings.iter().filter(shown).collect();
        if findings.is_empty() && checked.len() > MOST_LINES && !verbose {
            continue;
        }
        let is_same = |group: &&mut Group<'_>| {
            let codes = group.findings.iter().map(|finding| finding.code());
            let first = group.images[0];
            // What is lost in one says nothing of what is lost in another.
            let is_alike = (first.state, &first.content) == (report.state, &report.content);
            is_alike && codes.eq(findings.iter().map(|finding| finding.code()))
        };
        let is_alone = verbose || findings.is_empty() || matches!(impact, Impacted::Found(_) | Impacted::Untold(_));
        match groups.iter_mut().find(is_same).filter(|_| !is_alone) {
            Some(group) => group.images.push(report),
            None => groups.push(Group { images: vec![report], findings, impact }),
        }
    }
    groups.sort_by_key(|group| Reverse(group.images[0].state));
    let (mut lines, mut told) = (Vec::new(), HashSet::new());
    for group in &groups {
        lines.extend(group.lines(console, &mut told));
    }
    if groups.iter().any(|group| group.names().1) {
        lines.push("  -v tells each image by itself".to_owned());
    }
    lines
}

/// Images with the same findings.
struct Group<'a> {
    images: Vec<&'a CheckReport>,
    /// Those of the first.
    findings: Vec<&'a Finding>,
    impact: &'a Impacted,
}

impl Group<'_> {
    /// As many of their names as there is room for, and whether there are more.
    fn names(&self) -> (String, bool) {
        let names: Vec<String> = self.images.iter().map(|report| text::path(&report.path)).collect();
        let (listed, all) = (text::listed_within(&names, NAMES), text::listed_within(&names, usize::MAX));
        let has_more = listed != all;
        (listed, has_more)
    }

    fn lines(&self, console: &Console, told: &mut HashSet<Same>) -> Vec<String> {
        let first = self.images[0];
        let verdict = match (first.state, self.findings.is_empty()) {
            (Health::Broken | Health::Unfinished, _) => console.alarming(state_word(first.state)),
            (Health::Attention, _) => console.alarming("damaged, and all of it can be read"),
            (Health::Healthy, false) => "healthy, with something to note".to_owned(),
            _ => state_word(first.state).to_owned(),
        };
        let layers = match &self.images[..] {
            [one] => format!(" ({} looked at)", text::count(one.files.len(), "file", "files")),
            _ => ", all alike".to_owned(),
        };
        let (names, _) = self.names();
        let mut lines = vec![text::wrapped(&format!("{}: {verdict}{layers}", console.strong(&names)), "  ")];
        lines.extend(findings::lines(&self.findings, told, console.common().verbose));
        if !first.content.is_empty() {
            // One finding has said it itself.
            let is_said = self.findings.len() == 1;
            let in_all = text::wrapped(&format!("  in all: {}", first.content), "    ");
            lines.extend((!is_said).then_some(in_all));
            lines.extend(self.impact.lines(console));
        }
        lines
    }
}

fn is_same_place(one: &Path, other: &Path) -> bool {
    one == other || one.canonicalize().is_ok_and(|one| other.canonicalize().is_ok_and(|other| one == other))
}

/// The one command that may be typed next: for the worst that was found and can be seen to.
fn next_of(checked: &[CheckReport], problems: &[Problem], under_way: &[UnderWay]) -> Option<Next> {
    let work = under_way.iter().flat_map(advice::next_for_work).next();
    let mut worst: Vec<&CheckReport> = checked.iter().filter(|report| !report.findings.is_empty()).collect();
    worst.sort_by_key(|report| std::cmp::Reverse(report.state));
    let of_images = || worst.iter().find_map(|report| advice::next_for_findings(&report.path, &report.findings));
    let of_folders = || problems.iter().flat_map(advice::next_for).next();
    let is_broken = worst.first().is_some_and(|report| report.state == Health::Broken);
    let first = if is_broken { of_images() } else { None };
    first.or(work).or_else(of_images).or_else(of_folders)
}
