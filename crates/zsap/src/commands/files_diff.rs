//! `zsap files diff`.

use std::io;

use serde_json::json;
use zestful_sapling::guest::{ChangedBy, ComparedFiles, Entry, FileChange};
use zestful_sapling::ops::CompareFiles;

use super::files::{left_out_line, line};
use crate::args::files::FilesDiff;
use crate::args::values::with;
use crate::console::{Console, SCHEMA_VERSION};
use crate::exit::{Failure, Outcome};
use crate::report::files::{ChangeTold, FileTold, LeftOutTold};
use crate::report::stream::{Kept, Stream};
use crate::report::text;
use crate::watch;

pub(super) fn run(console: &Console, typed: &FilesDiff) -> Result<Outcome, Failure> {
    let (one, other) = typed.disks.images()?;
    let request = with(CompareFiles::new(&one, &other), typed.volume, CompareFiles::with_volume);
    let request = request.with_contents(typed.contents);
    let mut output = match console.json() {
        true => Output::Document(None),
        false => Output::Lines(console, format!("{} and {}", text::path(&one), text::path(&other)), false),
    };
    let (mut failed, mut counts) = (None, Counts::default());
    let compared = watch::patiently(console, || {
        watch::run(console, |progress| {
            request.run(progress, &mut |change| {
                counts.add(&change);
                // Whoever reads the output may have seen enough.
                Ok(output.change(&change).map_err(|error| failed = Some(error)).is_ok())
            })
        })
    });
    failed.map_or(Ok(()), Err)?;
    let (compared, notes) = compared?;
    notes.iter().for_each(|note| console.warn(note));
    let count = compared.one.left_out_count + compared.other.left_out_count;
    let left_out = || compared.one.left_out.iter().chain(&compared.other.left_out);
    output.end(&counts, &compared, &notes, typed.contents)?;
    for left_out in left_out().take(if console.json() { 0 } else { usize::MAX }) {
        console.warn(&left_out_line(left_out));
    }
    Ok(if count == 0 { Outcome::Done } else { Outcome::WantsALook })
}

#[derive(Default)]
struct Counts {
    added: (usize, u64),
    removed: (usize, u64),
    changed: usize,
}

impl Counts {
    fn add(&mut self, change: &FileChange) {
        let add = |sum: &mut (usize, u64), entry: &Entry| {
            *sum = (sum.0 + 1, sum.1.saturating_add(entry.size.unwrap_or(0)));
        };
        match change {
            FileChange::Added(entry) => add(&mut self.added, entry),
            FileChange::Removed(entry) => add(&mut self.removed, entry),
            _ => self.changed += 1,
        }
    }
}

enum Output<'a> {
    Lines(&'a Console, String, bool),
    /// Begun with its first entry, so that a comparison that cannot be made leaves no half document; with the lists
    /// that come later.
    Document(Option<(Stream, Kept, Kept)>),
}

fn begin() -> io::Result<(Stream, Kept, Kept)> {
    Ok((Stream::begin(&json!({ "schema_version": SCHEMA_VERSION }), "added")?, Kept::new()?, Kept::new()?))
}

impl Output<'_> {
    fn change(&mut self, change: &FileChange) -> io::Result<()> {
        match self {
            Self::Lines(console, head, is_begun) => {
                if !*is_begun {
                    let columns = "             kind          size  changed (UTC)     path";
                    console.say([console.strong(head), console.faint(columns)])?;
                    *is_begun = true;
                }
                console.say([change_line(console, change)])
            }
            Self::Document(lists) => {
                let (added, removed, changed) = match lists {
                    Some(lists) => lists,
                    None => lists.insert(begin()?),
                };
                match change {
                    FileChange::Added(entry) => added.entry(&FileTold::of(entry)),
                    FileChange::Removed(entry) => removed.entry(&FileTold::of(entry)),
                    FileChange::Changed { was, now, by } => changed.entry(&ChangeTold::of(was, now, by)),
                    _ => Ok(()),
                }
            }
        }
    }

    fn end(self, counts: &Counts, compared: &ComparedFiles, notes: &[String], read: bool) -> io::Result<()> {
        match self {
            Self::Lines(console, head, is_begun) => {
                let Counts { added, removed, changed } = counts;
                if !is_begun {
                    let same = match read {
                        true => "  the same files, with the same content",
                        false => {
                            "  no file came, went, or changed its size or its time (--contents compares what they hold)"
                        }
                    };
                    return console.say([console.strong(&head), same.to_owned()]);
                }
                let part = |what: &str, sum: &(usize, u64)| format!("{} {what} ({})", sum.0, console.size(sum.1));
                console.say([format!("  {}, {}, {changed} changed", part("added", added), part("removed", removed))])
            }
            Self::Document(lists) => {
                let (mut added, removed, changed) = lists.map_or_else(begin, Ok)?;
                added.list("removed", removed)?;
                added.list("changed", changed)?;
                let left_out = compared.one.left_out.iter().chain(&compared.other.left_out);
                let left_out: Vec<LeftOutTold> = left_out.map(LeftOutTold::of).collect();
                added.end(&json!({
                    "volume": compared.volume,
                    "left_out": left_out,
                    "left_out_count": compared.one.left_out_count + compared.other.left_out_count,
                    "warnings": notes,
                }))
            }
        }
    }
}

fn change_line(console: &Console, change: &FileChange) -> String {
    let (word, entry) = match change {
        FileChange::Added(entry) => ("added  ", entry),
        FileChange::Removed(entry) => ("removed", entry),
        FileChange::Changed { now, .. } => ("changed", now),
        _ => return String::new(),
    };
    let mut told = format!("  {word}  {}", line(console, entry));
    if let FileChange::Changed { was, now, by } = change {
        let mut parts: Vec<String> = by.iter().map(|by| changed_by(*by).to_owned()).collect();
        if let (true, Some(size)) = (was.size != now.size, was.size) {
            parts.push(format!("was {}", console.size(size)));
        }
        told.push_str(&console.faint(&format!("  ({})", parts.join(", "))));
    }
    told
}

fn changed_by(by: ChangedBy) -> &'static str {
    match by {
        ChangedBy::Kind => "kind",
        ChangedBy::Size => "size",
        ChangedBy::Time => "time",
        ChangedBy::Permissions => "permissions",
        ChangedBy::Content => "content",
        _ => "something else",
    }
}
