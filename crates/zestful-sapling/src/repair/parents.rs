//! What an image says of its parent is put right, in memory.

use std::path::PathBuf;
use std::sync::Arc;

use crate::chain::{Chain, Disk, OpenOptions, direct_parent, read_from_parent, record_of, records_absolute};
use crate::error::{Error, ParentProblemKind, Result};
use crate::family::{Guard, find_parent};
use crate::finding::{Finding, Losses};
use crate::image::{Format, Image, Mended, ParentRecord, open_image, open_image_mut};
use crate::storage::{HostIdentity, Overlay, real};

/// What is found of the parent that a record of it would put right.
struct Wrong {
    code: &'static str,
    parent: PathBuf,
    /// Whether the parent is not the one that the child knows.
    is_other: bool,
}

/// Looks whether the parent of an image that opens can be recorded better, and does that where it may; returns what
/// was done, and the parent that was recorded. What would give something up is done only when `consents` says so.
///
/// # Errors
/// `Io`; `Refused` when too much would change.
pub(super) fn mend_parent(
    storage: &Arc<Overlay>,
    format: Format,
    identity: HostIdentity,
    left: &[Finding],
    guard: &Guard,
    consents: &dyn Fn(&'static str) -> bool,
) -> Result<Option<(Mended, PathBuf)>> {
    let Ok(child) = open_image(storage.clone(), Some(format)) else { return Ok(None) };
    let Some(reference) = child.info().parent.clone() else { return Ok(None) };
    let Some(wrong) = look(&*child, &reference, identity, left, guard)? else { return Ok(None) };
    if wrong.is_other && !consents(wrong.code) {
        return Ok(None);
    }
    let Ok(found) = Chain::open(&wrong.parent, &OpenOptions::new().without_locks()) else { return Ok(None) };
    let absolute = records_absolute(Some(&reference));
    let record = record_of(&real(child.path())?, &wrong.parent, found.info(), absolute)?;
    let mended = match wrong.is_other {
        false => Mended::new(wrong.code, format!("record {} as the parent", wrong.parent.display())),
        true => {
            let what = format!(
                "take {} for the parent, though it is not the one that the image was made from, or was changed since",
                wrong.parent.display()
            );
            Mended::new(wrong.code, what).touching(Losses::doubting(read_from_parent(&*child)?))
        }
    };
    drop(child);
    put(storage, format, &record)?;
    Ok(Some((mended, wrong.parent)))
}

fn look(
    child: &dyn Image,
    reference: &crate::image::ParentReference,
    identity: HostIdentity,
    left: &[Finding],
    guard: &Guard,
) -> Result<Option<Wrong>> {
    let problem = match direct_parent(child, identity, &OpenOptions::new().without_locks()) {
        Ok(found) => {
            let Some(found) = found else { return Ok(None) };
            let parent = found.image.path().to_owned();
            let codes = ["chain-time", "vhd-locators", "vhdx-locator-paths"];
            let of_chain = found.warnings.iter().map(Finding::code);
            let code = of_chain.chain(left.iter().map(Finding::code)).find(|code| codes.contains(code));
            return Ok(code.map(|code| Wrong { code, parent, is_other: false }));
        }
        Err(Error::Parent(problem)) => problem.kind,
        Err(_) => return Ok(None),
    };
    let (code, other) = match &problem {
        ParentProblemKind::Missing { .. } => ("parent-missing", None),
        ParentProblemKind::Mismatch { parent, .. } => ("parent-mismatch", Some(parent.clone())),
        _ => return Ok(None),
    };
    match (find_parent(child, reference, identity, &guard.search), other) {
        (Ok(parent), _) => Ok(Some(Wrong { code, parent, is_other: false })),
        (Err(_), Some(parent)) => Ok(Some(Wrong { code, parent, is_other: true })),
        (Err(Error::Io { action, path, source }), None) => Err(Error::Io { action, path, source }),
        // There is none, or more than one, and nobody is to guess which.
        (Err(_), None) => Ok(None),
    }
}

fn put(storage: &Arc<Overlay>, format: Format, record: &ParentRecord) -> Result<()> {
    let mut image = open_image_mut(storage.clone(), Some(format))?;
    image.set_parent(record)?;
    image.close()
}
