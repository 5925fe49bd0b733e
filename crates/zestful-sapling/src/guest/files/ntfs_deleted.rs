//! What is left of deleted files in NTFS: their records, with the lists of their clusters.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use jiff::Timestamp;

use super::path::{InnerPath, is_name};
use super::system::{Certainty, Remains, Take, TakeRemains, hand_over};
use crate::guest::mft::{FIRST_OF_USERS, Mft, ROOT, Record, Reference, Value};
use crate::guest::trouble::Trouble;
use crate::guest::window::Patience;

const PIECE: u64 = 1 << 20;
const MOST_DEPTH: usize = 100;
/// Runs of deleted files that are compared with each other; of more nobody is sure.
const MOST_RUNS: usize = 1 << 19;
/// Where the paths of folders are not known any more.
const UNKNOWN: &[u8] = b"(unknown folder)";
const EXTEND: u64 = 11;

/// What the whole table tells of what was written when.
#[derive(Default)]
struct Overview {
    /// When anything but a folder was last changed, and the record; and the same of the others.
    last: Option<(Timestamp, u64)>,
    last_but_one: Option<Timestamp>,
    /// The clusters of all records that are not in use.
    runs: Vec<(Range<u64>, u64)>,
    /// Something writes without telling when, or not all could be looked at.
    is_blind: bool,
}

impl Overview {
    fn of(table: &mut Mft, patience: &Patience, take: &mut TakeRemains<'_>) -> Result<Self, Trouble> {
        let mut found = Self { is_blind: table.refuse_waiting_journal().is_err(), ..Self::default() };
        for number in FIRST_OF_USERS..table.records {
            patience.renew();
            hand_over(take, None)?;
            let record = match table.record(number) {
                Ok(Some(record)) => record,
                Ok(None) => continue,
                Err(Trouble::Failed(error)) => return Err(Trouble::Failed(error)),
                Err(_) => {
                    found.is_blind = true;
                    continue;
                }
            };
            let base = record.base.unwrap_or(number);
            // A journal of changes is written to at any time, and its own record does not tell.
            found.is_blind |= record.is_in_use
                && record.name().is_some_and(|name| name.folder.number == EXTEND && name.name == b"$UsnJrnl");
            if !record.is_in_use {
                let runs = &mut found.runs;
                let told = table.runs_of_record(&record, &mut |run| runs.push((run, base)));
                found.is_blind |= told.is_err() || found.runs.len() > MOST_RUNS;
                found.runs.truncate(MOST_RUNS);
            }
            if let Some(touched) = record.touched().filter(|_| !record.is_folder) {
                found.touch(touched, number);
            }
        }
        found.runs.sort_unstable_by_key(|(run, base)| (run.start, *base));
        Ok(found)
    }

    fn touch(&mut self, touched: Timestamp, number: u64) {
        match self.last {
            Some((last, _)) if touched <= last => {
                self.last_but_one = self.last_but_one.max(Some(touched));
            }
            last => {
                self.last_but_one = self.last_but_one.max(last.map(|(last, _)| last));
                self.last = Some((touched, number));
            }
        }
    }

    /// Whether anything but this file, and but folders, was changed after this file was there for certain.
    fn has_later(&self, number: u64, last_seen: Option<Timestamp>) -> bool {
        let others = match self.last {
            Some((_, last)) if last == number => self.last_but_one,
            last => last.map(|(last, _)| last),
        };
        last_seen.is_none_or(|last_seen| others.is_some_and(|others| others >= last_seen))
    }

    /// The deleted files that lay in clusters in which another one lay, too.
    fn sharing(&self) -> HashSet<u64> {
        let mut found = HashSet::new();
        // The two that reach furthest so far, of different files: whoever begins before their end shares with them.
        let (mut first, mut second) = ((0, u64::MAX), (0, u64::MAX));
        for (run, base) in &self.runs {
            let (end, other) = if first.1 == *base { second } else { first };
            if end > run.start {
                found.extend([*base, other]);
            }
            if run.end > first.0 || first.1 == *base {
                second = if first.1 == *base { second } else { first };
                first = (run.end.max(if first.1 == *base { first.0 } else { 0 }), *base);
            } else if run.end > second.0 {
                second = (run.end, *base);
            }
        }
        found
    }
}

/// Tells of all that were deleted.
pub(super) fn all(table: &mut Mft, patience: &Patience, take: &mut TakeRemains<'_>) -> Result<(), Trouble> {
    let overview = Overview::of(table, patience, take)?;
    let sharing = overview.sharing();
    let mut folders = HashMap::new();
    for number in FIRST_OF_USERS..table.records {
        patience.renew();
        hand_over(take, None)?;
        let Ok(Some(record)) = table.record(number) else { continue };
        if record.is_in_use || record.is_folder || record.base.is_some() {
            continue;
        }
        // Its name may have stood in a record that is gone.
        let path = match record.name().filter(|name| is_name(&name.name)) {
            Some(name) => folder_path(table, name.folder, &mut folders, 0)?.join(&name.name),
            None => InnerPath::root().join(UNKNOWN).join(format!("(record {number})").as_bytes()),
        };
        let data = match table.data_of(number, &record) {
            Err(Trouble::Failed(error)) => return Err(Trouble::Failed(error)),
            other => other.ok().flatten(),
        };
        // A record that was used for nothing.
        if data.is_none() && record.name().is_none() {
            continue;
        }
        let (certainty, why) = judge(table, &overview, &sharing, number, &record, data.as_ref())?;
        let size = data.as_ref().map_or(0, |data| data.len);
        let modified = record.modified();
        hand_over(take, Some(Remains { key: number, path, size, modified, certainty, why }))?;
    }
    Ok(())
}

fn judge(
    table: &mut Mft,
    overview: &Overview,
    sharing: &HashSet<u64>,
    number: u64,
    record: &Record,
    data: Option<&Value>,
) -> Result<(Certainty, &'static str), Trouble> {
    let Some(data) = data else { return Ok((Certainty::Lost, "the list of its clusters is gone, or damaged")) };
    if data.refuse_unreadable().is_err() || record.is_special() {
        return Ok((Certainty::Lost, "it is kept in a form that only its guest can read"));
    }
    if data.is_resident() && !overview.is_blind {
        return Ok((Certainty::Sure, "it lies in its record, which nothing has used again"));
    }
    for run in data.runs() {
        let mut free = 0;
        table.free(run.clone(), &mut |found| free += found.end - found.start)?;
        if free < run.end - run.start {
            return Ok((Certainty::Lost, "something else lies in some of its clusters now"));
        }
    }
    Ok(match sharing.contains(&number) {
        _ if overview.is_blind => (Certainty::Unsure, "not all that was written since can be told"),
        true => (Certainty::Unsure, "another deleted file lay in some of its clusters"),
        false if overview.has_later(number, record.last_seen()) => {
            (Certainty::Unsure, "its clusters are free; what was written since may have been there, and gone again")
        }
        false => (Certainty::Sure, "its clusters are free, and nothing was written since"),
    })
}

/// The path of a folder that is there, or was.
fn folder_path(
    table: &mut Mft,
    folder: Reference,
    known: &mut HashMap<Reference, InnerPath>,
    depth: usize,
) -> Result<InnerPath, Trouble> {
    if folder.number == ROOT {
        return Ok(InnerPath::root());
    }
    if let Some(path) = known.get(&folder) {
        return Ok(path.clone());
    }
    let unknown = InnerPath::root().join(UNKNOWN);
    let record = match table.record(folder.number) {
        Err(Trouble::Failed(error)) => return Err(Trouble::Failed(error)),
        other => other.ok().flatten(),
    };
    let record = record.filter(|record| record.is_meant_by(folder) || record.was_meant_by(folder));
    let name = record.and_then(|record| record.name()).filter(|name| is_name(&name.name) && depth < MOST_DEPTH);
    let path = match name {
        Some(name) => folder_path(table, name.folder, known, depth + 1)?.join(&name.name),
        None => unknown,
    };
    known.insert(folder, path.clone());
    Ok(path)
}

/// What lies where one of them lay.
pub(super) fn content(table: &mut Mft, remains: &Remains, take: &mut Take<'_>) -> Result<(), Trouble> {
    let record = table.record(remains.key)?.filter(|record| !record.is_in_use);
    let data = record.as_ref().map(|record| table.data_of(remains.key, record)).transpose()?.flatten();
    match data.filter(|_| remains.certainty != Certainty::Lost) {
        Some(data) => table.content(&data, PIECE, take),
        None => Err(Trouble::Damaged(remains.why.to_owned())),
    }
}
