//! `zsap move`.

use zestful_sapling::ops::{MoveImage, MoveOutcome};

use super::run::{asked, perform};
use crate::args::move_image::Move;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Move) -> Result<Outcome, Failure> {
    let request =
        asked(MoveImage::new(&typed.source, &typed.target), Some(&typed.options.search), &typed.options.force);
    let Some(outcome) = perform(console, &request)? else { return Ok(Outcome::Done) };
    console.answer(&outcome, moved(console, &text::path(&typed.source), &outcome))?;
    Ok(Outcome::Done)
}

pub(super) fn moved(console: &Console, source: &str, outcome: &MoveOutcome) -> Vec<String> {
    let mut lines = vec![format!("moved {source} to {}", console.strong(&text::path(&outcome.path)))];
    lines.extend(outcome.children.iter().map(|child| format!("  told {}", text::path(child))));
    if outcome.children.is_empty() {
        lines.push("  no child of it was found beside it".to_owned());
    }
    lines
}
