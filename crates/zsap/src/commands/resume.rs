//! `zsap resume`: what was cut short is carried on.

use zestful_sapling::repair::{self, Resumed};

use super::checkpoint::{forgotten, settled};
use super::merge::merged;
use super::move_image::moved;
use super::resize::resized;
use super::run::{asked, perform};
use super::transplant::transplanted;
use crate::args::resume::Resume;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Resume) -> Result<Outcome, Failure> {
    let resume = asked(repair::Resume::new(&typed.path), Some(&typed.options.search), &typed.options.force);
    let Some(outcome) = perform(console, &resume)? else { return Ok(Outcome::Done) };
    let lines = match &outcome {
        Resumed::Merge(outcome) => merged(console, outcome),
        Resumed::Transplant(outcome) => transplanted(console, outcome),
        Resumed::Move(outcome) => moved(console, "the image", outcome),
        Resumed::Machine(begun) => vec![settled(begun)],
        Resumed::Forget(outcome) => forgotten(console, outcome),
        Resumed::Repair(outcome) => vec![match outcome.mended {
            true => format!("carried on: {} is mended", text::path(&outcome.path)),
            false => format!("carried on: {} is what it was before the repair", text::path(&outcome.path)),
        }],
        Resumed::Resize(outcome) => resized(console, outcome),
        Resumed::Over(outcome) => {
            let image = text::path(&outcome.path);
            vec![format!("what was begun with {image} was over; the copies of its journal are gone")]
        }
        _ => vec![format!("carried on what was begun with {}", text::path(&typed.path))],
    };
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}
