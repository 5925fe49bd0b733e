//! What is wrong in a folder, one line a cause, the worst first.

use std::cmp::Reverse;
use std::path::Path;

use zestful_sapling::family::{Health, Problem, ProblemKind, UnderWay, UnderWayState};

use super::text;
use crate::advice::{self, Next};
use crate::console::Console;

/// How much room there is for what is wrong.
#[derive(Clone, Copy)]
pub(crate) struct Room {
    /// So many causes are told in whole sentences; of more each has a line.
    whole: usize,
    /// So many causes have a line at most.
    most: usize,
}

impl Room {
    /// Where what is wrong is what was asked for.
    pub(crate) const AMPLE: Self = Self { whole: 3, most: usize::MAX };

    /// Below a table of so many rows, which is to be seen as well.
    pub(crate) fn below(rows: usize) -> Self {
        match rows {
            0..=12 => Self::AMPLE,
            _ => Self { whole: 0, most: 3 },
        }
    }
}

/// What is wrong in a folder.
pub(crate) struct Troubles<'a> {
    folder: &'a Path,
    causes: Vec<Cause<'a>>,
}

/// Everything that is wrong for one reason.
struct Cause<'a> {
    kind: Kind,
    severity: Health,
    paths: Vec<&'a Path>,
    messages: Vec<&'a str>,
    next: Vec<Next>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Problem(ProblemKind),
    Work(UnderWayState),
}

impl<'a> Troubles<'a> {
    pub(crate) fn new(folder: &'a Path, problems: &'a [Problem], under_way: &'a [UnderWay]) -> Self {
        let mut causes: Vec<Cause<'a>> = Vec::new();
        let mut add = |kind, severity, path: &'a Path, message: &'a str, next: Vec<Next>| {
            match causes.iter_mut().find(|cause| cause.kind == kind) {
                Some(cause) => {
                    cause.paths.push(path);
                    cause.messages.push(message);
                    // The first of one kind that can be seen to shows how.
                    cause.next = if cause.next.is_empty() { next } else { std::mem::take(&mut cause.next) };
                }
                None => causes.push(Cause { kind, severity, paths: vec![path], messages: vec![message], next }),
            }
        };
        for problem in problems {
            let next = advice::next_for(problem);
            add(Kind::Problem(problem.code), problem.severity, &problem.path, &problem.message, next);
        }
        for work in under_way {
            let severity = if work.state == UnderWayState::Held { Health::Healthy } else { Health::Unfinished };
            add(Kind::Work(work.state), severity, &work.path, &work.message, advice::next_for_work(work));
        }
        causes.sort_by_key(|cause| Reverse((cause.severity, cause.can_be_seen_to(), cause.paths.len())));
        Self { folder, causes }
    }

    /// How many are how bad; nothing where all is well.
    pub(crate) fn count(&self) -> String {
        let of = |severity: Health, word: &str| {
            let all = self.causes.iter().filter(|cause| cause.severity == severity);
            let count: usize = all.map(|cause| cause.paths.len()).sum();
            (count > 0).then(|| format!("{count} {word}"))
        };
        let words =
            [(Health::Broken, "broken"), (Health::Unfinished, "unfinished"), (Health::Attention, "worth a look")];
        words.into_iter().filter_map(|(severity, word)| of(severity, word)).collect::<Vec<_>>().join(", ")
    }

    /// A line for each cause, or a sentence where there are few.
    pub(crate) fn lines(&self, console: &Console, room: Room) -> Vec<String> {
        let verbose = console.common().verbose;
        let is_whole = |cause: &Cause<'_>| verbose || self.causes.len() <= room.whole && cause.paths.len() == 1;
        let told = if verbose { self.causes.len() } else { self.causes.len().min(room.most) };
        let mut lines = Vec::new();
        for cause in &self.causes[..told] {
            match is_whole(cause) {
                true => lines.extend(cause.whole(console)),
                false => lines.push(cause.short(console, self.folder)),
            }
        }
        let folder = text::shell_word(&text::from_here(self.folder));
        let at = if self.folder == Path::new(".") { String::new() } else { format!(" {folder}") };
        match self.causes.len() - told {
            0 if self.causes.iter().all(is_whole) => {}
            0 => lines.push("  -v tells each in full".to_owned()),
            more => {
                let more = text::count(more, "cause", "causes");
                lines.push(format!("  and {more} more: `zsap status{at}` tells all, with -v each in full"));
            }
        }
        lines
    }

    /// All of it without what may be typed, for who says that himself; behind so many lines in short.
    pub(crate) fn facts(&self, console: &Console, lines_before: usize) -> Vec<String> {
        let is_long = |cause: &Cause<'_>| cause.paths.len() == 1 && lines_before <= FEW_LINES;
        let bare = |cause: &Cause<'_>| match is_long(cause) || console.common().verbose {
            true => cause.sentences(console),
            false => vec![cause.short(console, self.folder)],
        };
        self.causes.iter().flat_map(bare).collect()
    }

    /// The one command to type next: for the worst that can be seen to.
    pub(crate) fn next(&self) -> Option<Next> {
        self.causes.iter().find_map(|cause| cause.next.first().cloned())
    }

    /// What a long answer ends with: the verdict again, which has left the screen, and what to type next.
    pub(crate) fn end(&self, console: &Console, state: &str, lines_before: usize) -> Vec<String> {
        let mut lines = Vec::new();
        if lines_before > FEW_LINES && !self.causes.is_empty() {
            lines.push(format!("  {state}: {}", self.count()));
        }
        // Where each was told with its own command, that need not be said again.
        let told = self.causes.iter().map(|cause| cause.paths.len()).sum::<usize>();
        let is_said = self.causes.len() == 1 && told == 1 && lines_before <= FEW_LINES && !console.common().verbose;
        let next: Vec<Next> = self.next().filter(|_| !is_said).into_iter().collect();
        lines.extend(advice::lines(&next, "  "));
        lines
    }
}

/// An answer of so many lines is seen whole on any screen.
pub(crate) const FEW_LINES: usize = 20;

impl Cause<'_> {
    /// Whether more can be done at once than to look closer.
    fn can_be_seen_to(&self) -> bool {
        use ProblemKind as K;
        !matches!(self.kind, Kind::Problem(K::Unreadable | K::StructureDamaged | K::Uncertain)) && !self.next.is_empty()
    }

    fn word(&self) -> &'static str {
        match (self.kind, self.severity) {
            (Kind::Work(UnderWayState::Held), _) => "under way",
            (_, Health::Broken) => "broken",
            (_, Health::Unfinished) => "unfinished",
            _ => "note",
        }
    }

    fn lead(&self, console: &Console, text: &str) -> String {
        let word = self.word();
        match self.severity {
            Health::Broken | Health::Unfinished => text.replacen(word, &console.alarming(word), 1),
            _ => text.to_owned(),
        }
    }

    /// Each in full, with what may be typed for the first.
    fn whole(&self, console: &Console) -> Vec<String> {
        let mut lines = self.sentences(console);
        lines.extend(advice::lines(&self.next, &" ".repeat(14)));
        lines
    }

    fn sentences(&self, console: &Console) -> Vec<String> {
        let sentence = |message: &&str| {
            let text = text::wrapped(&format!("  {:<12}{}", self.word(), text::message(message)), &" ".repeat(14));
            self.lead(console, &text)
        };
        self.messages.iter().map(sentence).collect()
    }

    /// One line: what it is, and as many names as fit.
    fn short(&self, console: &Console, folder: &Path) -> String {
        let text = format!("  {:<12}{}", self.word(), self.headline());
        if self.kind == Kind::Problem(ProblemKind::DoesNotFit) {
            return self.lead(console, &text);
        }
        let names: Vec<String> = self.paths.iter().map(|path| text::below(path, folder)).collect();
        self.lead(console, &text::listed(&format!("{text}: "), &names))
    }

    fn headline(&self) -> String {
        let (one, many) = match self.kind {
            Kind::Problem(code) => headlines(code),
            Kind::Work(UnderWayState::Held) => ("is at work now", "are at work now"),
            Kind::Work(UnderWayState::Over) => {
                ("change is over; its journal is left", "changes are over; journals are left")
            }
            Kind::Work(UnderWayState::OfOtherFiles) => {
                ("copy of an image with unfinished work", "copies of images with unfinished work")
            }
            Kind::Work(_) => ("change was cut short", "changes were cut short"),
        };
        match self.kind {
            Kind::Problem(ProblemKind::DoesNotFit) => one.to_owned(),
            _ => text::count(self.paths.len(), one, many),
        }
    }
}

/// What one file is, and several are.
fn headlines(code: ProblemKind) -> (&'static str, &'static str) {
    use ProblemKind as K;
    match code {
        K::Unreadable => ("file cannot be read", "files cannot be read"),
        K::StructureDamaged => ("image is damaged and can be read", "images are damaged and can be read"),
        K::Uncertain => {
            ("image is damaged: what is read may be wrong", "images are damaged: what is read may be wrong")
        }
        K::ParentMissing => ("image does not find its parent", "images do not find their parent"),
        K::ParentChanged => ("image has a parent that changed", "images have a parent that changed"),
        K::ParentUnusable => ("image cannot use its parent", "images cannot use their parent"),
        K::ParentCycle => ("chain of parents leads back to itself", "chains of parents lead back to themselves"),
        K::PinTouched => ("pinned image was written to", "pinned images were written to"),
        K::CompanionDamaged => ("companion cannot be understood", "companions cannot be understood"),
        K::LoneCompanion => ("companion has lost its image", "companions have lost their image"),
        K::JournalDamaged => ("journal cannot be understood", "journals cannot be understood"),
        K::Twin => ("copy by hand has the identity of another", "copies by hand have the identity of another"),
        K::DanglingLink => ("link leads nowhere", "links lead nowhere"),
        K::LeftOver => ("file was left behind, unfinished", "files were left behind, unfinished"),
        K::DoesNotFit => ("all disks together can outgrow the host", ""),
        K::CatalogueDamaged => ("catalogue cannot be understood", "catalogues cannot be understood"),
        K::LayerMissing => ("disk or layer of a machine is not there", "disks or layers of machines are not there"),
        K::LayerChanged => ("layer of a checkpoint was changed", "layers of checkpoints were changed"),
        K::OldCheckpoint => ("checkpoint is old", "checkpoints are old"),
        K::LargeCheckpoint => ("checkpoint is large", "checkpoints are large"),
        K::DeepChain => ("disk has many layers", "disks have many layers"),
        K::CommandOwed => ("command after a checkpoint has not run", "commands after checkpoints have not run"),
        K::NobodysFile => ("file belongs to no disk", "files belong to no disk"),
        _ => ("problem", "problems"),
    }
}
