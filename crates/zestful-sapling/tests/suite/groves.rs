//! Machines: random lives against a model, and what is refused.

use proptest::prelude::*;
use zestful_sapling::chain::{ChainMut, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Health, ProblemKind};
use zestful_sapling::grove::{
    AddDisk, CopyGrove, DescribeCheckpoint, Forget, Grove, Hooks, Limits, NewGrove, Present, Rebuild, Revert, Role,
    TakeCheckpoint, Which, checkpoints_of, family_of, status_of,
};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{Make, Merge, MoveImage, Operation, Planned, Unfreeze};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::HostChange;

use crate::family_model::{derive, make, write, write_unasked};
use crate::machine::{Machine, assert_reads, files_below};
use crate::support::{Model, abandon, config, perform};

/// One thing that happens to a machine. Checkpoints are chosen among those that there are.
#[derive(Clone, Debug)]
enum Step {
    Write { disk: usize, unit: u64, byte: u8 },
    Resize { disk: usize, to: u64 },
    Compact { disk: usize, of: usize, in_order: bool },
    Take { running: bool },
    Revert { to: usize, keeps: bool },
    Forget { which: usize },
    Rename { which: usize },
    Rebuild,
    Copy { flat: bool },
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => (0..3usize, 0..2048u64, 0..250u8).prop_map(|(disk, unit, byte)| Step::Write { disk, unit, byte }),
        2 => (0..3usize, 16..3072u64).prop_map(|(disk, to)| Step::Resize { disk, to: to * 4096 }),
        3 => (0..3usize, 0..64usize, any::<bool>())
            .prop_map(|(disk, of, in_order)| Step::Compact { disk, of, in_order }),
        4 => any::<bool>().prop_map(|running| Step::Take { running }),
        3 => (0..64usize, any::<bool>()).prop_map(|(to, keeps)| Step::Revert { to, keeps }),
        3 => (0..64usize).prop_map(|which| Step::Forget { which }),
        1 => (0..64usize).prop_map(|which| Step::Rename { which }),
        1 => Just(Step::Rebuild),
        1 => any::<bool>().prop_map(|flat| Step::Copy { flat }),
    ];
    proptest::collection::vec(step, 4..20)
}

fn live(machine: &mut Machine, steps: &[Step]) {
    for (number, step) in steps.iter().enumerate() {
        let names: Vec<String> = machine.checkpoints.keys().cloned().collect();
        let chosen = |which: usize| names.get(which % names.len().max(1)).cloned();
        match step {
            Step::Write { disk, unit, byte } => {
                let disk = disk % machine.disks.len();
                if (unit + 1) * 4096 <= machine.present[disk].size.unwrap() {
                    machine.write(disk, *unit, *byte);
                }
            }
            Step::Resize { disk, to } => machine.resize(disk % machine.disks.len(), *to),
            Step::Compact { disk, of, in_order } => {
                machine.compact(disk % machine.disks.len(), chosen(*of).filter(|_| *of % 3 > 0).as_deref(), *in_order);
            }
            Step::Take { running: false } => machine.take(&format!("c{number:02}")),
            Step::Take { running: true } => machine.take_running(&format!("c{number:02}")),
            Step::Revert { to, keeps } => {
                if let Some(name) = chosen(*to) {
                    machine.revert(&name, keeps.then(|| format!("k{number:02}")).as_deref());
                }
            }
            Step::Forget { which } => {
                if let Some(name) = chosen(*which) {
                    machine.forget(&name);
                }
            }
            Step::Rename { which } => {
                if let Some(name) = chosen(*which) {
                    machine.rename(&name, &format!("Umbenannt {number}: nach dem Frost ❄"), "another note");
                }
            }
            Step::Rebuild => machine.rebuild(),
            Step::Copy { flat } => machine.copy(*flat),
        }
        machine.judge(&format!("after step {number}, {step:?}"));
    }
    machine.rebuild();
}

proptest! {
    #![proptest_config(config(24))]

    #[test]
    fn a_machine_reads_as_it_should_at_every_moment(
        formats in proptest::collection::vec(prop_oneof![Just(Format::Vhdx), Just(Format::Vhd)], 1..4),
        steps in steps(),
    ) {
        let mut machine = Machine::new(&formats);
        live(&mut machine, &steps);
        // In the end one layer on each base is left, as if none had been taken.
        let names: Vec<String> = machine.checkpoints.keys().cloned().collect();
        names.iter().for_each(|name| machine.forget(name));
        machine.judge("with nothing left to forget");
        let layers = |path: &std::path::PathBuf| {
            zestful_sapling::chain::Chain::open(path, &Default::default()).unwrap().layers().len()
        };
        let depths: Vec<usize> = machine.disks.iter().map(layers).collect();
        let expected: Vec<usize> = (0..formats.len()).map(|number| if number == 0 { 1 } else { 2 }).collect();
        prop_assert_eq!(depths, expected);
    }
}

/// What is done to a machine with a checkpoint `one`, and what it is refused for.
type Refused = (&'static str, fn(&mut Machine) -> zestful_sapling::Result<()>, fn(&Error) -> bool);

fn done<O: Operation>(operation: O) -> zestful_sapling::Result<()> {
    perform(operation).map(|_| ())
}

const REFUSED: &[Refused] = &[
    ("a name that is taken", |m| done(TakeCheckpoint::new(&m.folder, "one")), is_usage),
    ("a name that is none", |m| done(TakeCheckpoint::new(&m.folder, "a/b")), is_usage),
    ("a checkpoint that is not there", |m| done(Revert::new(&m.folder, "two", Present::Discarded)), is_usage),
    (
        "a name for the present that is taken",
        |m| done(Revert::new(&m.folder, "one", Present::KeptAs("one".into()))),
        is_usage,
    ),
    ("a folder that is no grove", |m| done(TakeCheckpoint::new(m.root.path(), "two")), is_usage),
    (
        "a grove once more",
        |m| done(NewGrove::new(&m.folder, "other")),
        |error| matches!(error, Error::Refused(Refusal::Exists { .. }, _)),
    ),
    (
        "a raw disk, which has no layers",
        |m| {
            let raw = m.folder.join("scratch.raw");
            Make::new(&raw, 1 << 20).plan()?.run(&Progress::new())?;
            done(AddDisk::new(&m.folder, raw))
        },
        |error| matches!(error, Error::Refused(Refusal::NoLayers { .. }, _)),
    ),
    ("a disk that lies elsewhere", |m| done(AddDisk::new(&m.folder, m.root.path().join("base-1.vhd"))), is_usage),
    (
        "a disk that the machine has",
        |m| done(AddDisk::new(&m.folder, &m.disks[0]).with_label("again")),
        |error| matches!(error, Error::Refused(Refusal::KeptByGrove { is_current: true, .. }, _)),
    ),
    (
        "a current disk is moved away",
        |m| done(MoveImage::new(&m.disks[0], m.root.path().join("away.vhdx"))),
        |error| matches!(error, Error::Refused(Refusal::KeptByGrove { is_current: true, .. }, _)),
    ),
    (
        "a layer of a checkpoint is merged by hand",
        |m| done(Merge::new(&m.disks[0])),
        |error| matches!(error, Error::Refused(Refusal::KeptByGrove { checkpoint: Some(_), .. }, _)),
    ),
    (
        "a layer of a checkpoint is freed to be written to",
        |m| {
            m.revert("one", Some("kept"));
            let place = Grove::open(&m.folder)?.place(Some("disk-0"), Some("kept"))?;
            done(Unfreeze::new(place.path))
        },
        |error| matches!(error, Error::Refused(Refusal::KeptByGrove { checkpoint: Some(_), .. }, _)),
    ),
    (
        "a protected checkpoint is forgotten",
        |m| {
            perform(DescribeCheckpoint::new(&m.folder, "one").with_protection(true))?;
            done(Forget::new(&m.folder, Which::Named("one".into())))
        },
        |error| matches!(error, Error::Refused(Refusal::Protected { .. }, _)),
    ),
    (
        "a disk that forgets is written to",
        |m| {
            let path = m.folder.join("swap.vhdx");
            make(&path);
            perform(AddDisk::new(&m.folder, &path).with_role(Role::Throwaway))?;
            ChainMut::open(&path, &OpenOptions::new()).map(|_| ())
        },
        |error| matches!(error, Error::Refused(Refusal::Throwaway { .. }, _)),
    ),
    (
        "a disk that somebody uses",
        |m| {
            let _held = ChainMut::open(&m.disks[1], &OpenOptions::new())?;
            done(TakeCheckpoint::new(&m.folder, "two"))
        },
        is_in_use,
    ),
    (
        "a disk that a program without locks has open",
        |m| {
            let _open = std::fs::OpenOptions::new().write(true).open(&m.disks[1]).unwrap();
            done(TakeCheckpoint::new(&m.folder, "two"))
        },
        is_in_use,
    ),
    (
        "a machine that another command works on",
        |m| {
            let _plan = TakeCheckpoint::new(&m.folder, "two").plan()?;
            done(TakeCheckpoint::new(&m.folder, "three"))
        },
        is_in_use,
    ),
    (
        "a disk with children of its own",
        |m| {
            derive(&m.disks[0], &m.root.path().join("child.vhdx"), false);
            done(TakeCheckpoint::new(&m.folder, "two"))
        },
        |error| matches!(error, Error::Refused(Refusal::NeededByChildren { .. }, _)),
    ),
    (
        "a layer that was written to behind everybody's back",
        |m| {
            m.revert("one", Some("kept"));
            let path = Grove::open(&m.folder)?.place(Some("disk-0"), Some("kept"))?.path;
            std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
            write_unasked(&path, 0, 9);
            done(Revert::new(&m.folder, "kept", Present::Discarded))
        },
        |error| matches!(error, Error::Refused(Refusal::SourceChanged { .. }, _)),
    ),
    (
        "a current image that is gone",
        |m| {
            std::fs::rename(&m.disks[1], m.root.path().join("gone")).unwrap();
            done(TakeCheckpoint::new(&m.folder, "two"))
        },
        |error| matches!(error, Error::Io { .. }),
    ),
    (
        "a catalogue of a newer version",
        |m| {
            spoil(m, "\"version\": 1", "\"version\": 2");
            done(Rebuild::new(&m.folder))
        },
        |error| matches!(error, Error::Unsupported(finding) if finding.code() == "catalogue-version"),
    ),
    (
        "a catalogue that leads out of the folder",
        |m| {
            spoil(m, "\"disk-0.vhdx\"", "\"../disk-0.vhdx\"");
            done(TakeCheckpoint::new(&m.folder, "two"))
        },
        |error| matches!(error, Error::Damaged(finding) if finding.code() == "catalogue-damaged"),
    ),
    (
        "a full host",
        |m| {
            let root = m.root.path().canonicalize().unwrap();
            let recorder = zestful_sapling::storage::testing::HostRecorder::start(&root)?;
            recorder.pretend_free_space(1000);
            done(TakeCheckpoint::new(&m.folder, "two"))
        },
        |error| matches!(error, Error::Refused(Refusal::NoSpace { .. }, _)),
    ),
];

fn is_usage(error: &Error) -> bool {
    matches!(error, Error::Usage(_))
}

fn is_in_use(error: &Error) -> bool {
    matches!(error, Error::Refused(Refusal::InUse { .. }, _))
}

fn spoil(machine: &Machine, old: &str, new: &str) {
    let place = machine.folder.join("grove.json");
    let text = std::fs::read_to_string(&place).unwrap();
    assert!(text.contains(old), "{text}");
    std::fs::write(place, text.replace(old, new)).unwrap();
}

#[test]
fn what_cannot_be_done_is_refused_with_the_reason_and_changes_nothing() {
    for (what, act, is_expected) in REFUSED {
        let mut machine = Machine::new(&[Format::Vhdx, Format::Vhd]);
        machine.write(0, 3, 3);
        machine.take("one");
        machine.write(1, 4, 4);
        let error = act(&mut machine).expect_err(what);
        assert!(is_expected(&error), "{what}: {error:?}");
        assert!(!machine.folder.join("grove.journal").exists(), "{what}");
        let left = files_below(&machine.folder).into_iter().find(|path| path.to_string_lossy().contains(".partial-"));
        assert_eq!(left, None, "{what}");
    }
}

/// A guest that starts in the middle of a switch that was cut short: nothing goes on blindly, and nothing is lost.
#[test]
fn a_guest_that_starts_too_early_stops_the_switch_and_keeps_what_it_wrote() {
    for (first, second, can_go_on) in [(true, false, true), (false, true, false), (true, true, false)] {
        let mut machine = Machine::new(&[Format::Vhdx, Format::Vhd]);
        machine.write(0, 3, 3);
        let root = machine.root.path().canonicalize().unwrap();
        let recorder = zestful_sapling::storage::testing::HostRecorder::start(&root).unwrap();
        // Up to the moment at which the first disk is switched and the second is not.
        perform(TakeCheckpoint::new(&machine.folder, "one")).unwrap();
        let renamed = |change: &HostChange| matches!(change, HostChange::Rename(_, to) if machine.disks.contains(to));
        let at = recorder.changes().iter().position(renamed).unwrap();
        recorder.rewind().unwrap();
        recorder.fail_from(at + 1);
        assert!(matches!(perform(TakeCheckpoint::new(&machine.folder, "one")), Err(Error::UnderWay { .. })));
        recorder.stop();
        for (number, is_written) in [(0, first), (1, second)] {
            if is_written {
                write_unasked(&machine.disks[number], 4096 * 9, 0xA1);
                machine.present[number].fill(4096 * 9, 4096, 0xA1);
            }
        }
        let ended = perform(TakeCheckpoint::new(&machine.folder, "two"));
        if can_go_on {
            // Both disks are in `one`, as they were then.
            machine.present[0].fill(4096 * 9, 4096, 0);
            machine.note_taken("one", "");
            machine.present[0].fill(4096 * 9, 4096, 0xA1);
            machine.note_taken("two", "");
            assert!(ended.unwrap().begun.is_some_and(|begun| begun.done));
        } else if first {
            assert!(matches!(ended, Err(Error::Refused(Refusal::UnderWay { .. }, _))), "{ended:?}");
            machine.judge_content("stuck");
            abandon(&machine.folder, &[]).unwrap();
            let grove = Grove::open(&machine.folder).unwrap();
            let kept = grove.checkpoint("unfinished-1").unwrap();
            assert_eq!(kept.disks.iter().map(|layer| &*layer.label).collect::<Vec<_>>(), ["disk-0"]);
            machine.judge_content("left as it is");
            perform(Forget::new(&machine.folder, Which::Named("unfinished-1".into()))).unwrap();
            machine.judge("after all");
            continue;
        } else {
            // The guest wrote to what was not frozen yet: all is as before, with what it wrote.
            machine.note_taken("two", "");
            assert!(ended.unwrap().begun.is_some_and(|begun| !begun.done));
        }
        machine.judge(&format!("{first} {second}"));
    }
}

/// A machine whose folder is moved, or restored elsewhere, is the same machine.
#[test]
fn a_folder_that_is_moved_or_copied_works_as_it_is() {
    let mut machine = Machine::new(&[Format::Vhdx]);
    machine.write(0, 3, 3);
    machine.take("one");
    machine.write(0, 5, 5);
    let place = machine.root.path().canonicalize().unwrap().join("elsewhere");
    std::fs::rename(&machine.folder, &place).unwrap();
    let moved = |path: &std::path::Path| place.join(path.file_name().unwrap());
    machine.disks = machine.disks.iter().map(|path| moved(path)).collect();
    machine.folder.clone_from(&place);
    machine.judge("moved");
    machine.take("two");
    machine.write(0, 3, 4);
    // Behind a link it is the same one.
    let link = machine.root.path().join("link");
    std::os::unix::fs::symlink(&place, &link).unwrap();
    perform(Revert::new(&link, "one", Present::KeptAs("three".into()))).unwrap();
    machine.note_reverted("one", Some("three"));
    machine.judge("through a link");
    machine.forget("one");
    machine.judge("in the end");
}

/// An existing chain becomes a machine's disk with its past.
#[test]
fn layers_that_are_there_become_checkpoints() {
    let mut machine = Machine::new(&[Format::Vhdx]);
    let path = |name: &str| machine.folder.join(name);
    make(&path("a.vhdx"));
    write(&path("a.vhdx"), 0, 1);
    derive(&path("a.vhdx"), &path("b.vhdx"), false);
    write(&path("b.vhdx"), 4096, 2);
    derive(&path("b.vhdx"), &path("c.vhdx"), false);
    let added = perform(AddDisk::new(&machine.folder, path("c.vhdx")).with_label("records")).unwrap();
    assert_eq!(added.adopted, ["a", "b"]);
    let list = checkpoints_of(&Grove::open(&machine.folder).unwrap()).unwrap();
    let tree: Vec<_> = list.checkpoints.iter().map(|one| (&*one.name, one.parent.as_deref())).collect();
    assert_eq!(tree, [("a", None), ("b", Some("a"))]);
    assert_eq!(list.present.after.as_deref(), Some("b"));
    machine.rebuild();
    let grove = Grove::open(&machine.folder).unwrap();
    let mut content = Model::default();
    content.fill(0, 4096, 1);
    assert_reads(&grove.place(Some("records"), Some("a")).unwrap().path, &content, "a");
    content.fill(4096, 4096, 2);
    assert_reads(&grove.place(Some("records"), None).unwrap().path, &content, "the present");
    perform(Forget::new(&machine.folder, Which::AllBut(0))).unwrap();
    assert_reads(&path("c.vhdx"), &content, "all forgotten");
    assert!(!path("a.vhdx").exists() && !path("b.vhdx").exists());
    machine.disks.clear();
}

/// What is done to a machine with the checkpoints `one` and `two`, and the problem that its folder has then.
type Spoiled = (ProblemKind, Health, fn(&mut Machine));

const SPOILED: &[Spoiled] = &[
    (ProblemKind::CatalogueDamaged, Health::Broken, |m| spoil(m, "\"checkpoints\"", "\"chickpoints\"")),
    (ProblemKind::LayerMissing, Health::Broken, |m| {
        std::fs::remove_file(m.folder.join("history/0002-two/disk-0.vhdx")).unwrap();
    }),
    (ProblemKind::LayerChanged, Health::Broken, |m| {
        let path = m.folder.join("history/0002-two/disk-0.vhdx");
        std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
        write_unasked(&path, 0, 9);
    }),
    (ProblemKind::OldCheckpoint, Health::Attention, |m| {
        let grove = Grove::open(&m.folder).unwrap();
        let taken = grove.checkpoint("one").unwrap().taken.to_string();
        spoil(m, &format!("\"{taken}\""), "\"2020-02-02T20:20:02Z\"");
    }),
    (ProblemKind::LargeCheckpoint, Health::Attention, |m| {
        let disk = ChainMut::open(&m.disks[0], &OpenOptions::new()).unwrap();
        disk.write_at(&vec![1; 4 << 20], 0).unwrap();
        disk.close().unwrap();
        perform(TakeCheckpoint::new(&m.folder, "three")).unwrap();
    }),
    (ProblemKind::DeepChain, Health::Attention, |m| {
        (0..15).for_each(|number| _ = perform(TakeCheckpoint::new(&m.folder, format!("n{number}"))).unwrap());
    }),
    (ProblemKind::CommandOwed, Health::Unfinished, |m| {
        let hooks = Hooks::new().with_after(vec!["true".to_owned()]);
        drop(hooks.begin(&m.folder, "three", &Progress::new()).unwrap());
    }),
    (ProblemKind::NobodysFile, Health::Attention, |m| {
        std::fs::write(m.folder.join("history/0001-one/notes.txt"), "whose?").unwrap();
    }),
];

#[test]
fn what_is_wrong_with_a_machine_is_told_at_the_first_look() {
    for (kind, health, spoil) in SPOILED {
        let mut machine = Machine::new(&[Format::Vhdx]);
        machine.write(0, 3, 3);
        machine.take("one");
        machine.take("two");
        let look = || status_of(&machine.folder, &Limits::default()).unwrap();
        assert_eq!((look().state, look().problems), (Health::Healthy, Vec::new()), "{kind:?}");
        spoil(&mut machine);
        let look = status_of(&machine.folder, &Limits::default()).unwrap();
        let found = look.problems.iter().find(|problem| problem.code == *kind);
        assert_eq!(found.map(|problem| problem.severity), Some(*health), "{kind:?}: {:?}", look.problems);
        assert_eq!(look.state, *health, "{kind:?}: {:?}", look.problems);
        let family = family_of(&machine.folder, &Limits::default()).unwrap();
        assert!(family.problems.iter().any(|problem| problem.code == *kind) && family.state == *health, "{kind:?}");
        // A damaged catalogue is kept, and made anew.
        if *kind == ProblemKind::CatalogueDamaged {
            perform(Rebuild::new(&machine.folder)).unwrap();
            assert!(machine.folder.join("grove.json.old-1").exists());
            machine.judge_content("made anew");
        }
    }
}

/// A catalogue that a stranger wrote is understood, or refused, and leads nowhere else.
#[test]
fn a_catalogue_that_contradicts_itself_is_refused() {
    let mut machine = Machine::new(&[Format::Vhdx]);
    ["one", "two", "three"].iter().for_each(|name| machine.take(name));
    let place = machine.folder.join("grove.json");
    let whole: serde_json::Value = serde_json::from_slice(&std::fs::read(&place).unwrap()).unwrap();
    let spoils: &[(&str, serde_json::Value)] = &[
        ("/next", u64::MAX.into()),
        ("/next", 1.into()),
        ("/after", 9.into()),
        ("/checkpoints/0/parent", 3.into()),
        ("/checkpoints/1/parent", 2.into()),
        ("/checkpoints/1/number", 1.into()),
        ("/checkpoints/1/name", "one".into()),
        ("/checkpoints/1/folder", "/etc".into()),
        ("/checkpoints/1/disks/0/path", "history/../../x.vhdx".into()),
        ("/checkpoints/1/disks/0/path", "disk-0.vhdx".into()),
        ("/checkpoints/1/disks/0/identity", "none".into()),
        ("/disks/0/role", "lost".into()),
        ("/disks/0/path", "".into()),
        ("/machine", serde_json::Value::Null),
    ];
    for (where_, value) in spoils {
        let mut spoiled = whole.clone();
        *spoiled.pointer_mut(where_).unwrap() = value.clone();
        std::fs::write(&place, spoiled.to_string()).unwrap();
        let error = perform(TakeCheckpoint::new(&machine.folder, "four")).expect_err(where_);
        assert!(matches!(&error, Error::Damaged(found) if found.code() == "catalogue-damaged"), "{where_}: {error:?}");
    }
    for text in ["", "{}", "[]", "\u{0}", "{\"version\": 1}"] {
        std::fs::write(&place, text).unwrap();
        let error = Grove::open(&machine.folder).expect_err(text);
        assert!(matches!(error, Error::Damaged(_)), "{text}: {error:?}");
    }
    std::fs::write(&place, whole.to_string()).unwrap();
    machine.take("four");
    machine.judge("whole again");
}

/// A program without locks writes to one disk while another is copied: that is no machine of one moment.
#[test]
fn a_copy_of_two_moments_is_none() {
    let mut machine = Machine::new(&[Format::Vhdx, Format::Vhd]);
    machine.write(0, 3, 3);
    let (folder, target) = (machine.folder.clone(), machine.root.path().canonicalize().unwrap().join("copy"));
    let root = machine.root.path().canonicalize().unwrap();
    let recorder = zestful_sapling::storage::testing::HostRecorder::start(&root).unwrap();
    perform(CopyGrove::new(&folder, &target).flat(true)).unwrap();
    let named = |change: &HostChange| matches!(change, HostChange::Rename(_, to) if to.ends_with("disk-1.vhd"));
    let last = recorder.changes().iter().position(named).unwrap();
    recorder.rewind().unwrap();
    let pause = recorder.pause_at(last);
    std::thread::scope(|scope| {
        let copying = scope.spawn(|| perform(CopyGrove::new(&folder, &target).flat(true)));
        while !pause.is_reached() && !copying.is_finished() {
            std::thread::sleep(std::time::Duration::from_micros(50));
        }
        let file = std::fs::OpenOptions::new().write(true).open(&machine.disks[0]).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, &[7; 512], 4 << 20).unwrap();
        drop((file, pause));
        let ended = copying.join().unwrap();
        assert!(matches!(ended, Err(Error::Refused(Refusal::SourceChanged { .. }, _))), "{ended:?}");
    });
    assert!(!target.exists() && !folder.join("grove.journal").exists());
}
