//! `zsap copy`.

use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::family::Override;
use zestful_sapling::family::inspect;
use zestful_sapling::ops::{Copy, CopyChain, Identity, NewDiskOutcome};

use super::asking;
use crate::args::{Depth, ImageOptions};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) struct Request<'a> {
    pub(super) source: &'a Path,
    pub(super) target: &'a Path,
    pub(super) options: &'a ImageOptions,
    pub(super) identity: Identity,
    pub(super) depth: Depth,
    pub(super) verify: bool,
}

pub(super) fn run(console: &Console, asked: &Request<'_>) -> Result<Outcome, Failure> {
    if asked.depth == Depth::Chain {
        return run_chain(console, asked);
    }
    let request = Copy::new(asked.source, asked.target)
        .with_source_format(asked.options.source_format(asked.source)?)
        .with_identity(asked.identity)
        .with_verify(asked.verify);
    let plan = asking(console, |yes| request.clone().with_image(asked.options.image(yes)).plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, move |progress| plan.run(progress))?;
    let report = inspect(&outcome.path, Some(outcome.format))?;
    console.answer(
        &outcome,
        [
            format!("made {}", console.strong(&text::path(&outcome.path))),
            format!(
                "  {} disk, {} {}; {}",
                console.size(outcome.virtual_size),
                report.format,
                report.kind,
                what_was_filled(console, &outcome)
            ),
            super::space_taken(console, &report),
        ],
    )?;
    Ok(Outcome::Done)
}

/// How much content a new disk got, and how sure that is.
pub(super) fn what_was_filled(console: &Console, outcome: &NewDiskOutcome) -> String {
    let verified = if outcome.verified { ", read back and found the same" } else { "" };
    match outcome.bytes_shared {
        0 => format!("{} of data written{verified}", console.size(outcome.bytes_written)),
        shared => format!("{} of data shared with the source{verified}", console.size(shared)),
    }
}

fn run_chain(console: &Console, asked: &Request<'_>) -> Result<Outcome, Failure> {
    let options = asked.options;
    let others = options.kind.is_some()
        || options.block_size.is_some()
        || options.sectors.is_some()
        || options.space.is_some()
        || options.piece_size.is_some()
        || options.source_format.is_some();
    if others {
        return Err(Error::usage(
            "with --depth chain each layer stays as it is",
            "only --format, --identity and --verify go with it",
        )
        .into());
    }
    let request = CopyChain::new(asked.source, asked.target)
        .with_format(options.format.map(Into::into))
        .with_identity(asked.identity)
        .with_in_use(options.force.contains(&Override::InUse))
        .with_verify(asked.verify);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, move |progress| plan.run(progress))?;
    let mut lines = vec![format!("made {}", console.strong(&text::path(asked.target)))];
    for (number, layer) in outcome.layers.iter().enumerate() {
        let report = inspect(layer, None)?;
        let role = match (number, outcome.layers.len() - 1) {
            (0, _) => "current",
            (n, last) if n == last => "base",
            _ => "layer",
        };
        let name = text::name(layer);
        lines.push(format!("  {role:<8} {name}: {} {}", report.format, report.kind));
    }
    let verified = if outcome.verified { "; read back and found the same" } else { "" };
    lines.push(format!(
        "  {} of data written, nothing is shared with the source{verified}",
        console.size(outcome.bytes_written)
    ));
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}
