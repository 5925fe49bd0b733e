//! What is under way is recorded: a record that is damaged, of another host, or of images that changed since is never
//! followed blindly.

use std::path::PathBuf;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Health, Override, inspect, status_of};
use zestful_sapling::image::{Format, open_image_mut};
use zestful_sapling::ops::{Direction, KeepName, Merge, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::{HostRecorder, HostState};
use zestful_sapling::storage::{Access, FileStorage};

use crate::family_model::{derive, make, quick_folder, write};
use crate::sidecars::{journal_of, under_way};
use crate::support::Model;
use crate::support::{abandon, check_chain, resume};

/// A merge of two layers that was cut short.
struct Cut {
    folder: tempfile::TempDir,
    child: PathBuf,
    content: Model,
}

impl Cut {
    fn new(format: Format, direction: Direction) -> Self {
        Self::at(format, direction, false)
    }

    /// Cut short after a first mark, or just after all data was moved.
    fn at(format: Format, direction: Direction, moved: bool) -> Self {
        let folder = quick_folder();
        let path = |name: &str| folder.path().join(format!("{name}.{format}"));
        let (base, child) = (path("base"), path("now"));
        let mut content = Model::default();
        make(&base);
        for (image, at, byte) in [(&base, 0, 3), (&child, 5 << 19, 5)] {
            if *image == child {
                derive(&base, &child, false);
            }
            let disk = ChainMut::open(image, &OpenOptions::new()).unwrap();
            disk.write_at(&vec![byte; 5 << 19], at).unwrap();
            disk.close().unwrap();
            content.fill(at, 5 << 19, byte);
        }
        let plan = Merge::new(&child).with_direction(direction).plan().unwrap();
        let recorder = HostRecorder::start(folder.path()).unwrap();
        plan.run(&Progress::new()).unwrap();
        let states = recorder.crash_states(1, 0).unwrap();
        drop(plan);
        recorder.stop();
        // The first moment at which the journal says so.
        let is_there = |state: &HostState| {
            recorder.restore(state).unwrap();
            let all = lines(&child);
            let is_moved = all.last().is_some_and(|line| line.ends_with(b"\"moved\"\n"));
            if moved { is_moved } else { all.len() > 2 }
        };
        assert!(states.iter().any(|(_, state)| is_there(state)));
        Self { folder, child, content }
    }

    fn reads(&self) {
        self.content.assert_same(&Chain::open(&self.child, &OpenOptions::new()).unwrap());
    }

    fn resume(&self, overrides: &[Override]) -> zestful_sapling::Result<()> {
        resume(&self.child, overrides).map(|_| ())
    }
}

fn lines(child: &std::path::Path) -> Vec<Vec<u8>> {
    let text = std::fs::read(journal_of(child)).unwrap_or_default();
    text.split_inclusive(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect()
}

fn put(child: &std::path::Path, lines: &[Vec<u8>]) {
    std::fs::write(journal_of(child), lines.concat()).unwrap();
}

/// Changes what the first line says, and signs it again.
fn reword(child: &std::path::Path, change: impl FnOnce(&mut serde_json::Value)) {
    let mut all = lines(child);
    let mut record = serde_json::from_slice(&all[0][17..]).unwrap();
    change(&mut record);
    let text = record.to_string();
    let digest = blake3::hash(text.as_bytes()).to_hex();
    all[0] = format!("{} {text}\n", &digest[..16]).into_bytes();
    put(child, &all);
}

/// The second version had its number beside all else; a later one may hold anything.
#[test]
fn a_journal_of_another_version_is_not_called_damaged() {
    let cut = Cut::new(Format::Vhdx, Direction::IntoParent);
    let ours = std::fs::read(journal_of(&cut.child)).unwrap();
    for other in [serde_json::json!({ "version": 2 }), serde_json::json!({ "header": { "version": 4 } })] {
        std::fs::write(journal_of(&cut.child), &ours).unwrap();
        reword(&cut.child, |record| *record = other);
        for ended in [cut.resume(&[]), abandon(&cut.child, &[]).map(|_| ())] {
            assert!(matches!(ended, Err(Error::Unsupported(_))), "{ended:?}");
        }
        cut.reads();
    }
    std::fs::write(journal_of(&cut.child), &ours).unwrap();
    cut.resume(&[]).unwrap();
    cut.reads();
}

#[test]
fn a_damaged_journal_stops_everything_and_a_torn_end_nothing() {
    for (format, direction) in [(Format::Vhdx, Direction::IntoParent), (Format::Vhd, Direction::IntoChild)] {
        let cut = Cut::new(format, direction);
        let whole = lines(&cut.child);
        assert!(whole.len() > 2, "{} lines", whole.len());
        // Any byte of the intent, or of a mark that is not the last.
        for (line, step) in [(0, 37), (1, 11)] {
            for at in (0..whole[line].len() - 1).step_by(step) {
                let mut spoiled = whole.clone();
                spoiled[line][at] ^= 4;
                put(&cut.child, &spoiled);
                for ended in [cut.resume(&[]), abandon(&cut.child, &[]).map(|_| ())] {
                    assert!(matches!(ended, Err(Error::Damaged(_))), "byte {at} of line {line}: {ended:?}");
                }
                assert_eq!(status_of(cut.folder.path()).unwrap().state, Health::Broken);
                cut.reads();
            }
        }
        // The last line was being written when the power went: cut anywhere, or full of what was there before.
        let (last, before) = whole.split_last().unwrap();
        for torn in [&last[..1], &last[..last.len() / 2], &last[..last.len() - 1], &vec![0; last.len()]] {
            put(&cut.child, &[before, &[torn.to_vec()]].concat());
            assert!(under_way(&cut.child).is_some());
            cut.reads();
        }
        cut.resume(&[]).unwrap();
        cut.reads();
        assert_eq!(under_way(&cut.child), None);
    }
}

#[test]
fn what_another_host_began_is_left_alone() {
    let cut = Cut::new(Format::Vhdx, Direction::IntoParent);
    reword(&cut.child, |record| record["header"]["host"] = "harrow-fen-2".into());
    let refused = |ended: zestful_sapling::Result<()>| match ended {
        Err(Error::Refused(Refusal::OtherHost { .. }, _)) => {}
        Err(Error::UnderWay { source, .. }) => {
            assert!(matches!(*source, Error::Refused(Refusal::OtherHost { .. }, _)), "{source}");
        }
        other => panic!("{other:?}"),
    };
    refused(cut.resume(&[]));
    refused(abandon(&cut.child, &[]).map(|_| ()));
    refused(Merge::new(&cut.child).plan().unwrap().run(&Progress::new()).map(|_| ()));
    cut.reads();
    cut.resume(&[Override::OtherHost]).unwrap();
    cut.reads();
}

/// A guest was started too early: its writes are neither lost nor rolled over.
#[test]
fn a_disk_that_was_written_to_meanwhile_stops_the_merge() {
    let ways = [Direction::IntoParent, Direction::IntoChild];
    let all = [Format::Vhdx, Format::Vhd].into_iter().flat_map(|format| ways.map(|way| (format, way)));
    for (format, direction, moved) in all.flat_map(|(format, way)| [(format, way, false), (format, way, true)]) {
        let mut cut = Cut::at(format, direction, moved);
        // Our own writers are refused.
        let ours = ChainMut::open(&cut.child, &OpenOptions::new()).map(|_| ());
        assert!(matches!(ours, Err(Error::Refused(Refusal::UnderWay { .. }, _))), "{ours:?}");
        // Another program asks nobody.
        let storage = Arc::new(FileStorage::open(&cut.child, Access::Write).unwrap());
        let image = open_image_mut(storage, None).unwrap();
        image.write_at(&[9; 4096], 0).unwrap();
        image.close().unwrap();
        cut.content.fill(0, 4096, 9);
        cut.reads();
        if moved && direction == Direction::IntoChild {
            // It holds everything itself by then, these writes as well.
            cut.resume(&[]).unwrap();
            cut.reads();
            continue;
        }
        let Err(Error::UnderWay { source, .. }) = cut.resume(&[]) else {
            panic!("it was carried on: {format} {direction:?} {moved}")
        };
        assert!(matches!(*source, Error::Refused(Refusal::SourceChanged { .. }, _)), "{source}");
        cut.reads();
        abandon(&cut.child, &[]).unwrap();
        cut.reads();
        write(&cut.child, 1 << 20, 8);
        cut.content.fill(1 << 20, 4096, 8);
        Merge::new(&cut.child).plan().unwrap().run(&Progress::new()).unwrap();
        cut.reads();
    }
}

/// Killed at any moment, it is unfinished and nothing worse: no layer that only waits to be removed is called broken.
#[test]
fn a_merge_that_was_killed_at_any_moment_breaks_nothing() {
    let ways =
        [Direction::IntoParent, Direction::IntoChild].map(|way| [(way, KeepName::Child), (way, KeepName::Parent)]);
    let all = [Format::Vhdx, Format::Vhd]
        .into_iter()
        .flat_map(|format| ways.as_flattened().iter().map(move |way| (format, way)));
    let mut codes = std::collections::BTreeSet::new();
    for ((format, (direction, keep)), far) in all.flat_map(|case| [(case, false), (case, true)]) {
        let folder = quick_folder();
        let layers = ["base", "layer", "live"].map(|name| folder.path().join(format!("{name}.{format}")));
        make(&layers[0]);
        let mut content = Model::default();
        for (at, image) in (0..).zip(&layers) {
            if at > 0 {
                derive(&layers[at as usize - 1], image, false);
            }
            let disk = ChainMut::open(image, &OpenOptions::new()).unwrap();
            disk.write_at(&vec![at as u8 + 1; 5 << 19], at * (5 << 18)).unwrap();
            disk.close().unwrap();
            content.fill(at * (5 << 18), 5 << 19, at as u8 + 1);
        }
        let merge = Merge::new(&layers[2]).with_name_of(*keep).with_direction(*direction);
        let plan = if far { merge.with_ancestor(&layers[0]) } else { merge }.plan().unwrap();
        let recorder = HostRecorder::start(folder.path()).unwrap();
        plan.run(&Progress::new()).unwrap();
        let states = recorder.crash_states(1, 0).unwrap();
        drop(plan);
        recorder.stop();
        let mut cut = 0;
        for (_, state) in &states {
            recorder.restore(state).unwrap();
            let status = status_of(folder.path()).unwrap();
            let case = format!("{format} {direction:?} {keep:?} {far}: {:?}", status.problems);
            assert!(status.state < Health::Broken, "{case}");
            for image in layers.iter().filter(|image| image.exists()) {
                let report = check_chain(image, None).unwrap();
                assert!(report.state < Health::Broken, "{case}: {:?}", report.findings);
                assert!(inspect(image, None).unwrap().state < Health::Broken, "{case}");
                codes.extend(report.findings.iter().map(|finding| finding.code()));
            }
            if journal_of(&layers[2]).exists() {
                cut += 1;
                assert_eq!(status.state, Health::Unfinished, "{case}");
                assert_eq!(status.under_way.len(), 1, "{case}");
            }
            let disk = if layers[2].exists() { &layers[2] } else { &layers[usize::from(!far)] };
            content.assert_same(&Chain::open(disk, &OpenOptions::new()).unwrap());
        }
        assert!(cut > 20 && codes.contains("journal-cut-short"), "{cut} moments");
    }
    assert!(codes.contains("chain-removal"), "{codes:?}");
}
