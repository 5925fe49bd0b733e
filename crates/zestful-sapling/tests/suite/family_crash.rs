//! Loss of power, and a host that fills up, at every moment of work that spans several files.

use std::collections::BTreeSet;
use std::path::Path;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Health, Search, children_of};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{
    Derive, Direction, KeepName, Merge, MoveImage, NewSize, Operation, PinImage, Planned, Relink, Remove, Resize,
    Transplant,
};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::HostRecorder;

use crate::family_model::{SIZE, Step, Tribe, all_files, quick_folder};
use crate::guest_trees::tool;
use crate::sidecars::{journal_of, under_way};
use crate::support::{abandon, resume, verify_pin};

/// A piece of work on a family of seven images:
///
/// ```text
/// 0 base ── 1 ── 2 ── 3 child ─┬─ 4
///   └────── 6                  └─ 5
/// ```
#[derive(Clone, Copy, Debug)]
enum Work {
    Merge { depth: usize, direction: Direction, keep: KeepName },
    Transplant,
    Move,
    Relink,
    Pin,
    Derive,
    Remove,
    Resize,
}

const CHILD: usize = 3;
const LEAF: usize = 5;
const OTHER: usize = 6;
/// The size that the last child gets.
const GROWN: u64 = SIZE + (3 << 20);

fn family(format: Format) -> Tribe {
    let mut tribe = Tribe::new(format);
    let write = |tribe: &mut Tribe, to: usize, units: &[u64], zero: u64| {
        for at in units {
            tribe.step(&Step::Write { to, at: *at, byte: 16 * to as u8 + 1 + (*at % 7) as u8 });
        }
        tribe.step(&Step::Zero { to, at: zero, count: 3 });
    };
    write(&mut tribe, 0, &[0, 1, 2, 3, 4, 5, 6, 7, 300, 600, 601, 900], 1000);
    for (of, units, zero) in [(0, &[1u64, 300, 700][..], 4), (1, &[2, 301, 1200], 600), (2, &[3, 302, 700], 0)] {
        tribe.step(&Step::Derive { of, absolute: false });
        write(&mut tribe, of + 1, units, zero);
    }
    // Enough for several marks on the way.
    let path = tribe.path(CHILD);
    let disk = ChainMut::open(&path, &OpenOptions::new()).unwrap();
    disk.write_at(&vec![0xC7; 5 << 19], 5 << 20).unwrap();
    disk.close().unwrap();
    tribe.members[CHILD].as_mut().unwrap().content.fill(5 << 20, 5 << 19, 0xC7);
    for absolute in [false, true] {
        tribe.step(&Step::Derive { of: CHILD, absolute });
    }
    tribe.step(&Step::Derive { of: 0, absolute: false });
    for (to, units, zero) in [(4, &[5u64, 303][..], 301), (5, &[6, 1201], 1), (OTHER, &[0, 5, 601, 1300], 300)] {
        write(&mut tribe, to, units, zero);
    }
    tribe
}

impl Work {
    /// The image that the child's disk stands in when all is done.
    fn result(self, tribe: &Tribe) -> std::path::PathBuf {
        match self {
            Work::Merge { depth, keep: KeepName::Parent, .. } => tribe.path(CHILD - depth),
            Work::Move => tribe.root.path().join("2").join(format!("moved.{}", tribe.format)),
            Work::Resize => tribe.path(LEAF),
            _ => tribe.path(CHILD),
        }
    }

    /// Which of the images are still there afterwards and read as before at every moment; the child is one of them.
    fn survivors(self) -> Vec<usize> {
        match self {
            // What reads through a layer that goes is none of the family's disks any more.
            Work::Merge { depth, .. } => (0..=CHILD - depth - 1).chain(CHILD..=OTHER).collect(),
            Work::Remove => (0..=OTHER).filter(|number| *number != LEAF).collect(),
            _ => (0..=OTHER).collect(),
        }
    }

    fn run(self, tribe: &Tribe) -> zestful_sapling::Result<()> {
        let (child, progress) = (tribe.path(CHILD), Progress::new());
        let search = Search::below(vec![tribe.root.path().to_owned()]);
        match self {
            Work::Merge { depth, direction, keep } => {
                let request = Merge::new(child).with_ancestor(tribe.path(CHILD - depth)).with_direction(direction);
                request.with_name_of(keep).with_search(search).plan()?.run(&progress).map(|_| ())
            }
            Work::Transplant => Transplant::new(child, tribe.path(OTHER)).plan()?.run(&progress).map(|_| ()),
            Work::Move => {
                MoveImage::new(child, self.result(tribe)).with_search(search).plan()?.run(&Progress::new()).map(|_| ())
            }
            Work::Pin => PinImage::new(tribe.path(0)).plan()?.run(&progress).map(|_| ()),
            Work::Derive => {
                let new = vec![tribe.root.path().join("1").join(format!("new.{}", tribe.format))];
                Derive::new(child, new).plan()?.run(&progress).map(|_| ())
            }
            Work::Remove => Remove::new(tribe.path(LEAF)).plan()?.run(&Progress::new()).map(|_| ()),
            Work::Resize => {
                Resize::new(tribe.path(LEAF)).with_size(NewSize::To(GROWN)).plan()?.run(&progress).map(|_| ())
            }
            Work::Relink => {
                let absolute = tribe.path(CHILD - 1);
                Relink::new(child).with_parent(absolute).plan()?.run(&Progress::new()).map(|_| ())
            }
        }
    }

    /// Every surviving disk reads as it should.
    fn judge(self, tribe: &Tribe, when: &str) {
        for number in self.survivors() {
            let path = match number {
                CHILD if !tribe.path(CHILD).exists() => self.result(tribe),
                other => tribe.path(other),
            };
            let chain = Chain::open(&path, &OpenOptions::new());
            let chain = chain.unwrap_or_else(|error| panic!("{self:?} {when}: image {number}: {error}"));
            let mut content = tribe.member(number).content.clone();
            if matches!(self, Work::Resize) && number == LEAF && chain.virtual_size() == GROWN {
                content.resize(GROWN);
            }
            content.assert_same(&chain);
        }
        // Whoever is there is known: a child is recorded before it appears, and forgotten after it is gone.
        let known = children_of(&tribe.path(CHILD), &Search::default());
        for (is_child, name) in [
            (matches!(self, Work::Derive), tribe.root.path().join("1").join(format!("new.{}", tribe.format))),
            (matches!(self, Work::Remove), tribe.path(LEAF)),
        ] {
            if is_child && name.exists() {
                let known = known.as_ref().unwrap();
                assert!(
                    known.children.iter().any(|child| child.ends_with(name.file_name().unwrap())),
                    "{self:?} {when}"
                );
                Chain::open(&name, &OpenOptions::new()).unwrap_or_else(|error| panic!("{self:?} {when}: {error}"));
            }
        }
    }

    /// Does it all, or what is left of it.
    fn finish(self, tribe: &Tribe) {
        let child = tribe.path(CHILD);
        let is_done = match self {
            Work::Merge { depth, .. } => !tribe.path(CHILD - depth).exists() || !child.exists(),
            Work::Move => !child.exists(),
            Work::Transplant => depth(&child) == depth(&tribe.path(OTHER)) + 1,
            Work::Relink => false,
            Work::Derive => tribe.root.path().join("1").join(format!("new.{}", tribe.format)).exists(),
            Work::Remove => !tribe.path(LEAF).exists(),
            Work::Pin => verify_pin(&tribe.path(0)).is_ok_and(|report| report.state == Health::Healthy),
            Work::Resize => Chain::open(&tribe.path(LEAF), &OpenOptions::new()).unwrap().virtual_size() == GROWN,
        };
        match [&child, &self.result(tribe)].into_iter().find(|image| journal_of(image).exists()) {
            // Its own command carries it on where the child still has its name, else it is resumed.
            Some(image) if !is_done && child.exists() && !matches!(self, Work::Resize) => {
                self.run(tribe).unwrap_or_else(|error| panic!("{image:?}: {error}"))
            }
            Some(image) => _ = resume(image, &[]).unwrap(),
            None if !is_done => self.run(tribe).unwrap(),
            None => {}
        }
        self.judge(tribe, "in the end");
        let left = all_files(tribe.root.path()).into_iter().filter(|path| path.ends_with(".zsap.journal"));
        assert_eq!(left.collect::<Vec<_>>(), Vec::<String>::new());
        assert!(self.result(tribe).exists());
    }
}

fn depth(path: &Path) -> usize {
    Chain::open(path, &OpenOptions::new()).unwrap().layers().len()
}

/// Each piece of work, whose crash states and failures are looked at every so many.
fn works() -> Vec<(Format, Work)> {
    let mut works = Vec::new();
    for format in [Format::Vhdx, Format::Vhd] {
        for (depth, direction, keep) in [
            (1, Direction::IntoParent, KeepName::Child),
            (2, Direction::IntoParent, KeepName::Parent),
            (1, Direction::IntoChild, KeepName::Parent),
            (2, Direction::IntoChild, KeepName::Child),
        ] {
            works.push((format, Work::Merge { depth, direction, keep }));
        }
        let others = [Work::Transplant, Work::Move, Work::Relink, Work::Pin, Work::Derive, Work::Remove, Work::Resize];
        works.extend(others.map(|work| (format, work)));
    }
    works
}

#[test]
fn every_crash_state_reads_as_before_and_is_carried_on() {
    // All of them take minutes; a step that shares no factor with the number of states at each change meets all kinds.
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 17 };
    let (mut states, mut given_up) = (0, 0);
    for (format, work) in works() {
        let tribe = family(format);
        let root = tribe.root.path();
        let recorder = HostRecorder::start(root).unwrap();
        work.run(&tribe).unwrap();
        let found = recorder.crash_states(5, 2).unwrap();
        // Still running, so that the files are the same ones again in each state.
        recorder.stop();
        let listed = || all_files(root).into_iter().collect::<BTreeSet<_>>();
        let (files, end) = (listed(), found.iter().map(|(issued, _)| *issued).max());
        for (number, (issued, state)) in found.into_iter().enumerate() {
            let is_over = Some(issued) == end;
            if !is_over && !number.is_multiple_of(every) {
                continue;
            }
            recorder.restore(&state).unwrap();
            // What returned stays: no journal, no file that went comes back.
            if is_over {
                assert_eq!(listed(), files, "{work:?} after its end (state {number})");
            }
            work.judge(&tribe, &format!("after {issued} changes (state {number})"));
            // What another program would do with it now: nothing is begun twice.
            let image = if matches!(work, Work::Resize) { tribe.path(LEAF) } else { tribe.path(CHILD) };
            if number.is_multiple_of(3) && journal_of(&image).exists() && abandon(&image, &[]).is_ok() {
                work.judge(&tribe, &format!("given up after {issued} changes (state {number})"));
                assert_eq!(under_way(&image), None);
                given_up += 1;
            }
            work.finish(&tribe);
            states += 1;
        }
    }
    assert!(states > 130 && given_up > 12, "{states} states, {given_up} given up");
}

/// A folder that is moved, or copied, as a whole takes everything along, also what is under way in it; what is done in
/// a copy does nothing to the folder that it was made of.
#[test]
fn what_is_under_way_moves_with_its_folder() {
    for (format, work) in works() {
        // Half-way through the data; or with the new size in one of two footers.
        let change = match (work, format) {
            (Work::Merge { .. }, _) => 40,
            (Work::Resize, Format::Vhd) => 12,
            _ => continue,
        };
        let mut tribe = family(format);
        let recorder = HostRecorder::start(tribe.root.path()).unwrap();
        recorder.fail_from(change);
        assert!(matches!(work.run(&tribe), Err(Error::UnderWay { .. })), "{work:?}");
        drop(recorder);
        let elsewhere = quick_folder();
        assert_eq!(tool("cp", &["-a", &format!("{}/.", at(&tribe.root)), &at(&elsewhere)]), Some(true));
        let here = goes(&mut tribe, elsewhere);
        work.judge(&tribe, "in a copy");
        match work {
            // All that it changes is beside the journal.
            Work::Resize => work.finish(&tribe),
            _ => {
                let ended = resume(&work.result(&tribe), &[]);
                assert!(matches!(ended, Err(Error::Refused(Refusal::OtherFiles { .. }, _))), "{work:?}: {ended:?}");
                work.judge(&tribe, "in a copy that was left alone");
            }
        }
        drop(goes(&mut tribe, here));
        let elsewhere = quick_folder();
        for sub in 0..3 {
            std::fs::rename(tribe.root.path().join(sub.to_string()), elsewhere.path().join(sub.to_string())).unwrap();
        }
        drop(goes(&mut tribe, elsewhere));
        work.judge(&tribe, "in another folder");
        work.finish(&tribe);
    }
}

fn at(folder: &tempfile::TempDir) -> String {
    folder.path().display().to_string()
}

/// The family is looked for in another folder from now on; the one that it was in.
fn goes(tribe: &mut Tribe, to: tempfile::TempDir) -> tempfile::TempDir {
    for member in tribe.members.iter_mut().flatten() {
        member.path = to.path().join(member.path.strip_prefix(tribe.root.path()).unwrap());
    }
    std::mem::replace(&mut tribe.root, to)
}

#[test]
fn a_full_host_at_any_moment_loses_nothing() {
    let step = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 13 };
    let mut failures = 0;
    for (format, work) in works() {
        for fail_from in (0..).step_by(step) {
            let tribe = family(format);
            let recorder = HostRecorder::start(tribe.root.path()).unwrap();
            recorder.fail_from(fail_from);
            let Err(error) = work.run(&tribe) else { break };
            drop(recorder);
            // A child that cannot be recorded is refused before it appears.
            let is_told = matches!(
                error,
                Error::Io { .. } | Error::UnderWay { .. } | Error::Refused(Refusal::Unrecorded { .. }, _)
            );
            assert!(is_told, "{error}");
            work.judge(&tribe, &format!("with {fail_from} changes before the host was full"));
            let journals = [tribe.path(CHILD), work.result(&tribe)].map(|image| journal_of(&image));
            let begun = journals.iter().find(|journal| journal.exists());
            let is_begun = begun.is_some();
            assert!(is_begun || !matches!(error, Error::UnderWay { .. }), "{error}");
            if let Some(journal) = begun.filter(|_| fail_from.is_multiple_of(2)) {
                resume(journal, &[]).unwrap();
            }
            work.finish(&tribe);
            failures += 1;
        }
    }
    assert!(failures > 40, "{failures}");
}
