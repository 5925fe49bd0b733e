//! `zsap children`, `zsap relink`, `zsap move` and `zsap remove`: who is related to an image, and what follows from it.

use std::path::Path;

use serde_json::json;
use zestful_sapling::ops::{MoveImage, Override, Relink, Remove, Search, children_of};

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
    let count = found.all().count();
    let count = if count == 0 { "none found".to_owned() } else { text::count(count, "child", "children") };
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
    any_identity: bool,
) -> Result<Outcome, Failure> {
    let mut request = Relink::new(child).with_parent(parent.map(Path::to_owned)).with_search(search);
    if any_identity {
        request = request.with_override(Override::Identity);
    }
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::patiently(console, || plan.run())?;
    let (child, parent) = (console.strong(&text::path(child)), text::path(&outcome.parent));
    let line = match outcome.changed {
        true => format!("{child} has {parent} as its parent now"),
        false => format!("{child} finds its parent {parent} where it is recorded; nothing was changed"),
    };
    console.answer(&outcome, [line])?;
    Ok(Outcome::Done)
}

pub(super) fn move_image(console: &Console, source: &Path, target: &Path, search: Search) -> Result<Outcome, Failure> {
    let request = MoveImage::new(source, target).with_search(search);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = plan.run()?;
    let mut lines = vec![format!("moved {} to {}", text::path(source), console.strong(&text::path(&outcome.path)))];
    lines.extend(outcome.children.iter().map(|child| format!("  told {}", text::path(child))));
    if outcome.children.is_empty() {
        lines.push("  no child of it was found beside it".to_owned());
    }
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}

pub(super) fn remove(
    console: &Console,
    path: &Path,
    search: Search,
    unknown_children: bool,
) -> Result<Outcome, Failure> {
    let mut request = Remove::new(path).with_search(search);
    if unknown_children {
        request = request.with_override(Override::UnknownChildren);
    }
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    plan.run()?;
    console.answer(&json!({ "removed": path }), [format!("removed {}", console.strong(&text::path(path)))])?;
    Ok(Outcome::Done)
}
