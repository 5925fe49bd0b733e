//! A child is recorded in its parent's companion before it appears.

use std::path::Path;

use super::guard::Guard;
use super::overrides::Override;
use crate::error::{Error, Refusal, Result};
use crate::sidecar::{ChildrenChange, Companion};

/// Records that some children of `parent` are gone and others are there, or about to be; durable on return. Where
/// that cannot be done and need not, what was left out is told.
///
/// # Errors
/// `Refused` when a new child cannot be recorded, unless the parent is pinned, so that nothing changes it, or that is
/// meant so.
pub(crate) fn record_children(parent: &Path, change: &ChildrenChange<'_>, guard: &Guard) -> Result<Option<String>> {
    let Err(error) = Companion::change_children(parent, change) else { return Ok(None) };
    let names: Vec<String> = change.new.iter().map(|(path, _)| path.display().to_string()).collect();
    let message = match names.is_empty() {
        true => {
            format!("what is known of the children of {} cannot be changed: {}", parent.display(), error.with_causes())
        }
        false => format!(
            "{} cannot be recorded as grown from {}: {}",
            names.join(", "),
            parent.display(),
            error.with_causes()
        ),
    };
    if names.is_empty() || is_pinned(parent) || guard.allows(Override::UnrecordedChild) {
        return Ok(Some(message));
    }
    Err(Error::refused(
        Refusal::Unrecorded {
            parent: parent.to_owned(),
            children: change.new.iter().map(|(path, _)| path.clone()).collect(),
        },
        message,
        "mend that first: whoever later merges, moves or removes the parent would not know of the child, which then \
         breaks",
    ))
}

/// The same for work that can be carried on: what cannot be recorded, and must be, ends it, also where children are
/// only gone.
///
/// # Errors
/// Why it cannot be recorded.
pub(crate) fn must_record_children(parent: &Path, change: &ChildrenChange<'_>, guard: &Guard) -> Result<()> {
    match Companion::change_children(parent, change) {
        Err(error) if !is_pinned(parent) && !guard.allows(Override::UnrecordedChild) => Err(error),
        _ => Ok(()),
    }
}

fn is_pinned(parent: &Path) -> bool {
    Companion::known(parent).is_ok_and(|known| known.is_some_and(|companion| companion.pin.is_some()))
}
