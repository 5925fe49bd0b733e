//! `zsap unpin`.

use zestful_sapling::ops;

use super::run::asked;
use super::several::{Told, each, one};
use crate::args::unpin::Unpin;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Unpin) -> Result<Outcome, Failure> {
    each(console, &typed.base, |base| {
        one(console, asked(ops::Unpin::new(base), Some(&typed.search), &[]), |outcome| {
            let state = match outcome.writable {
                true => "it can be written to again",
                false => "it stays read-only on this host, as parents are",
            };
            let lines = vec![
                format!("unpinned {}; {state}", console.strong(&text::path(base))),
                "  while it was pinned children may have grown from it that nobody recorded".to_owned(),
            ];
            Told::new(&outcome, lines, Outcome::Done)
        })
    })
}
