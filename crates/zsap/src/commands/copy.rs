//! `zsap copy`.

use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::family::inspect;
use zestful_sapling::image::Format;
use zestful_sapling::ops::{self, CopyChain, CopyOnto, Identity, NewDiskOutcome};

use super::copy_stream;
use super::run::{asked, perform, perform_on_device};
use crate::args::copy::Copy;
use crate::args::values::{Depth, with};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Copy) -> Result<Outcome, Failure> {
    if [&typed.source, &typed.target].iter().any(|path| copy_stream::is_stream(path)) {
        return copy_stream::run(console, typed);
    }
    if typed.size.is_some() {
        return Err(Error::usage(
            "--size says how large a disk from standard input is",
            "leave it out: a copy is as large as its source",
        )
        .into());
    }
    let typed = &Copy { source: typed.machine.image(&typed.source)?, ..typed.clone() };
    if typed.depth == Some(Depth::Chain) {
        return run_chain(console, typed);
    }
    let source_format = typed.image.source_format(&typed.source, &typed.force)?;
    if let Some(base) = &typed.onto {
        return run_onto(console, typed, base, source_format);
    }
    let copy = with(ops::CopyDisk::new(&typed.source, &typed.target), source_format, ops::CopyDisk::with_source_format)
        .with_identity(typed.identity.map_or(Identity::Fresh, Into::into))
        .with_image(typed.image.image(&typed.target))
        .with_verify(typed.verify);
    let Some(outcome) = perform_on_device(console, &asked(copy, None, &typed.force))? else {
        return Ok(Outcome::Done);
    };
    answer(console, &outcome)
}

/// What became of a copy into one image.
pub(super) fn answer(console: &Console, outcome: &NewDiskOutcome) -> Result<Outcome, Failure> {
    let report = inspect(&outcome.path, Some(outcome.format))?;
    console.answer(
        outcome,
        [
            format!("made {}", console.strong(&text::path(&outcome.path))),
            format!(
                "  {} disk, {} {}; {}",
                console.size(outcome.virtual_size),
                report.format,
                report.kind,
                what_was_filled(console, outcome)
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

fn run_onto(console: &Console, typed: &Copy, base: &Path, source_format: Option<Format>) -> Result<Outcome, Failure> {
    let copy =
        CopyOnto::new(&typed.source, base, &typed.target).with_absolute(typed.absolute).with_verify(typed.verify);
    let copy = with(copy, source_format, CopyOnto::with_source_format);
    let copy = with(copy, typed.image.block_size, CopyOnto::with_block_size);
    let Some(outcome) = perform(console, &asked(copy, None, &typed.force))? else { return Ok(Outcome::Done) };
    let report = inspect(&outcome.path, None)?;
    let mut lines = Vec::new();
    if outcome.newly_frozen {
        lines.push(format!(
            "froze {}: marked read-only, as a child depends on it now",
            console.strong(&text::path(&outcome.parent))
        ));
    }
    let verified = if outcome.verified { ", read back and found the same" } else { "" };
    lines.extend([
        format!("made {}, a child of {}", console.strong(&text::path(&outcome.path)), text::path(&outcome.parent)),
        format!(
            "  {} disk, {} {}; {} differ and were written, {} are in the base{verified}",
            console.size(outcome.virtual_size),
            report.format,
            report.kind,
            console.size(outcome.bytes_written),
            console.size(outcome.bytes_saved)
        ),
        super::space_taken(console, &report),
    ]);
    outcome.unrecorded.iter().for_each(|why| console.warn(why));
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}

fn run_chain(console: &Console, typed: &Copy) -> Result<Outcome, Failure> {
    let options = &typed.image;
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
    let copy = CopyChain::new(&typed.source, &typed.target)
        .with_identity(typed.identity.map_or(Identity::Fresh, Into::into))
        .with_verify(typed.verify);
    let copy = with(copy, options.format.map(Into::into), CopyChain::with_format);
    let Some(outcome) = perform(console, &asked(copy, None, &typed.force))? else { return Ok(Outcome::Done) };
    let mut lines = vec![format!("made {}", console.strong(&text::path(&typed.target)))];
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
