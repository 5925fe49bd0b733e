//! From what the library says went wrong to what may be typed next.

use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::error::{Hold, ParentProblemKind, Refusal};
use zestful_sapling::family::{Override, Problem, ProblemKind};

use crate::args::overrides::name_of_override;
use crate::report::text;

/// What may be typed next, where that is known.
pub(crate) fn next(error: &Error) -> Option<String> {
    match error {
        Error::Refused(refusal, _) => next_after(refusal),
        Error::Damaged(finding) if finding.prevents_opening() => {
            let path = finding.path.as_ref()?.display();
            Some(format!("`zsap check {path}` tells all"))
        }
        Error::Parent(problem) => match problem.kind {
            ParentProblemKind::Missing { .. } | ParentProblemKind::Mismatch { .. } => {
                Some(format!("`zsap relink {} --search FOLDER` looks for it", problem.child.display()))
            }
            _ => None,
        },
        Error::UnderWay { path, source } => {
            let how = carry_on_or_give_up(path);
            Some(next(source).map_or_else(|| how.clone(), |first| format!("{first}; {how}")))
        }
        Error::Unfinished { source, .. } => next(source),
        _ => None,
    }
}

/// What may be typed for something that is wrong with a file.
pub(crate) fn next_for(problem: &Problem) -> Option<String> {
    let path = text::path(&problem.path);
    match problem.code {
        ProblemKind::Unreadable => Some(format!("`zsap check {path}` tells all")),
        ProblemKind::ParentMissing | ProblemKind::ParentChanged => {
            Some(format!("`zsap relink {path} --search FOLDER` looks for it"))
        }
        ProblemKind::PinTouched => Some(format!("`zsap pin {path} --verify` compares it with what was pinned")),
        ProblemKind::Twin => Some(format!("`zsap identity {path} --fresh` gives the copy one of its own")),
        _ => None,
    }
}

/// What may be typed for work that was cut short.
fn carry_on_or_give_up(image: &Path) -> String {
    let image = text::path(image);
    format!("`zsap resume {image}` carries on, `zsap abandon {image}` gives it up")
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
        Refusal::NeededByChildren { children, .. } if children.is_empty() => {
            let forced = force(Override::UnknownChildren, "if nothing needs the image any more")?;
            Some(format!("--search FOLDER looks further; {forced}"))
        }
        Refusal::NoWay { for_unknown_children: true, .. } => {
            let forced = force(Override::UnknownChildren, "if nothing needs the image any more")?;
            Some(format!("--search FOLDER looks further; {forced}"))
        }
        Refusal::ReadOnly { path } if path.is_file() => {
            let path = path.display();
            Some(format!("`zsap derive {path} CHILD` grows a child, `zsap unfreeze {path}` frees it"))
        }
        Refusal::FormatDisagrees { in_content: true, .. } => Some("--format says which it is".to_owned()),
        Refusal::FormatDisagrees { in_content: false, .. } => force(Override::Ending, "if it is meant so"),
        Refusal::HasContent { .. } => Some("--yes goes on".to_owned()),
        Refusal::SectorsDiffer { own, .. } => {
            let forced = force(Override::Sectors, "if it is meant so")?;
            Some(format!("--sectors {own}/4096 keeps the size, in a vhdx image; {forced}"))
        }
        Refusal::IdentityDiffers { .. } => {
            force(Override::Identity, "if you know that the child reads right through this parent")
        }
        Refusal::UnderWay { image, must_go_on } => {
            let image = image.display();
            let resume = format!("`zsap resume {image}` carries on");
            Some(if *must_go_on { resume } else { format!("{resume}, `zsap abandon {image}` gives it up") })
        }
        Refusal::Pinned { image, .. } => {
            let image = image.display();
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
