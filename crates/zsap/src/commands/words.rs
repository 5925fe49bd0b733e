//! `zsap words`: what the words mean.

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::glossary;
use crate::report::learning::Glossary;

pub(super) fn run(console: &Console) -> Result<Outcome, Failure> {
    console.answer(&Glossary::whole(), glossary::lines(|word| console.strong(word)))?;
    Ok(Outcome::Done)
}
