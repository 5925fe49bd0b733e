//! From what the library says went wrong to what may be typed next.

use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::error::{Hold, ParentProblemKind, Refusal};
use zestful_sapling::family::{Override, Problem, ProblemKind, UnderWay, UnderWayState};
use zestful_sapling::finding::FindingKind;

use crate::args::overrides::name_of_override;
use crate::report::text;

/// What may be typed next, where that is known.
pub(crate) fn next(error: &Error) -> Option<String> {
    match error {
        Error::Refused(refusal, _) => next_after(refusal),
        // The small files beside an image are none that can be checked.
        Error::Damaged(finding) if matches!(finding.kind, FindingKind::Companion(_) | FindingKind::Journal(_)) => None,
        Error::Damaged(finding) => Some(format!("`zsap check {}` tells all", word(finding.path.as_ref()?))),
        Error::Parent(problem) => match problem.kind {
            ParentProblemKind::Missing { .. } | ParentProblemKind::Mismatch { .. } => {
                Some(format!("`zsap relink {} --search FOLDER` looks for it", word(&problem.child)))
            }
            _ => None,
        },
        Error::UnderWay { path, source } => {
            let how = carry_on_or_give_up(path);
            Some(match next(source) {
                Some(first) => format!("{first}; {how}"),
                None => how,
            })
        }
        Error::Unfinished { source, .. } => next(source),
        _ => None,
    }
}

/// What may be typed for something that is wrong with a file.
pub(crate) fn next_for(problem: &Problem) -> Option<String> {
    let path = word(&problem.path);
    match problem.code {
        ProblemKind::Unreadable | ProblemKind::StructureDamaged | ProblemKind::Uncertain => {
            Some(format!("`zsap check {path}` tells all"))
        }
        ProblemKind::ParentMissing | ProblemKind::ParentChanged => {
            Some(format!("`zsap relink {path} --search FOLDER` looks for it"))
        }
        ProblemKind::PinTouched => Some(format!("`zsap pin {path} --verify` compares it with what was pinned")),
        ProblemKind::Twin => Some(format!("`zsap identity {path} --fresh` gives the copy one of its own")),
        _ => None,
    }
}

/// What may be typed for work that was begun: one command a line, so that each can be copied.
pub(crate) fn next_for_work(work: &UnderWay) -> Vec<String> {
    let image = word(&work.path);
    match work.state {
        UnderWayState::CutShort => vec![
            format!("    next: `zsap resume {image}` carries on"),
            format!("    or:   `zsap abandon {image}` gives it up"),
        ],
        UnderWayState::Over => vec![format!("    next: `zsap resume {image}` takes the journal away")],
        _ => Vec::new(),
    }
}

fn carry_on_or_give_up(image: &Path) -> String {
    let image = word(image);
    format!("`zsap resume {image}` carries on, `zsap abandon {image}` gives it up")
}

/// A path as a shell takes it: as it is, or in quotes. One that holds what could steer a terminal is shown escaped, and
/// is not for copying.
fn word(path: &Path) -> String {
    let shown = text::path(path);
    let is_plain = |c: char| c.is_alphanumeric() || "/._-+,:@%=".contains(c);
    match shown.chars().all(is_plain) && !shown.starts_with('-') {
        true => shown,
        false if shown.starts_with('-') => word(&Path::new(".").join(path)),
        false => format!("'{}'", shown.replace('\'', "'\\''")),
    }
}

fn next_after(refusal: &Refusal) -> Option<String> {
    let force = |allowed: Override, risk: &str| {
        name_of_override(allowed).map(|name| format!("--force={name} goes on all the same, {risk}"))
    };
    match refusal {
        Refusal::InUse { holder: Some(holder), .. } if holder.how == Hold::Unlocked => {
            force(Override::InUse, "if it is certain to leave the image alone")
        }
        Refusal::InUse { holder: Some(holder), .. } if holder.how == Hold::Lock => {
            Some("--wait SECONDS waits for it".to_owned())
        }
        Refusal::NeededByChildren { children, .. } if !children.is_empty() => None,
        Refusal::NeededByChildren { .. } | Refusal::NoWay { for_unknown_children: true, .. } => {
            let forced = force(Override::UnknownChildren, "if nothing needs the image any more")?;
            Some(format!("--search FOLDER looks further; {forced}"))
        }
        Refusal::ReadOnly { path, marked: true } => {
            let path = word(path);
            Some(format!("`zsap derive {path} CHILD` grows a child, `zsap unfreeze {path}` frees it"))
        }
        Refusal::FormatDisagrees { in_content: true, .. } => {
            Some("--format, or for a source --source-format, says which it is".to_owned())
        }
        Refusal::FormatDisagrees { in_content: false, .. } => force(Override::Ending, "if it is meant so"),
        Refusal::HasContent { .. } => Some("--yes goes on".to_owned()),
        Refusal::SectorsDiffer { own, .. } => {
            let forced = force(Override::Sectors, "if it is meant so")?;
            Some(format!("--sectors {own}/4096 keeps the size, in a vhdx image; {forced}"))
        }
        Refusal::IdentityDiffers { .. } => {
            force(Override::Identity, "if you know that the child reads right through this parent")
        }
        Refusal::UnderWay { image, must_go_on: true } => Some(format!("`zsap resume {}` carries on", word(image))),
        Refusal::UnderWay { image, must_go_on: false } => Some(carry_on_or_give_up(image)),
        Refusal::Pinned { image, .. } => {
            let image = word(image);
            Some(format!("`zsap derive {image} CHILD` grows a child, `zsap unpin {image}` takes the pin away"))
        }
        Refusal::OtherHost { .. } => force(Override::OtherHost, "if that host is gone for good"),
        Refusal::HardLinks { .. } => force(Override::HardLinks, "if nobody relies on the other names"),
        Refusal::SavedState { .. } => force(Override::SavedState, "if the machine will not be resumed"),
        Refusal::Unrecorded { .. } => {
            force(Override::UnrecordedChild, "and the child breaks when the parent is merged, moved or removed later")
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_may_be_typed_can_be_copied_into_a_shell() {
        let table = [
            ("fen-base.vhdx", "fen-base.vhdx"),
            ("/srv/fen base.vhdx", "'/srv/fen base.vhdx'"),
            ("it's.vhdx", "'it'\\''s.vhdx'"),
            ("$HOME.vhdx", "'$HOME.vhdx'"),
            ("-rf.vhdx", "./-rf.vhdx"),
            ("-r f.vhdx", "'./-r f.vhdx'"),
        ];
        for (path, typed) in table {
            assert_eq!(word(Path::new(path)), typed);
        }
    }
}
