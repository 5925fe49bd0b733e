//! What a compacting came to.

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::family::{Scatter, inspect};
use zestful_sapling::ops::CompactOutcome;

use super::text;
use crate::console::Console;

/// What `zsap compact` answers. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Compacted<'a> {
    #[serde(flatten)]
    pub(crate) outcome: &'a CompactOutcome,
    /// How scattered the blocks are now; null where there are none.
    pub(crate) scatter: Option<Scatter>,
}

impl<'a> Compacted<'a> {
    pub(crate) fn of(outcome: &'a CompactOutcome) -> Self {
        Self { outcome, scatter: inspect(&outcome.path, None).ok().and_then(|report| report.scatter) }
    }
}

/// How scattered a file is, in words.
pub(crate) fn scatter(found: &Scatter) -> String {
    let pieces = match found.host_pieces {
        Some(1) => "; the host keeps the file in one piece".to_owned(),
        Some(pieces) => format!("; the host keeps the file in {pieces} pieces"),
        None => String::new(),
    };
    let order = match (found.jumps, found.backward) {
        (0, _) => "the blocks stand one behind the other".to_owned(),
        (jumps, 0) => format!("in order, with {}", text::count(jumps as usize, "gap", "gaps")),
        (few @ 1..FEW_JUMPS, _) => {
            format!("reading from end to end takes {}", text::count(few as usize, "jump", "jumps"))
        }
        (jumps, _) => format!("reading from end to end takes {jumps} jumps, {} for each GiB", found.jumps_per_gib),
    };
    format!("{order}{pieces}")
}

/// Fewer are not worth a figure.
pub(crate) const FEW_JUMPS: u64 = 10;

/// The same in a word: of a few jumps it means nothing how many they would be in a GiB.
pub(crate) fn jumps(found: &Scatter) -> String {
    match found.jumps {
        0 => "0".to_owned(),
        1..FEW_JUMPS => "few".to_owned(),
        _ => found.jumps_per_gib.to_string(),
    }
}

/// The same for people.
pub(crate) fn lines(console: &Console, told: &Compacted<'_>) -> Vec<String> {
    let outcome = told.outcome;
    let name = console.strong(&text::path(&outcome.path));
    let (before, after) = (outcome.before, outcome.after);
    let size = |bytes: u64| console.size(bytes);
    let did = before != after || outcome.placed != outcome.placed_before;
    let mut lines = vec![match (did, before.allocated > after.allocated) {
        (false, _) => format!("{name} holds no more than it needs: nothing was changed"),
        (true, true) => format!(
            "{name} takes {} of the host now, before {}: {} given back",
            size(after.allocated),
            size(before.allocated),
            size(before.allocated - after.allocated)
        ),
        (true, false) => format!("{name} takes {} of the host, as before", size(after.allocated)),
    }];
    let given = &outcome.given_back;
    let parts = [
        (given.zeros, "in blocks of zeros"),
        (given.unused, "in blocks that file systems mark as free"),
        (given.same_as_parent, "in blocks that the parent holds as well"),
        (given.holes, "as holes, where data stands around them"),
    ];
    let parts: Vec<String> =
        parts.iter().filter(|(bytes, _)| *bytes > 0).map(|(bytes, what)| format!("{} {what}", size(*bytes))).collect();
    if !parts.is_empty() {
        lines.push(text::wrapped(&format!("  {}", parts.join(", ")), "  "));
    }
    if before.file_len != after.file_len {
        lines.push(format!("  the file is {} long now, before {}", size(after.file_len), size(before.file_len)));
    }
    if let (Some(then), Some(now)) = (outcome.placed_before.filter(|_| did), &told.scatter)
        && then.jumps != now.jumps
    {
        let then = text::count(then.jumps as usize, "jump", "jumps");
        lines.push(text::wrapped(&format!("  {}, before {then}", scatter(now)), "  "));
    }
    let stays = outcome.stays.told();
    if !stays.is_empty() {
        lines.push("  why not more:".to_owned());
        lines.extend(stays.iter().map(|why| text::wrapped(&format!("    {}", text::safe(why)), "      ")));
    }
    lines
}
