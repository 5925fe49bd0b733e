//! `zsap children`: who depends on an image.

use zestful_sapling::family::children_of;

use crate::args::children::Children;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, asked: &Children) -> Result<Outcome, Failure> {
    let image = &asked.machine.image(&asked.image)?;
    let found = children_of(image, &asked.search.search())?;
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
