//! `zsap completions`: what a shell loads to complete commands, options and their values.

use crate::args::completions::Completions;
use crate::args::help;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::learning::Script;

pub(super) fn run(console: &Console, typed: &Completions) -> Result<Outcome, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(clap_complete::Shell::from(typed.shell), &mut help::command(), "zsap", &mut script);
    let script = String::from_utf8_lossy(&script).into_owned();
    let text = script.trim_end().to_owned();
    console.answer(&Script { script }, [text])?;
    Ok(Outcome::Done)
}
