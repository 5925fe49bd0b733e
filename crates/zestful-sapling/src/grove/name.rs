//! What checkpoints, disks and machines may be called, and the folders that checkpoints get.

use std::path::{Path, PathBuf};

use crate::error::{Error, Result};
use crate::sidecar::{HISTORY, MOST_NUMBERS};

/// More characters than that are no name, but a note.
const MOST_CHARACTERS: usize = 200;
/// Of a long name only the beginning is in the folder's.
const MOST_IN_FOLDER: usize = 40;

/// Refuses what cannot be the name of a checkpoint, a disk or a machine; `what` says which of these.
///
/// # Errors
/// `Usage`.
pub(super) fn check(what: &str, name: &str) -> Result<()> {
    let why = if name.trim().is_empty() {
        "it is empty"
    } else if name.starts_with('.') {
        "it begins with a dot"
    } else if name.contains(['/', '@']) {
        "it holds a / or an @"
    } else if name.chars().any(char::is_control) {
        "it holds control characters"
    } else if name.chars().count() > MOST_CHARACTERS {
        "it is longer than 200 characters; the rest can go into a note"
    } else if name.trim() != name {
        "it begins or ends with a space"
    } else {
        return Ok(());
    };
    Err(Error::usage(format!("{name:?} is no name for {what}: {why}"), "choose another one"))
}

/// The folder of a checkpoint, from the grove's folder: short, and with a name that every system takes.
pub(super) fn folder_for(number: u64, name: &str) -> PathBuf {
    let safe = |c: char| if c.is_ascii_alphanumeric() || c == '-' || c == '_' { c } else { '-' };
    let mut short: String = name.chars().map(safe).take(MOST_IN_FOLDER).collect();
    while short.contains("--") {
        short = short.replace("--", "-");
    }
    let short = short.trim_matches('-');
    let folder = if short.is_empty() { format!("{number:04}") } else { format!("{number:04}-{short}") };
    Path::new(HISTORY).join(folder)
}

/// The number and the name that the folder of a checkpoint tells of, where its record is lost.
pub(super) fn told_by(folder: &Path) -> Option<(u64, String)> {
    let name = folder.file_name()?.to_str()?;
    let (number, rest) = name.split_once('-').unwrap_or((name, ""));
    let number = number.parse().ok().filter(|number| (1..MOST_NUMBERS).contains(number))?;
    Some((number, if rest.is_empty() { format!("checkpoint-{number}") } else { rest.to_owned() }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_safe_and_short_and_names_are_free() {
        let long = "upgrade ".repeat(20);
        for (name, folder) in [
            ("before-upgrade", "history/0007-before-upgrade"),
            ("Vor dem Upgrade: jetzt!", "history/0007-Vor-dem-Upgrade-jetzt"),
            ("种子库", "history/0007"),
            (long.trim(), "history/0007-upgrade-upgrade-upgrade-upgrade-upgrade"),
        ] {
            check("a checkpoint", name).unwrap();
            assert_eq!(folder_for(7, name), Path::new(folder));
            assert_eq!(told_by(Path::new(folder)).unwrap().0, 7);
        }
        for name in ["", "  ", ".", "..", ".hidden", "a/b", "system@now", "a\nb", " a", &"x".repeat(201)] {
            assert!(check("a checkpoint", name).is_err(), "{name:?}");
        }
    }
}
