//! From what the library says went wrong to what may be typed next.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use zestful_sapling::Error;
use zestful_sapling::error::{Hold, Holder, InsideProblemKind, ParentProblemKind, Refusal};
use zestful_sapling::family::{Override, Problem, ProblemKind, UnderWay, UnderWayState, inspect};
use zestful_sapling::finding::{
    ChainFinding, CompanionFinding, Finding, FindingKind, JournalFinding, Repair, Severity,
};
use zestful_sapling::guest::FileSystem;
use zestful_sapling::ops::CompactOutcome;
use zestful_sapling_attach::attachments;

use crate::args::overrides::name_of_override;
use crate::report::resize::{Left, Resized};
use crate::report::text;

/// A command that may be typed next.
#[derive(Clone)]
pub(crate) struct Next {
    /// The whole command.
    words: Vec<OsString>,
    /// What of it is shown: all of it, or the options that are new.
    shown: String,
    /// What it does.
    purpose: String,
    /// Whether it is for a person to decide: it goes over what speaks against the command, or rests on a guess.
    needs_a_decision: bool,
}

impl Next {
    /// `zsap COMMAND IMAGE`, and what follows.
    fn zsap(command: &str, image: &Path, more: &[&OsStr], purpose: &str) -> Self {
        let shown_image = name(&text::from_here(image));
        let image = name(image);
        let words = command.split(' ').map(OsStr::new).chain([image.as_os_str()]).chain(more.iter().copied());
        let words: Vec<OsString> = words.map(OsStr::to_owned).collect();
        let shown = words.iter().map(|word| if *word == image { shown_image.as_path() } else { Path::new(word) });
        let shown: Vec<String> = shown.map(shown_word).collect();
        let words = std::iter::once("zsap".into()).chain(words).collect();
        let shown = format!("`zsap {}`", shown.join(" "));
        Self { words, shown, purpose: purpose.to_owned(), needs_a_decision: false }
    }

    /// What the host's own command takes away: a file that is no image, which ours would refuse.
    fn rm(file: &Path) -> Self {
        let words = vec!["rm".into(), name(file).into_os_string()];
        let shown = format!("`rm {}`", text::shell_word(&name(&text::from_here(file))));
        Self { words, shown, purpose: "takes it away".to_owned(), needs_a_decision: true }
    }

    /// What was typed, with these options as well.
    fn again(options: &[&str], purpose: &str) -> Self {
        let mut words: Vec<OsString> = std::iter::once("zsap".into()).chain(std::env::args_os().skip(1)).collect();
        // Behind it there are only names.
        let end = words.iter().position(|word| word == "--").unwrap_or(words.len());
        words.splice(end..end, options.iter().map(Into::into));
        Self { words, shown: options.join(" "), purpose: purpose.to_owned(), needs_a_decision: false }
    }

    /// The same, that no script is to run because it was told so.
    fn for_a_person(self) -> Self {
        Self { needs_a_decision: true, ..self }
    }

    fn force(allowed: Override, risk: &str) -> Option<Self> {
        let name = name_of_override(allowed)?;
        let again = Self::again(&[&format!("--force={name}")], &format!("goes on all the same, {risk}"));
        Some(again.for_a_person())
    }

    /// The argument list, for scripts; nothing where a name in it is no Unicode.
    pub(crate) fn arguments(&self) -> Option<Vec<String>> {
        self.words.iter().map(|word| word.to_str().map(str::to_owned)).collect()
    }
}

impl std::fmt::Display for Next {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} {}", self.shown, self.purpose)
    }
}

/// What a script may run next: the first of several, unless a person has to decide.
pub(crate) fn first(next: &[Next]) -> Option<Vec<String>> {
    next.first().filter(|next| !next.needs_a_decision).and_then(Next::arguments)
}

/// The same for people: one command a line, which is not broken, so that it can be copied; what it does stands below it
/// where there is no room beside it.
pub(crate) fn lines(next: &[Next], indent: &str) -> Vec<String> {
    let lead = std::iter::once("next: ").chain(std::iter::repeat("or:   "));
    let told = |(lead, next): (&str, &Next)| {
        let whole = text::safe(&format!("{indent}{lead}{next}"));
        match text::fits(&whole) {
            true => vec![whole],
            false => {
                let below = format!("{indent}{}", " ".repeat(lead.len()));
                let command = text::safe(&format!("{indent}{lead}{}", next.shown));
                vec![command, text::wrapped(&text::safe(&format!("{below}{}", next.purpose)), &below)]
            }
        }
    };
    lead.zip(next).flat_map(told).collect()
}

/// What may be typed next, where that is known.
pub(crate) fn next(error: &Error) -> Vec<Next> {
    match error {
        Error::Refused(refusal, _) => next_after(refusal),
        // The small files beside an image are none that can be checked.
        Error::Damaged(finding)
            if matches!(finding.kind, FindingKind::Companion(_) | FindingKind::Journal(_) | FindingKind::Undo(_)) =>
        {
            Vec::new()
        }
        Error::Damaged(finding) if matches!(finding.kind, FindingKind::Catalogue(_)) => {
            let folder = finding.path.as_deref().and_then(Path::parent);
            folder
                .map(|folder| Next::zsap("grove rebuild", folder, &[], "makes it anew from the files"))
                .into_iter()
                .collect()
        }
        Error::Damaged(finding) => finding.path.as_deref().map(check).into_iter().collect(),
        Error::Parent(problem) => match problem.kind {
            ParentProblemKind::Missing { .. } | ParentProblemKind::Mismatch { .. } => {
                std::iter::once(relink(&problem.child)).chain(go_past(&problem.kind)).collect()
            }
            ParentProblemKind::Unreadable { .. } => go_past(&problem.kind).into_iter().collect(),
            _ => Vec::new(),
        },
        Error::Inside(problem) => match &problem.kind {
            InsideProblemKind::NotFound { inside } => {
                let number = problem.volume.to_string();
                let more = [OsStr::new(inside), "--volume".as_ref(), OsStr::new(&number)];
                vec![Next::zsap("files list", &problem.disk, &more, "tells what is there")]
            }
            InsideProblemKind::NotRead(_) | InsideProblemKind::Unknown => {
                vec![Next::zsap("show", &problem.disk, &[], "tells what the volumes hold")]
            }
            _ => Vec::new(),
        },
        Error::UnderWay { path, source } => next(source).into_iter().chain(carry_on_or_give_up(path)).collect(),
        Error::Unfinished { source, .. } => next(source),
        _ => Vec::new(),
    }
}

/// For who saves what can be read: on past the layer that cannot be had.
fn go_past(problem: &ParentProblemKind) -> Option<Next> {
    let place = match problem {
        ParentProblemKind::Missing { tried, .. } => tried.first()?,
        ParentProblemKind::Mismatch { parent, .. } | ParentProblemKind::Unreadable { parent, .. } => parent,
        _ => return None,
    };
    let saves = std::env::args_os().skip(1).find(|word| !word.as_bytes().starts_with(b"-"))? == "salvage";
    let again =
        || Next::again(&["--without", &text::shell_word(&name(place))], "goes on past it: what it held is missing");
    saves.then(|| again().for_a_person())
}

/// What may be typed for something that is wrong with a file.
pub(crate) fn next_for(problem: &Problem) -> Vec<Next> {
    let path = problem.path.as_path();
    match problem.code {
        ProblemKind::Unreadable | ProblemKind::StructureDamaged | ProblemKind::Uncertain => vec![check(path)],
        ProblemKind::ParentMissing | ProblemKind::ParentChanged => vec![relink(path)],
        ProblemKind::PinTouched => {
            vec![Next::zsap("pin", path, &["--verify".as_ref()], "compares it with what was pinned")]
        }
        // One that is frozen is refused an identity; who needs it must be known first.
        ProblemKind::Twin if std::fs::metadata(path).is_ok_and(|found| found.permissions().readonly()) => {
            let above = name(&folder_above(path));
            vec![Next::zsap(
                "children",
                path,
                &["--search".as_ref(), above.as_os_str()],
                "tells whether anything needs the copy",
            )]
        }
        ProblemKind::Twin => {
            vec![Next::zsap("identity", path, &["--fresh".as_ref()], "gives the copy one of its own")]
        }
        ProblemKind::LeftOver | ProblemKind::DanglingLink => vec![Next::rm(path)],
        ProblemKind::CommandOwed => {
            vec![Next::zsap("abandon", path, &[], "says no more of it").for_a_person()]
        }
        _ => Vec::new(),
    }
}

/// What may be typed for the worst that was found in an image or in what it reads through.
pub(crate) fn next_for_findings(image: &Path, findings: &[Finding]) -> Option<Next> {
    let mut worst: Vec<&Finding> = findings.iter().filter(|finding| finding.severity() > Severity::Note).collect();
    worst.sort_by_key(|finding| std::cmp::Reverse((finding.prevents_opening(), finding.severity())));
    worst.into_iter().find_map(|finding| {
        let file = finding.path.as_deref().unwrap_or(image);
        match &finding.kind {
            FindingKind::Chain(ChainFinding::ParentMissing { .. }) => Some(relink(file)),
            FindingKind::Chain(ChainFinding::Time { .. }) => None,
            FindingKind::Companion(CompanionFinding::PinTouched { .. } | CompanionFinding::PinIdentity) => {
                Some(Next::zsap("pin", file, &["--verify".as_ref()], "compares it with what was pinned"))
            }
            FindingKind::Journal(JournalFinding::CutShort { .. }) => {
                Some(Next::zsap("resume", file, &[], "carries on"))
            }
            _ if finding.repair() != Repair::None => Some(repair(file, &[], "--plan")),
            _ => None,
        }
    })
}

/// What may be typed for work that was begun.
pub(crate) fn next_for_work(work: &UnderWay) -> Vec<Next> {
    match work.state {
        UnderWayState::CutShort => carry_on_or_give_up(&work.path).into(),
        UnderWayState::Over => vec![Next::zsap("resume", &work.path, &[], "takes the journal away")],
        _ => Vec::new(),
    }
}

/// The repair of an image with what is given up for it.
pub(crate) fn mend(image: &Path, codes: &[String]) -> Next {
    Next { purpose: "does it".to_owned(), ..repair(image, codes, "--yes") }.for_a_person()
}

/// The same, only shown.
pub(crate) fn mend_plan(image: &Path, codes: &[String]) -> Next {
    Next { purpose: "shows what that gives up".to_owned(), ..repair(image, codes, "--plan") }
}

/// What makes the space usable that a disk has grown by.
pub(crate) fn next_after_resize(told: &Resized<'_>) -> Vec<Next> {
    let path = &told.outcome.path;
    match &told.left {
        Some(Left::BehindPartitions { .. }) => {
            vec![Next::zsap("resize", path, &["--extend-partition".as_ref()], "has that partition take the space")]
        }
        Some(Left::FileSystem { file_system: FileSystem::Ext2 | FileSystem::Ext3 | FileSystem::Ext4, .. }) => {
            vec![Next::zsap("resize", path, &["--extend-volume".as_ref()], "has the file system take it")]
        }
        _ => Vec::new(),
    }
}

/// What gives back what stayed in an image when its blocks had moved.
pub(crate) fn next_after_compact(outcome: &CompactOutcome) -> Vec<Next> {
    // Less than this is not worth a word.
    const LITTLE: u64 = 1 << 20;
    if outcome.stays.beside_data < LITTLE {
        return Vec::new();
    }
    let options: [&OsStr; 2] = ["--unused".as_ref(), "--holes-only".as_ref()];
    vec![Next::zsap("compact", &outcome.path, &options, "digs holes there, where the host keeps them")]
}

/// What takes a repair back.
pub(crate) fn take_back(image: &Path) -> Next {
    Next::zsap("repair", image, &["--undo".as_ref()], "takes it back").for_a_person()
}

fn repair(image: &Path, codes: &[String], option: &str) -> Next {
    let lossy = format!("--lossy={}", codes.join(","));
    let options: Vec<&OsStr> = match codes.is_empty() {
        true => vec![option.as_ref()],
        false => vec![lossy.as_ref(), option.as_ref()],
    };
    Next::zsap("repair", image, &options, "shows what can be mended")
}

/// Who wants a disk larger may name the wrong file where it has a checkpoint: guests see the size of the last layer.
fn ways_past_children(image: &Path, children: &[PathBuf]) -> Vec<Next> {
    let is_resize = std::env::args_os().nth(1).is_some_and(|word| word == "resize");
    let ([child], true) = (children, is_resize) else { return Vec::new() };
    let Ok(report) = inspect(child, None) else { return Vec::new() };
    let (held, size) = (text::size(report.allocated_size, false), text::size(report.virtual_size, false));
    let mut copy = child.file_stem().unwrap_or_default().to_owned();
    copy.push("-flat.");
    copy.push(child.extension().unwrap_or("vhdx".as_ref()));
    let copy = child.with_file_name(copy);
    let mut words: Vec<OsString> = std::iter::once("zsap".into()).chain(std::env::args_os().skip(1)).collect();
    let is_image = |word: &OsString| Path::new(word).canonicalize().ok() == image.canonicalize().ok();
    words.iter_mut().filter(|word| is_image(word)).for_each(|word| *word = name(child).into_os_string());
    let shown: Vec<String> = words.iter().map(|word| shown_word(Path::new(word))).collect();
    let on_top = Next {
        words,
        shown: format!("`{}`", shown.join(" ")),
        purpose: format!("resizes the current disk, whose size ({size}) is what a guest sees"),
        needs_a_decision: true,
    };
    let merged = format!("makes both one, for which {held} move at most, and that can be resized");
    let merge = Next::zsap("merge", child, &[], &merged);
    let copy = Next::zsap("copy", child, &[copy.as_os_str()], "makes a disk of its own of both, which can be resized");
    vec![on_top, merge.for_a_person(), copy.for_a_person()]
}

fn check(image: &Path) -> Next {
    Next::zsap("check", image, &[], "tells all")
}

fn relink(child: &Path) -> Next {
    Next::zsap("relink", child, &["--search".as_ref(), name(&folder_above(child)).as_os_str()], "looks for it")
}

/// The folder above that of an image: whatever belongs to the image and is not beside it is most likely there.
fn folder_above(image: &Path) -> PathBuf {
    let folder = image.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    match folder.file_name() {
        Some(_) => folder.parent().filter(|above| !above.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned(),
        None if folder.has_root() => folder.to_owned(),
        None => PathBuf::from(".."),
    }
}

fn carry_on_or_give_up(image: &Path) -> [Next; 2] {
    [Next::zsap("resume", image, &[], "carries on"), Next::zsap("abandon", image, &[], "gives it up")]
}

/// Whether what was typed changes what a guest sees, so that a child would do as well.
fn writes_content() -> bool {
    let command = std::env::args_os().skip(1).find(|word| !word.as_bytes().starts_with(b"-")).unwrap_or_default();
    ["bytes", "prepare", "resize", "serve", "expose", "copy"].iter().any(|writes| command == *writes)
}

/// A new child of an image, under a name that is free.
fn grow_child(image: &Path) -> Next {
    let stem = image.file_stem().unwrap_or_default();
    let named = |number: u32| {
        let mut name = stem.to_owned();
        name.push(format!("-child-{number}."));
        name.push(image.extension().unwrap_or("vhdx".as_ref()));
        image.with_file_name(name)
    };
    let free = (1..).map(named).find(|path| std::fs::symlink_metadata(path).is_err());
    let child = free.unwrap_or_default();
    Next::zsap("derive", image, &[name(&child).as_os_str()], "grows a child")
}

/// A word of a command that is shown, and can be typed.
fn shown_word(word: &Path) -> String {
    text::from_this_folder(&text::shell_word(word)).to_owned()
}

/// A name that no option looks like.
fn name(path: &Path) -> PathBuf {
    match path.as_os_str().as_bytes().first() {
        Some(b'-') => Path::new(".").join(path),
        _ => path.to_owned(),
    }
}

/// What ends a process that has a disk attached, which may go on for weeks.
fn attached_by(holder: &Holder) -> Option<PathBuf> {
    let process = holder.process?;
    let found = attachments().ok()?.into_iter().find(|attached| attached.process == Some(process))?;
    found.path.map(|path| path.to_path())
}

fn next_after(refusal: &Refusal) -> Vec<Next> {
    let force = |allowed: Override, risk: &str| Next::force(allowed, risk).into_iter().collect::<Vec<_>>();
    match refusal {
        Refusal::InUse { holder: Some(holder), .. } if holder.how == Hold::Unlocked => {
            force(Override::InUse, "if it is certain to leave the image alone")
        }
        Refusal::InUse { holder: Some(holder), .. } if holder.how == Hold::Lock => match attached_by(holder) {
            Some(target) => vec![Next::zsap("detach", &target, &[], "ends that").for_a_person()],
            None => vec![Next::again(&["--wait", "60"], "waits for it, so many seconds")],
        },
        Refusal::NeededByChildren { image, children, .. } if !children.is_empty() => {
            ways_past_children(image, children)
        }
        Refusal::NeededByChildren { image, .. } | Refusal::NoWay { image, for_unknown_children: true } => {
            let above = folder_above(image);
            let mut next = vec![Next::again(&["--search", &above.to_string_lossy()], "looks further")];
            next.extend(Next::force(Override::UnknownChildren, "if nothing needs the image any more"));
            next
        }
        Refusal::ReadOnly { path, marked: true } => {
            let frees = Next::zsap("unfreeze", path, &[], "frees it");
            std::iter::once(grow_child(path)).filter(|_| writes_content()).chain([frees]).collect()
        }
        Refusal::FormatDisagrees { in_content: true, .. } => {
            let says = Next::again(&["--format", "raw"], "(for a source: --source-format) says which it is");
            vec![says.for_a_person()]
        }
        Refusal::FormatDisagrees { in_content: false, .. } => force(Override::Ending, "if it is meant so"),
        Refusal::NotBlank { path, .. } => {
            let mut next = vec![Next::zsap("show", path, &[], "tells what is there")];
            next.extend(Next::force(Override::NotBlank, "if what is there may be lost"));
            next
        }
        Refusal::ExtendedInside { .. } => {
            let typed = std::env::args_os().skip(1).collect::<Vec<_>>();
            let disk = typed.iter().skip(1).find(|word| !word.as_bytes().starts_with(b"-"));
            let shows = |disk: &OsString| {
                let more = ["FOLDER".as_ref(), "--writable".as_ref()];
                Next::zsap("expose", Path::new(disk), &more, "shows it in an empty folder, to mount it from there")
            };
            disk.map(shows).map(Next::for_a_person).into_iter().collect()
        }
        Refusal::WouldCut { shrinkable: Some(number), .. } => {
            let option = format!("--shrink-partition={number}");
            vec![Next::again(&[&option], "has that partition end where the disk does")]
        }
        Refusal::WouldCut { .. } => force(Override::CutPartition, "and cuts what reaches so far"),
        Refusal::WouldDiscard { .. } => force(Override::DiscardData, "and loses what is there"),
        Refusal::ReservedSpace { .. } => force(Override::ReservedSpace, "and a guest may find the host full then"),
        Refusal::HasContent { .. } => vec![Next::again(&["--yes"], "goes on").for_a_person()],
        Refusal::SectorsDiffer { own, .. } => {
            let keeps = Next::again(&["--sectors", &format!("{own}/4096")], "keeps the size, in a vhdx image");
            std::iter::once(keeps).chain(Next::force(Override::Sectors, "if it is meant so")).collect()
        }
        Refusal::IdentityDiffers { .. } => {
            force(Override::Identity, "if you know that the child reads right through this parent")
        }
        Refusal::UnderWay { image, must_go_on: true } => {
            vec![Next::zsap("resume", image, &[], "carries on")]
        }
        Refusal::UnderWay { image, must_go_on: false } => carry_on_or_give_up(image).into(),
        Refusal::Pinned { image, .. } => {
            let unpins = Next::zsap("unpin", image, &[], "takes the pin away");
            std::iter::once(grow_child(image)).filter(|_| writes_content()).chain([unpins.for_a_person()]).collect()
        }
        Refusal::KeptByGrove { grove, checkpoint: Some(checkpoint), .. } => {
            let forget = Next::zsap("checkpoint forget", grove, &[checkpoint.as_ref()], "forgets it");
            vec![forget.for_a_person()]
        }
        Refusal::KeptByGrove { grove, disk, is_current: true, .. } => {
            vec![Next::zsap("grove release", grove, &[disk.as_ref()], "lets the disk go").for_a_person()]
        }
        Refusal::Attributes { .. } => force(Override::Attributes, "and leaves that out"),
        Refusal::OtherHost { .. } => force(Override::OtherHost, "if that host is gone for good"),
        Refusal::HardLinks { .. } => force(Override::HardLinks, "if nobody relies on the other names"),
        Refusal::SavedState { .. } => force(Override::SavedState, "if the machine will not be resumed"),
        Refusal::Unrecorded { .. } => {
            force(Override::UnrecordedChild, "and the child breaks when the parent is merged, moved or removed later")
        }
        _ => Vec::new(),
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
            assert_eq!(text::shell_word(&name(Path::new(path))), typed);
        }
    }
}
