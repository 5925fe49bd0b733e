//! Whether pinned images still can be what was pinned, as far as a look tells.

use std::collections::HashMap;
use std::path::Path;

use uuid::Uuid;

use crate::error::{Error, Result};
use crate::finding::Finding;
use crate::image::Image;
use crate::sidecar::{Companion, PinMark};
use crate::storage::HostIdentity;

/// Whether an image is pinned, by what was read of its companion; what speaks against its content goes into
/// `findings`. A companion that cannot be understood is a finding, not the end of the look.
pub(crate) fn judge_pin(
    path: &Path,
    data_identity: Option<Uuid>,
    pin: Result<Option<PinMark>>,
    findings: &mut Vec<Finding>,
) -> Result<bool> {
    match pin {
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
            findings.push(*finding);
            Ok(false)
        }
        other => {
            let pin = other?;
            let doubt = pin.and_then(|pin| pin.doubt(path, data_identity));
            findings.extend(doubt.map(|kind| Finding::new(kind, 0).at(path)));
            Ok(pin.is_some())
        }
    }
}

/// What a look asks of an image's pin, wherever its companion is.
pub(super) fn pin_of(path: &Path) -> Result<Option<PinMark>> {
    Ok(Companion::known(path)?.and_then(|known| known.pin).map(|pin| pin.mark()))
}

/// What was found about the pins of parents: many images read through one, whose companion is read once.
#[derive(Default)]
pub(crate) struct PinDoubts(HashMap<HostIdentity, Vec<Finding>>);

impl PinDoubts {
    /// What speaks against a parent being what was pinned.
    pub(crate) fn of(&mut self, parent: &dyn Image, identity: HostIdentity) -> Vec<Finding> {
        let look = || {
            let (path, mut found) = (parent.path(), Vec::new());
            // Without one under its name it may have left one behind when it was renamed by hand.
            let pin = match Companion::pin_mark(path) {
                Ok(None) => pin_of(path),
                other => other,
            };
            // A companion that cannot be opened is no reason to stop: the parent can be read without it.
            _ = judge_pin(path, parent.info().data_identity, pin, &mut found);
            found
        };
        self.0.entry(identity).or_insert_with(look).clone()
    }
}
