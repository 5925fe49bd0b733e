//! What was found in an image, a line or two for each cause, the worst first.

use std::cmp::Reverse;
use std::collections::HashSet;

use zestful_sapling::finding::{Finding, Losses, Repair, Severity};

use super::json::{Same, same_as};
use super::text;

/// Findings of one kind in one file.
struct Group<'a> {
    all: Vec<&'a Finding>,
}

/// Tells findings; what of them was told with another image already is only named again. With `each` none is folded.
pub(crate) fn lines(findings: &[&Finding], told: &mut HashSet<Same>, each: bool) -> Vec<String> {
    let mut groups: Vec<Group<'_>> = Vec::new();
    for finding in findings {
        let is_same = |group: &&mut Group<'_>| {
            let first = group.all[0];
            !each && (&first.path, first.code()) == (&finding.path, finding.code())
        };
        match groups.iter_mut().find(is_same) {
            Some(group) => group.all.push(finding),
            None => groups.push(Group { all: vec![finding] }),
        }
    }
    groups.sort_by_key(|group| Reverse(group.all[0].severity()));
    let mut lines = Vec::new();
    for group in &groups {
        // Of all of them, so that none goes untold.
        let new = group.all.iter().filter(|finding| told.insert(same_as(finding))).count();
        match new {
            1.. => lines.extend(group.lines()),
            0 => lines.push(format!("  as above  {}", group.placed())),
        }
    }
    if groups.iter().any(|group| group.all.len() > 1) {
        lines.push("  -v lists each of what is told together".to_owned());
    }
    lines
}

impl Group<'_> {
    fn lines(&self) -> [String; 2] {
        let first = self.all[0];
        let word = match first.severity() {
            Severity::Note => "note",
            Severity::Warning => "warning",
            _ => "error",
        };
        let mending = match (first.severity(), first.repair()) {
            (Severity::Note, _) => "",
            (_, Repair::Safe) => "; can be repaired without loss",
            (_, Repair::Lossy) => "; can be repaired only by giving something up",
            _ => "; cannot be repaired from this file",
        };
        let message = match self.all.len() {
            1 => first.message(),
            _ => {
                let mut losses = Losses::default();
                self.all.iter().for_each(|finding| losses.join(&finding.content));
                let together = if losses.is_empty() { String::new() } else { format!("; together {losses}") };
                format!("such as: {}{together}", first.kind)
            }
        };
        [
            text::wrapped(&format!("  {word:<8}{}", self.placed()), &" ".repeat(10)),
            text::wrapped(&format!("          {}{mending}", text::message(&message)), &" ".repeat(10)),
        ]
    }

    fn placed(&self) -> String {
        let first = self.all[0];
        let file = first.path.as_deref().map(text::name).unwrap_or_default();
        let place = match self.all.len() {
            1 => first.place().unwrap_or_else(|| first.kind.structure()),
            count => {
                let least = if self.all.iter().any(|finding| finding.more) { "at least " } else { "" };
                format!("{}: {least}{count} times, first at byte {}", first.kind.structure(), first.offset)
            }
        };
        format!("{}  {file}, {place}", first.code())
    }
}
