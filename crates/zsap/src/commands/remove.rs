//! `zsap remove`.

use zestful_sapling::ops;

use super::run::asked;
use super::several::{Told, each, one};
use crate::args::remove::Remove;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Remove) -> Result<Outcome, Failure> {
    each(console, &typed.path, |path| {
        let remove = asked(ops::Remove::new(path), Some(&typed.options.search), &typed.options.force);
        one(console, remove, |outcome| {
            outcome.still_recorded.iter().for_each(|why| console.warn(why));
            let mut lines = vec![format!("removed {}", console.strong(&text::path(path)))];
            if let Some(parent) = &outcome.frozen_parent {
                let line = format!(
                    "  {0} is still frozen, and nothing is known to grow from it any more: `zsap unfreeze {0}` \
                     frees it",
                    text::path(parent)
                );
                lines.push(text::wrapped(&line, "  "));
            }
            Told::new(&outcome, lines, Outcome::Done)
        })
    })
}
