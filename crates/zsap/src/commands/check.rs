//! `zsap check`.

use serde_json::json;
use zestful_sapling::check;
use zestful_sapling::family::Health;
use zestful_sapling::finding::{Finding, Repair, Severity};

use super::run::perform;
use crate::args::check::Check;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Check) -> Result<Outcome, Failure> {
    let (mut state, mut findings, mut lines) = (Health::Healthy, Vec::new(), Vec::new());
    for path in &typed.path {
        let check = with(check::Check::new(path), typed.format.of(path)?, check::Check::with_format);
        let Some(report) = perform(console, &check)? else { continue };
        state = state.max(report.state);
        let layers = text::count(report.files.len(), "file", "files");
        let shown: Vec<&Finding> = report
            .findings
            .iter()
            .filter(|finding| console.common().verbose || finding.severity > Severity::Note)
            .collect();
        let verdict = match (report.state, shown.is_empty()) {
            (Health::Broken, _) => console.alarming("broken"),
            (_, true) => "healthy".to_owned(),
            (_, false) => "healthy, with something to note".to_owned(),
        };
        lines.push(format!("{}: {verdict} ({layers} looked at)", console.strong(&text::path(path))));
        for finding in shown {
            lines.extend(describe(finding));
        }
        findings.extend(report.findings);
    }
    if state == Health::Broken && console.common().quiet && !console.json() {
        console.error("damage was found");
    }
    if console.common().plan {
        return Ok(Outcome::Done);
    }
    console.answer(&json!({ "state": state, "findings": findings }), lines)?;
    Ok(if state < Health::Broken { Outcome::Done } else { Outcome::FoundDamage })
}

fn describe(finding: &Finding) -> [String; 2] {
    let word = match finding.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    let mending = match (finding.severity, finding.repair) {
        (Severity::Note, _) => "",
        (_, Repair::None) => "; nothing in the file says what was there",
        (_, Repair::Safe) => "; can be mended without loss",
        (_, Repair::Lossy) => "; can be mended only by giving something up",
    };
    let file = finding.path.as_deref().map(text::name).unwrap_or_default();
    [
        format!("  {word:<8}{}  {file}, {} at byte {}", finding.code, finding.place.structure, finding.place.offset),
        text::wrapped(&format!("          {}{mending}", text::safe(&finding.message)), &" ".repeat(10)),
    ]
}
