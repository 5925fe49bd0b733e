//! `zsap relink`: children find their parents again.

use std::path::{Path, PathBuf};

use zestful_sapling::family::{Override, inspect};
use zestful_sapling::ops;

use super::run::asked;
use super::several::{Told, each, one};
use crate::args::relink::Relink;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Relink) -> Result<Outcome, Failure> {
    let (children, parent) = who(typed);
    each(console, children, |child| {
        let relink = with(ops::Relink::new(child), parent.cloned(), ops::Relink::with_parent);
        one(console, asked(relink, Some(&typed.search), &typed.force), |outcome| {
            let (child, parent) = (console.strong(&text::path(child)), text::path(&outcome.parent));
            let line = match outcome.changed {
                true => format!("{child} has {parent} as its parent now"),
                false => format!("{child} finds its parent {parent} where it is recorded; nothing was changed in it"),
            };
            outcome.unrecorded.iter().for_each(|why| console.warn(why));
            Told::new(&outcome, vec![line], Outcome::Done)
        })
    })
}

/// The children, and their parent where it is named: the second of two paths is, unless it is plainly another child.
fn who(typed: &Relink) -> (&[PathBuf], Option<&PathBuf>) {
    match &*typed.path {
        [child, parent] if typed.parent.is_none() => {
            let is_forced = typed.force.contains(&Override::Identity);
            match !is_forced && is_another_child(child, parent) {
                true => (&typed.path, None),
                false => (std::slice::from_ref(child), Some(parent)),
            }
        }
        children => (children, typed.parent.as_ref()),
    }
}

/// Whether an image has a parent itself, and is not the one that the other recorded.
fn is_another_child(child: &Path, other: &Path) -> bool {
    let (Ok(child), Ok(other)) = (inspect(child, None), inspect(other, None)) else { return false };
    other.parent.is_some() && child.parent.is_some_and(|parent| parent.identity != other.data_identity)
}
