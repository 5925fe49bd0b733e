//! Whether something was begun with an image and cut short.

use std::path::Path;

use crate::error::Error;
use crate::family::{Health, UnderWay, UnderWayState};
use crate::finding::{Finding, JournalFinding};

/// What the journal beside an image comes to.
pub(super) fn look(image: &Path, findings: &mut Vec<Finding>) -> Health {
    match UnderWay::of_image(image) {
        Ok(Some(work)) if work.state != UnderWayState::Held => {
            findings.push(Finding::new(JournalFinding::CutShort { what: work.message }, 0).at(image));
            Health::Unfinished
        }
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
            findings.push(*finding);
            Health::Broken
        }
        // An image can be read without its journal.
        _ => Health::Healthy,
    }
}
