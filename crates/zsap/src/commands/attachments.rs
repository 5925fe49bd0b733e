//! `zsap attachments`.

use uzers::get_user_by_uid;
use zestful_sapling::path_data::PathData;
use zestful_sapling_attach::{Attached, AttachedState, Mode, Place, attachments};

use crate::args::attachments::Attachments;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::AttachedDisks;
use crate::report::table::Table;
use crate::report::text;

pub(super) fn run(console: &Console, _: &Attachments) -> Result<Outcome, Failure> {
    let found = attachments()?;
    let mut lines = Vec::new();
    if found.is_empty() {
        lines.push("nothing is attached".to_owned());
    } else {
        let mut table = Table::new(&["image", "how", "where", "by", "since", ">users", ">read", ">written"]);
        found.iter().for_each(|attached| table.row(row(console, attached)));
        lines.extend(table.lines(console));
    }
    let dead = found.iter().filter(|attached| attached.state == AttachedState::Dead);
    lines.extend(dead.filter_map(|attached| attached.place.as_ref()).map(|place| {
        let place = shown(place);
        format!(
            "{} the process of {place} is gone; its mount is cleared by: zsap detach {place}",
            console.alarming("dead")
        )
    }));
    console.answer(&AttachedDisks { attachments: found }, lines)?;
    Ok(Outcome::Done)
}

fn row(console: &Console, attached: &Attached) -> Vec<String> {
    let size = |bytes: Option<u64>| bytes.map_or_else(String::new, |bytes| console.size(bytes));
    let how = match (attached.state, attached.mode) {
        (AttachedState::Dead, _) => "dead",
        (AttachedState::Silent, _) => "silent",
        (_, Some(Mode::Writable)) => "writable",
        (_, Some(Mode::Throwaway)) => "throwaway",
        _ => "read-only",
    };
    let user = attached.user.map(|user| match get_user_by_uid(user) {
        Some(known) => known.name().to_string_lossy().into_owned(),
        None => user.to_string(),
    });
    let process = attached.process.map(|process| format!("process {process}"));
    let by: Vec<String> = user.into_iter().chain(process).collect();
    vec![
        attached.path.as_ref().map_or_else(|| "?".to_owned(), name),
        how.to_owned(),
        attached.place.as_ref().map_or_else(|| "?".to_owned(), shown),
        text::safe(&by.join(", ")),
        attached.since.map_or_else(String::new, |since| text::age(Some(since))),
        attached.users.map_or_else(String::new, |users| users.to_string()),
        size(attached.bytes_read),
        size(attached.bytes_written),
    ]
}

fn name(path: &PathData) -> String {
    text::path(&path.to_path())
}

/// A place, as it is named when it is to be ended.
pub(super) fn shown(place: &Place) -> String {
    match place {
        Place::Socket { socket: path } | Place::Folder { folder: path } => name(path),
        Place::Address { address } => text::safe(address),
        _ => "?".to_owned(),
    }
}
