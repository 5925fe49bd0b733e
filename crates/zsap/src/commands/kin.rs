//! `zsap children`, `zsap relink`, `zsap move`, `zsap remove` and `zsap unfreeze`: who is related to an image, and
//! what follows from it.

use std::path::Path;

use zestful_sapling::family::{Override, Search, children_of};
use zestful_sapling::ops::{MoveImage, MoveOutcome, Relink, Remove, Unfreeze};

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn children(console: &Console, image: &Path, search: &Search) -> Result<Outcome, Failure> {
    let found = children_of(image, search)?;
    let mut lines = vec![console.strong(&text::path(image))];
    lines.extend(found.children.iter().map(|child| format!("  child       {}", text::path(child))));
    let lost = |child| {
        format!("  {}        {}: does not find it; `zsap relink` does", console.alarming("lost"), text::path(child))
    };
    lines.extend(found.lost.iter().map(|child| lost(child)));
    lines.extend(found.unknown.iter().map(|unknown| {
        let line = format!(
            "  {}     {}: {}",
            console.alarming("unknown"),
            text::path(&unknown.path),
            text::safe(&unknown.reason)
        );
        text::wrapped(&line, "    ")
    }));
    let count = found.all().count();
    let count = if count == 0 { "none found".to_owned() } else { text::count(count, "child", "children") };
    let count = match found.unknown.len() {
        0 => count,
        unknown => format!("{count}, and {} of which that cannot be told", text::count(unknown, "image", "images")),
    };
    let line = format!("  {count}; looked into {}; elsewhere there may be others", text::safe(&found.place()));
    lines.push(text::wrapped(&line, "    "));
    console.answer(&found, lines)?;
    Ok(Outcome::Done)
}

pub(super) fn relink(
    console: &Console,
    child: &Path,
    parent: Option<&Path>,
    search: Search,
    overrides: &[Override],
) -> Result<Outcome, Failure> {
    let request = Relink::new(child).with_parent(parent.map(Path::to_owned)).with_search(search);
    let request = overrides.iter().copied().fold(request, Relink::with_override);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::patiently(console, || plan.run())?;
    let (child, parent) = (console.strong(&text::path(child)), text::path(&outcome.parent));
    let line = match outcome.changed {
        true => format!("{child} has {parent} as its parent now"),
        false => format!("{child} finds its parent {parent} where it is recorded; nothing was changed in it"),
    };
    outcome.unrecorded.iter().for_each(|why| console.warn(why));
    console.answer(&outcome, [line])?;
    Ok(Outcome::Done)
}

pub(super) fn move_image(
    console: &Console,
    source: &Path,
    target: &Path,
    search: Search,
    overrides: Vec<Override>,
) -> Result<Outcome, Failure> {
    let request = overrides.into_iter().fold(MoveImage::new(source, target), MoveImage::with_override);
    let request = request.with_search(search);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::patiently(console, || plan.run())?;
    console.answer(&outcome, moved(console, &text::path(source), &outcome))?;
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

pub(super) fn remove(
    console: &Console,
    path: &Path,
    search: Search,
    overrides: &[Override],
) -> Result<Outcome, Failure> {
    let request = overrides.iter().copied().fold(Remove::new(path), Remove::with_override).with_search(search);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = plan.run()?;
    outcome.still_recorded.iter().for_each(|why| console.warn(why));
    let mut lines = vec![format!("removed {}", console.strong(&text::path(path)))];
    if let Some(parent) = &outcome.frozen_parent {
        let line = format!(
            "  {0} is still frozen, and nothing is known to grow from it any more: `zsap unfreeze {0}` frees it",
            text::path(parent)
        );
        lines.push(text::wrapped(&line, "  "));
    }
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}

pub(super) fn unfreeze(
    console: &Console,
    image: &Path,
    search: Search,
    overrides: &[Override],
) -> Result<Outcome, Failure> {
    let request = overrides.iter().copied().fold(Unfreeze::new(image), Unfreeze::with_override).with_search(search);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = plan.run()?;
    let line = format!("freed {}: it can be written to again", console.strong(&text::path(image)));
    console.answer(&outcome, [line])?;
    Ok(Outcome::Done)
}
