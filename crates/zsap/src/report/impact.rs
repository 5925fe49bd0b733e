//! What lies in ranges of a disk, for people and for scripts.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::guest::{Hit, HitKind, HitSum, Impact, InnerPath};
use zestful_sapling::ranges::DiskRange;
use zestful_sapling::repair::LossImpact;

use super::files::hex_if_no_text;
use super::table::Table;
use super::text;
use crate::console::Console;

/// Things that are listed unless all are asked for.
const MOST_LISTED: usize = 12;
/// The same of what could not be told.
const MOST_DOUBTS: usize = 3;

/// One thing that lies in one of the ranges. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct HitTold {
    /// The range.
    range: DiskRange,
    /// What became of the range.
    fate: Fate,
    /// The volume, counted from 1; null of what lies in no volume.
    volume: Option<u32>,
    /// What it is.
    what: HitKind,
    /// What a structure, or a file without a name, is called.
    name: Option<String>,
    /// Where a file is named, from the root of the volume.
    path: Option<String>,
    /// The bytes of the path as hexadecimal digits, where it is no Unicode.
    path_bytes: Option<String>,
    /// How much of the range it takes.
    bytes: u64,
    /// Whether structures contradict each other about it.
    doubtful: bool,
}

/// What became of a range.
#[derive(Clone, Copy, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Fate {
    /// Nothing is left of it.
    Lost,
    /// It may be wrong.
    Doubtful,
    /// It is not what it was.
    Changed,
}

impl HitTold {
    fn of(hit: &Hit, fate: Fate) -> Self {
        Self {
            range: hit.range,
            fate,
            volume: hit.volume,
            what: hit.what,
            name: hit.name.clone(),
            path: hit.path.as_ref().map(ToString::to_string),
            path_bytes: hit.path.as_ref().and_then(hex_if_no_text),
            bytes: hit.bytes,
            doubtful: hit.doubtful,
        }
    }
}

/// What lies in all of the ranges.
#[derive(Default, Serialize, JsonSchema)]
pub(crate) struct ImpactTold {
    /// What lies in them, in the order of the ranges; of more than 100,000 the first that were met. Null when it was
    /// not asked for, or cannot be told.
    impact: Option<Vec<HitTold>>,
    /// How many that are, listed or not.
    impact_count: u64,
    /// The sums of each kind.
    impact_sums: Vec<HitSum>,
    /// What could not be told, and why; at most fifty of each fate.
    impact_doubts: Vec<String>,
}

impl ImpactTold {
    pub(crate) fn add(&mut self, impact: &Impact, fate: Fate) {
        let hits = impact.hits.iter().map(|hit| HitTold::of(hit, fate));
        self.impact.get_or_insert_default().extend(hits);
        self.impact_count += impact.hit_count;
        self.impact_doubts.extend(impact.doubts.iter().cloned());
        for sum in &impact.sums {
            match self.impact_sums.iter_mut().find(|known| known.what == sum.what) {
                Some(known) => (known.count, known.bytes) = (known.count + sum.count, known.bytes + sum.bytes),
                None => self.impact_sums.push(*sum),
            }
        }
    }

    pub(crate) fn of_losses(found: &LossImpact) -> Self {
        let mut told = Self::default();
        told.add(&found.lost, Fate::Lost);
        told.add(&found.doubtful, Fate::Doubtful);
        told
    }

    /// That nothing can be told of it.
    pub(crate) fn untold(why: String) -> Self {
        Self { impact_doubts: vec![why], ..Self::default() }
    }
}

/// A thing, whatever ranges it lies in.
type Thing<'a> = (HitKind, Option<u32>, Option<&'a InnerPath>, Option<&'a String>);

/// What losses hit, for people.
pub(crate) fn lines_of_losses(console: &Console, found: &LossImpact) -> Vec<String> {
    let parts = [("lost", &found.lost), ("doubtful", &found.doubtful)];
    let told = parts.into_iter().filter(|(_, impact)| impact.hit_count > 0 || impact.doubt_count > 0);
    told.flat_map(|(fate, impact)| lines(console, &format!("what is {fate} lies in"), impact)).collect()
}

/// What lies in ranges, for people: the sums, then the things, the largest of each kind first.
pub(crate) fn lines(console: &Console, heading: &str, impact: &Impact) -> Vec<String> {
    let mut lines = vec![text::wrapped(&format!("  {heading}: {impact}"), "    ")];
    let mut things: BTreeMap<Thing<'_>, (u64, &Hit)> = BTreeMap::new();
    for hit in impact.hits.iter().filter(|hit| is_listed(hit.what)) {
        let thing = (hit.what, hit.volume, hit.path.as_ref(), hit.name.as_ref());
        things.entry(thing).or_insert((0, hit)).0 += hit.bytes;
    }
    let mut things: Vec<(u64, &Hit)> = things.into_values().collect();
    things.sort_by_key(|(bytes, hit)| (hit.what, std::cmp::Reverse(*bytes)));
    let listed = if console.common().verbose { things.len() } else { MOST_LISTED };
    let mut table = Table::new(&[">bytes", ">volume", "what lies there"]);
    for (bytes, hit) in things.iter().take(listed) {
        let volume = hit.volume.map_or_else(|| "-".to_owned(), |number| number.to_string());
        table.row(vec![console.size(*bytes), volume, text::safe(&hit.to_string())]);
    }
    if !things.is_empty() {
        lines.extend(table.lines(console).into_iter().map(|line| format!("  {line}")));
    }
    let more = things.len().saturating_sub(listed);
    lines.extend((more > 0).then(|| format!("    and {more} more (-v lists all)")));
    let unlisted = impact.hit_count.saturating_sub(impact.hits.len() as u64);
    lines.extend((unlisted > 0).then(|| format!("    and {unlisted} more, which are only counted")));
    let told = if console.common().verbose { usize::MAX } else { MOST_DOUBTS };
    for doubt in impact.doubts.iter().take(told) {
        lines.push(text::wrapped(&format!("    not certain: {}", text::safe(doubt)), "      "));
    }
    let more = impact.doubt_count.saturating_sub(told.min(impact.doubts.len()) as u64);
    lines.extend((more > 0).then(|| format!("    and {more} more that is not certain (-v tells more)")));
    lines
}

/// What is one thing, and not the rest of something.
fn is_listed(what: HitKind) -> bool {
    use HitKind as K;
    !matches!(what, K::PartitionTable | K::Unknown | K::Outside | K::Behind | K::Free)
}
