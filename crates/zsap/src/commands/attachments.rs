//! `zsap attachments`.

use uzers::get_user_by_uid;
use zestful_sapling::path_data::PathData;
use zestful_sapling_attach::{Attached, AttachedState, Mode, Place, attachments};

use crate::args::attachments::Attachments;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::AttachedDisks;
use crate::report::text;

pub(super) fn run(console: &Console, _: &Attachments) -> Result<Outcome, Failure> {
    let found = attachments()?;
    let mut lines: Vec<String> = found.iter().flat_map(|attached| told(console, attached)).collect();
    if found.is_empty() {
        lines.push("nothing is attached".to_owned());
    }
    console.answer(&AttachedDisks { attachments: found }, lines)?;
    Ok(Outcome::Done)
}

/// The image, and on lines of its own who has it attached, where and how. Paths may be long.
fn told(console: &Console, attached: &Attached) -> Vec<String> {
    let path = attached.path.as_ref().map_or_else(|| "an image that is not known".to_owned(), name);
    let place = attached.place.as_ref().map_or_else(|| "a place that is not known".to_owned(), shown);
    let way = if matches!(attached.place, Some(Place::Folder { .. })) { "exposed" } else { "served" };
    let user = attached.user.map(|user| match get_user_by_uid(user) {
        Some(known) => text::safe(&known.name().to_string_lossy()),
        None => format!("user {user}"),
    });
    let process = attached.process.map(|process| format!("process {process}"));
    let by: Vec<String> = user.into_iter().chain(process).collect();
    let by = by.join(", ");
    let mut lines = vec![console.strong(&path)];
    match attached.state {
        AttachedState::Dead => {
            let dead = console.alarming("dead");
            lines.push(format!("  {dead} at {place}, of {by}: its process is gone"));
            lines.push(format!("  clear the mount with: zsap detach {place}"));
        }
        AttachedState::Silent => {
            lines.push(format!("  {}: {by} does not answer", console.alarming("silent")));
        }
        _ => {
            let mode = match attached.mode {
                Some(Mode::Writable) => "for writing",
                Some(Mode::Throwaway) => "for writing, forgotten at the end",
                _ => "for reading",
            };
            lines.push(format!("  {way} {mode} at {place}"));
            let users = attached.users.unwrap_or_default();
            lines.push(format!(
                "  by {by}, {}; {} now; {} read, {} written",
                text::age(attached.since),
                text::count(users, "user", "users"),
                console.size(attached.bytes_read.unwrap_or_default()),
                console.size(attached.bytes_written.unwrap_or_default())
            ));
        }
    }
    lines
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
