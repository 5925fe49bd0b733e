//! `zsap resize`.

use std::path::Path;
use std::sync::Arc;

use zestful_sapling::Error;
use zestful_sapling::family::inspect;
use zestful_sapling::image::Format;
use zestful_sapling::ops::{self, NewSize, Plan, ResizeOutcome};
use zestful_sapling::size::format_size;
use zestful_sapling_attach::{HostFiles, WritableDisk};

use super::run::{asked, perform};
use crate::advice;
use crate::args::resize::Resize;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::resize::{self, GrownAttached, Resized};

pub(super) fn run(console: &Console, typed: &Resize) -> Result<Outcome, Failure> {
    let (path, format) = typed.on.image(&typed.force)?;
    if typed.size().is_none() && typed.extend_partition.is_none() && !typed.extend_volume {
        let advice = "say --to SIZE, or --by with + or -; or --extend-partition, or --extend-volume, where only \
                      that is to follow";
        return Err(Error::usage("no size was given", advice).into());
    }
    if let Some(size) = larger(typed, &path, format)?
        && let Some(running) = WritableDisk::of(&path)?
    {
        return grow_attached(console, &path, &running, size);
    }
    let request = with(ops::Resize::new(&path), typed.size(), ops::Resize::with_size);
    let request = with(request, typed.space.map(Into::into), ops::Resize::with_space);
    let request = with(request, format, ops::Resize::with_format);
    let request = with(request, typed.extend_partition, ops::Resize::with_extended_partition);
    let request = with(request, typed.shrink_partition, ops::Resize::with_shrunk_partition);
    let request = with(request, typed.scratch.as_ref(), ops::Resize::with_scratch);
    let request = match typed.extend_volume {
        true => request.with_extended_volume(Arc::new(HostFiles)),
        false => request,
    };
    let request = asked(request, Some(&typed.on.search), &typed.force);
    let Some(outcome) = perform(console, &request)? else { return Ok(Outcome::Done) };
    let lines = resized(console, &outcome);
    console.answer(&Resized::of(&outcome), lines)?;
    Ok(Outcome::Done)
}

/// The size in bytes that a disk is to grow to, where that is all that is asked for: a process that has it open can do
/// no more.
fn larger(typed: &Resize, path: &Path, format: Option<Format>) -> Result<Option<u64>, Error> {
    let more = typed.space.is_some() || typed.extend_partition.is_some() || typed.shrink_partition.is_some();
    let Some(wanted) = typed.size().filter(|_| !more && !typed.extend_volume) else { return Ok(None) };
    let now = inspect(path, format)?.virtual_size;
    let size = match wanted {
        NewSize::To(size) => size,
        NewSize::More(more) => now.saturating_add(more),
        _ => return Ok(None),
    };
    Ok((size > now).then_some(size))
}

/// Has the process that has the disk open for others make it larger.
fn grow_attached(console: &Console, path: &Path, running: &WritableDisk, size: u64) -> Result<Outcome, Failure> {
    let (before, process) = (inspect(path, None)?.virtual_size, running.process());
    let (new, old) = (format_size(size), format_size(before));
    let mut plan = Plan::of("resize", vec![format!("have process {process} make the disk {new}, from {old}")]);
    plan.files.change.push(path.to_owned());
    if console.show_plan(&plan)? {
        return Ok(Outcome::Done);
    }
    let devices = running.grow(size)?;
    let grown = GrownAttached { path: path.into(), typed: path.to_owned(), before, after: size, process, devices };
    console.answer(&grown, resize::attached_lines(console, &grown))?;
    Ok(Outcome::Done)
}

/// What was done, and what is left to be done.
pub(super) fn resized(console: &Console, outcome: &ResizeOutcome) -> Vec<String> {
    let told = Resized::of(outcome);
    let mut lines = resize::lines(console, &told);
    lines.extend(advice::lines(&advice::next_after_resize(&told), "  "));
    lines
}
