//! A parent that was moved or renamed is found by its identity.

use std::path::PathBuf;

use super::search::{Search, with_identity};
use crate::chain::{OpenOptions, direct_parent};
use crate::error::{Error, ParentProblemKind, Refusal, Result};
use crate::image::{Image, ParentReference};
use crate::storage::HostIdentity;

/// The parent of `child`, whose own file has this host identity: where it is recorded, else wherever the search leads.
///
/// # Errors
/// `Parent` when none was found, with where was looked; `Refused` when several images have its identity; `Usage` when
/// the child has no parent.
pub(crate) fn find_parent(
    child: &dyn Image,
    reference: &ParentReference,
    identity: HostIdentity,
    search: &Search,
) -> Result<PathBuf> {
    let recorded = match direct_parent(child, identity, &OpenOptions::new().without_locks()) {
        Ok(Some(found)) => return Ok(found.image.path().to_owned()),
        Ok(None) => return Err(crate::image::no_parent(child.path())),
        Err(error) => error,
    };
    let (mut matching, found) = with_identity(&reference.accepted, child.path(), identity, search)?;
    match (matching.pop(), matching.is_empty()) {
        (Some(only), true) => Ok(only),
        (None, _) => match recorded {
            Error::Parent(problem) if matches!(problem.kind, ParentProblemKind::Missing { .. }) => {
                let recorded = reference.paths.iter().map(|path| path.text.clone()).collect();
                let kind = ParentProblemKind::Missing { tried: found.looked, recorded };
                Err(Error::parent(child.path(), kind))
            }
            other => Err(other),
        },
        (Some(last), false) => {
            matching.push(last);
            let names: Vec<String> = matching.iter().map(|path| path.display().to_string()).collect();
            Err(Error::refused(
                Refusal::Ambiguous { candidates: matching },
                format!(
                    "several images have the identity of the parent of {}: {}",
                    child.path().display(),
                    names.join(", ")
                ),
                "name the one that is meant; copies made by hand need an identity of their own",
            ))
        }
    }
}
