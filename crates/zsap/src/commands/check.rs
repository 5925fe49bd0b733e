//! `zsap check`.

use std::path::PathBuf;

use zestful_sapling::Error;
use zestful_sapling::check;
use zestful_sapling::family::{Health, Problem};
use zestful_sapling::finding::{Finding, Repair, Severity};
use zestful_sapling::ops::{Operation, Plan, Planned};

use super::run::perform;
use super::status::state_word;
use crate::args::check::Check;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::Checked;
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Check) -> Result<Outcome, Failure> {
    let check = |path: &PathBuf| -> Result<check::Check, Error> {
        Ok(with(check::Check::new(path), typed.format.of(path)?, check::Check::with_format))
    };
    if console.common().plan {
        let mut plan = Plan::default();
        plan.operation = "check";
        for path in &typed.path {
            plan.steps.extend_from_slice(&check(path)?.plan()?.summary().steps);
        }
        console.show_plan(&plan)?;
        return Ok(Outcome::Done);
    }
    let (mut state, mut findings, mut problems, mut lines) = (Health::Healthy, Vec::new(), Vec::new(), Vec::new());
    let (mut damaged, mut failed) = (false, None);
    for path in &typed.path {
        let report = check(path).map_err(Failure::from).and_then(|check| perform(console, &check));
        let report = match report {
            Ok(report) => report,
            // One that cannot be read does not take the others with it; a stop is meant for all.
            Err(Failure::Library(error)) if typed.path.len() > 1 && !matches!(error, Error::Cancelled) => {
                lines.push(format!("{}: {}", console.strong(&text::path(path)), console.alarming("not checked")));
                lines.push(text::wrapped(&format!("  {}", text::safe(&error.with_causes())), "    "));
                problems.push(Problem::of_error(path, &error));
                failed = Some(error);
                continue;
            }
            Err(other) => return Err(other),
        };
        let Some(report) = report else { continue };
        state = state.max(report.state);
        damaged |= report.has_damage();
        let layers = text::count(report.files.len(), "file", "files");
        let shown: Vec<&Finding> = report
            .findings
            .iter()
            .filter(|finding| console.common().verbose || finding.severity() > Severity::Note)
            .collect();
        let verdict = match (report.state, shown.is_empty()) {
            (Health::Broken | Health::Unfinished, _) => console.alarming(state_word(report.state)),
            (Health::Attention, _) => console.alarming("damaged, and all of it can be read"),
            (Health::Healthy, false) => "healthy, with something to note".to_owned(),
            _ => state_word(report.state).to_owned(),
        };
        lines.push(format!("{}: {verdict} ({layers} looked at)", console.strong(&text::path(path))));
        for finding in shown {
            lines.extend(describe(finding));
        }
        findings.extend(report.findings);
    }
    if damaged && console.common().quiet && !console.json() {
        console.error("damage was found");
    }
    console.answer(&Checked::new(state, &findings, &problems), lines)?;
    match failed {
        // Damage that was found says more than that another one could not be read.
        _ if damaged => Ok(Outcome::FoundDamage),
        Some(error) => Err(error.into()),
        None => Ok(Outcome::Done),
    }
}

fn describe(finding: &Finding) -> [String; 2] {
    let word = match finding.severity() {
        Severity::Note => "note",
        Severity::Warning => "warning",
        _ => "error",
    };
    let mending = match (finding.severity(), finding.repair()) {
        (Severity::Note, _) => "",
        (_, Repair::Safe) => "; can be mended without loss",
        (_, Repair::Lossy) => "; can be mended only by giving something up",
        _ => "; nothing in the file says what was there",
    };
    let place = finding.place().unwrap_or_else(|| finding.kind.structure());
    let file = finding.path.as_deref().map(text::name).unwrap_or_default();
    [
        format!("  {word:<8}{}  {file}, {place}", finding.code()),
        text::wrapped(&format!("          {}{mending}", text::safe(&finding.message())), &" ".repeat(10)),
    ]
}
