//! `zsap files`.

use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};

use serde_json::json;
use zestful_sapling::Error;
use zestful_sapling::chain::OpenOptions;
use zestful_sapling::guest::{Entry, EntryKind, FileTree, InnerPath, LeftOut, Walked, Wanted};
use zestful_sapling::ops::{TakeOut, TakeOutOutcome};

use super::run::perform;
use super::{files_deleted, files_diff};
use crate::args::files::{Files, FilesFind, FilesGet, FilesList, Place};
use crate::args::values::with;
use crate::console::{Console, SCHEMA_VERSION};
use crate::exit::{Failure, Outcome};
use crate::report::files::{FileTold, LeftOutTold, TakenOut};
use crate::report::stream::Stream;
use crate::report::text;
use crate::watch;

pub(super) fn run(console: &Console, typed: &Files) -> Result<Outcome, Failure> {
    match typed {
        Files::List(typed) => list(console, typed),
        Files::Find(typed) => find(console, typed),
        Files::Get(typed) => get(console, typed),
        Files::Diff(typed) => files_diff::run(console, typed),
    }
}

fn inner(path: &Path) -> Result<InnerPath, Error> {
    use std::os::unix::ffi::OsStrExt;
    InnerPath::parse(path.as_os_str().as_bytes())
}

/// Opens the volume that is meant, and tells what is to be known of it.
fn open(console: &Console, place: &Place) -> Result<(FileTree, PathBuf, Vec<String>), Failure> {
    let image = place.machine.image(&place.disk_path)?;
    let options = with(OpenOptions::new(), place.format.of(&image)?, OpenOptions::with_format);
    let (tree, notes) = watch::patiently(console, || FileTree::of_image(&image, &options, place.volume))?;
    notes.iter().for_each(|note| console.warn(note));
    Ok((tree, image, notes))
}

fn list(console: &Console, typed: &FilesList) -> Result<Outcome, Failure> {
    let path = inner(&typed.path)?;
    if typed.deleted {
        return files_deleted::list(console, &typed.place, &path);
    }
    told(console, &typed.place, |tree, visit| tree.list(&path, typed.recursive, visit))
}

fn find(console: &Console, typed: &FilesFind) -> Result<Outcome, Failure> {
    let wanted = Wanted::parse(&typed.pattern)?;
    let wanted = with(wanted, typed.newer, Wanted::with_newer);
    let wanted = with(wanted, typed.larger, Wanted::with_larger);
    told(console, &typed.place, |tree, visit| tree.find(&wanted, visit))
}

type Visit<'a> = dyn FnMut(&Entry) -> Result<bool, Error> + 'a;

/// Tells what a walk comes by, as it comes.
fn told(
    console: &Console,
    place: &Place,
    walk: impl FnOnce(&mut FileTree, &mut Visit<'_>) -> Result<Walked, Error>,
) -> Result<Outcome, Failure> {
    let (mut tree, image, notes) = open(console, place)?;
    let volume = tree.volume().clone();
    let content = volume.content.as_ref();
    let mut output = match console.json() {
        true => Output::Document(
            None,
            json!({
                "schema_version": SCHEMA_VERSION,
                "volume": volume.number,
                "file_system": content.map(|content| content.file_system.name()),
                "label": content.and_then(|content| content.label.clone()),
            }),
        ),
        false => Output::Lines(console, format!("volume {volume} of {}", text::path(&image)), false),
    };
    let (mut failed, mut counts) = (None, Counts::default());
    let walked = walk(&mut tree, &mut |entry| {
        counts.add(entry);
        // Whoever reads the output may have seen enough.
        Ok(output.entry(entry).map_err(|error| failed = Some(error)).is_ok())
    });
    failed.map_or(Ok(()), Err)?;
    let walked = walked?;
    output.end(&counts, &walked, &notes)?;
    for left_out in walked.left_out.iter().take(if console.json() { 0 } else { usize::MAX }) {
        console.warn(&left_out_line(left_out));
    }
    Ok(if walked.left_out_count == 0 { Outcome::Done } else { Outcome::WantsALook })
}

pub(super) fn left_out_line(left_out: &LeftOut) -> String {
    format!("left out {}: {}", left_out.path, left_out.why)
}

#[derive(Default)]
struct Counts {
    files: usize,
    folders: usize,
    others: usize,
    bytes: u64,
}

impl Counts {
    fn add(&mut self, entry: &Entry) {
        match entry.kind {
            EntryKind::File => self.files += 1,
            EntryKind::Folder => self.folders += 1,
            _ => self.others += 1,
        }
        self.bytes = self.bytes.saturating_add(entry.size.unwrap_or(0));
    }
}

enum Output<'a> {
    Lines(&'a Console, String, bool),
    /// Begun with its first entry, so that a path that leads nowhere leaves no half document.
    Document(Option<Stream>, serde_json::Value),
}

impl Output<'_> {
    fn entry(&mut self, entry: &Entry) -> io::Result<()> {
        match self {
            Self::Lines(console, head, is_begun) => {
                if !*is_begun {
                    console
                        .say([console.strong(head), console.faint("  kind          size  changed (UTC)     path")])?;
                    *is_begun = true;
                }
                console.say([line(console, entry)])
            }
            Self::Document(stream, head) => {
                let stream = match stream {
                    Some(stream) => stream,
                    None => stream.insert(Stream::begin(head, "entries")?),
                };
                stream.entry(&FileTold::of(entry))
            }
        }
    }

    fn end(self, counts: &Counts, walked: &Walked, notes: &[String]) -> io::Result<()> {
        match self {
            Self::Lines(console, head, is_begun) => {
                if !is_begun {
                    return console.say([console.strong(&head), "  nothing is there".to_owned()]);
                }
                let mut parts = vec![text::count(counts.files, "file", "files")];
                parts.push(text::count(counts.folders, "folder", "folders"));
                parts.extend((counts.others > 0).then(|| text::count(counts.others, "other", "others")));
                console.say([format!("  {}; {} in files", parts.join(", "), console.size(counts.bytes))])
            }
            Self::Document(stream, head) => {
                let stream = stream.map_or_else(|| Stream::begin(&head, "entries"), Ok)?;
                let left_out: Vec<LeftOutTold> = walked.left_out.iter().map(LeftOutTold::of).collect();
                stream.end(&json!({
                    "left_out": left_out,
                    "left_out_count": walked.left_out_count,
                    "warnings": notes,
                }))
            }
        }
    }
}

fn kind_word(kind: EntryKind) -> &'static str {
    match kind {
        EntryKind::File => "file",
        EntryKind::Folder => "folder",
        EntryKind::Link => "link",
        _ => "other",
    }
}

/// An entry as a line, without what comes before it.
pub(super) fn line(console: &Console, entry: &Entry) -> String {
    let kind = kind_word(entry.kind);
    let size = entry.size.map_or_else(|| "-".to_owned(), |size| console.size(size));
    let changed = entry.modified.map_or_else(|| "-".to_owned(), |time| time.strftime("%Y-%m-%d %H:%M").to_string());
    let slash = if entry.kind == EntryKind::Folder { "/" } else { "" };
    format!("  {kind:<6}  {size:>10}  {changed:<16}  {}{slash}", text::safe(&entry.path.to_string()))
}

fn get(console: &Console, typed: &FilesGet) -> Result<Outcome, Failure> {
    let Some((into, paths)) = typed.paths.split_last() else { return Ok(Outcome::Done) };
    let paths = paths.iter().map(|path| inner(path)).collect::<Result<Vec<_>, _>>()?;
    if into.as_os_str() == "-" && typed.deleted {
        let message = "a deleted file goes into a folder, where it can be looked at";
        return Err(Error::usage(message, "name a folder of this host").into());
    }
    if into.as_os_str() == "-" {
        return get_one(console, &typed.place, &paths);
    }
    let image = typed.place.machine.image(&typed.place.disk_path)?;
    let request = TakeOut::new(&image, paths, into).with_deleted(typed.deleted);
    let request = with(request, typed.place.volume, TakeOut::with_volume);
    let request = with(request, typed.place.format.of(&image)?, TakeOut::with_format);
    let Some(outcome) = perform(console, &request)? else { return Ok(Outcome::Done) };
    console.answer(&TakenOut::of(&outcome, into), taken(console, &outcome, into))?;
    for left_out in outcome.left_out.iter().take(if console.json() { 0 } else { usize::MAX }) {
        console.warn(&left_out_line(left_out));
    }
    Ok(if outcome.left_out_count == 0 { Outcome::Done } else { Outcome::WantsALook })
}

fn taken(console: &Console, outcome: &TakeOutOutcome, into: &Path) -> Vec<String> {
    let count = |number: u64, one: &str, many: &str| text::count(number as usize, one, many);
    let mut parts = vec![count(outcome.files, "file", "files"), count(outcome.folders, "folder", "folders")];
    parts.extend((outcome.links > 0).then(|| count(outcome.links, "link", "links")));
    let mut lines = vec![format!(
        "took {} ({}) into {}",
        parts.join(", "),
        console.size(outcome.bytes),
        console.strong(&text::path(into))
    )];
    if outcome.skipped > 0 {
        let skipped = count(outcome.skipped, "device, pipe or socket", "devices, pipes and sockets");
        lines.push(format!("  passed over {skipped}"));
    }
    if outcome.left_out_count > 0 {
        lines.push(format!("  left out {}, whose reasons follow", count(outcome.left_out_count, "thing", "things")));
    }
    lines
}

/// One file to standard output, which is for its bytes alone.
fn get_one(console: &Console, place: &Place, paths: &[InnerPath]) -> Result<Outcome, Failure> {
    let [path] = paths else {
        return Err(Error::usage("standard output takes one file", "name one path, or a folder of this host").into());
    };
    if console.json() || io::stdout().is_terminal() {
        let message = "the content of a file is nothing for a terminal or a JSON document";
        return Err(Error::usage(message, "pipe it somewhere, or name a folder of this host").into());
    }
    let (mut tree, _, _) = open(console, place)?;
    let mut out = BufWriter::with_capacity(1 << 20, io::stdout().lock());
    let copied = watch::run(console, |progress| tree.copy_to(path, &mut out, progress));
    match copied.and_then(|_| out.flush().map_err(|error| broken(path, error))) {
        Err(Error::Io { source, .. }) if source.kind() == io::ErrorKind::BrokenPipe => Ok(Outcome::Done),
        other => Ok(other.map(|()| Outcome::Done)?),
    }
}

fn broken(path: &InnerPath, source: io::Error) -> Error {
    Error::Io { action: "write out the content of".to_owned(), path: PathBuf::from(path.to_string()), source }
}
