//! Where two disks differ, against a model.

use std::collections::BTreeSet;
use std::path::Path;

use proptest::prelude::*;
use zestful_sapling::chain::{ChainMut, OpenOptions};
use zestful_sapling::ops::{CopyDisk, Derive, Diff, Make, Operation, Planned};
use zestful_sapling::progress::Progress;

use crate::support::{Model, UNIT};

type Change = (u64, u64, u8);

fn change(path: &Path, model: &mut Model, changes: &[Change]) {
    let disk = ChainMut::open(path, &OpenOptions::new()).unwrap();
    for (at, units, byte) in changes {
        match byte {
            0 => disk.zero_at(at * UNIT, units * UNIT).unwrap(),
            byte => disk.write_at(&vec![*byte; (units * UNIT) as usize], at * UNIT).unwrap(),
        }
        model.fill(at * UNIT, units * UNIT, *byte);
    }
    disk.close().unwrap();
}

fn changes(size: u64) -> impl Strategy<Value = Vec<Change>> {
    proptest::collection::vec((0..size / UNIT - 600, 1..600u64, 0..4u8), 0..6)
}

fn units(path: &Path, other: &Path, contents: bool) -> BTreeSet<u64> {
    let found = Diff::new(path, other).with_contents(contents).plan().unwrap().run(&Progress::new()).unwrap();
    assert_eq!(found.bytes, found.differ.iter().map(|range| range.length).sum::<u64>());
    assert!(found.differ.windows(2).all(|pair| pair[0].offset + pair[0].length < pair[1].offset), "ranges meet");
    found.differ.iter().flat_map(|range| range.offset / UNIT..(range.offset + range.length) / UNIT).collect()
}

const SIZE: u64 = 12 << 20;

proptest! {
    #![proptest_config(crate::support::config(24))]

    #[test]
    fn differences_are_those_of_the_contents(
        base_changes in changes(SIZE),
        first_changes in changes(SIZE),
        second_changes in changes(SIZE),
        vhd in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let ending = if vhd { "vhd" } else { "vhdx" };
        let path = |name: &str| folder.path().join(format!("{name}.{ending}"));
        let mut base = Model::default();
        Make::new(path("base"), SIZE).plan().unwrap().run(&Progress::new()).unwrap();
        change(&path("base"), &mut base, &base_changes);
        let plan = Derive::new(path("base"), vec![path("first"), path("second")]).plan().unwrap();
        plan.run(&Progress::new()).unwrap();
        drop(plan);
        let (mut first, mut second) = (base.clone(), base.clone());
        change(&path("first"), &mut first, &first_changes);
        change(&path("second"), &mut second, &second_changes);
        // A disk of another format, larger by a little.
        let larger = folder.path().join("larger.raw");
        let request = Make::filled_from(&larger, path("first"), None).with_size(SIZE + 4096);
        request.plan().unwrap().run(&Progress::new()).unwrap();
        CopyDisk::new(path("first"), path("flat")).plan().unwrap().run(&Progress::new()).unwrap();

        let pairs = [
            (path("base"), &base, path("first"), &first),
            (path("first"), &first, path("second"), &second),
            (path("second"), &second, path("flat"), &first),
            (larger.clone(), &first, path("base"), &base),
            (path("flat"), &first, larger, &first),
        ];
        for (one, one_model, other, other_model) in pairs {
            let expected: BTreeSet<u64> =
                (0..SIZE / UNIT).filter(|unit| one_model.at(*unit) != other_model.at(*unit)).collect();
            prop_assert_eq!(&units(&one, &other, true), &expected);
            prop_assert!(units(&one, &other, false).is_superset(&expected));
        }
        // What tables tell of layers of one chain is no more than what was written.
        let mut touched = BTreeSet::new();
        for (at, units, _) in first_changes.iter().chain(&second_changes) {
            touched.extend(*at..at + units);
        }
        prop_assert!(units(&path("first"), &path("second"), false).is_subset(&touched));
        prop_assert!(units(&path("first"), &path("first"), false).is_empty());
    }
}
