//! Full copies that become children of a base: they read the same, and hold only what differs.

use std::os::unix::fs::FileExt;

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Search, children_of, inspect};
use zestful_sapling::image::Kind;
use zestful_sapling::ops::{CopyDisk, CopyOnto, Derive, Make, NewImage, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::{Fault, HostRecorder};

use crate::operations::files;
use crate::support::{Model, perform};

const MIB: u64 = 1 << 20;
const UNIT: u64 = 4096;

proptest! {
    #![proptest_config(crate::support::config(24))]

    /// Whatever the base is, and in whatever form the full copy came back: the child reads as the copy does, the base
    /// is what it was, and nothing is written that the base has.
    #[test]
    fn the_child_reads_as_the_copy_and_holds_only_what_differs(
        is_vhdx in any::<bool>(),
        is_deep in any::<bool>(),
        form in 0usize..4,
        base_runs in proptest::collection::vec((0u64..1500, 1u64..400, 1u8..4), 0..8),
        own_runs in proptest::collection::vec((0u64..1500 * 8, 1u64..900, 0u8..6), 0..8),
        grown in prop_oneof![Just(0i64), Just(3), Just(-1)],
        verify in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        let ending = if is_vhdx { "vhdx" } else { "vhd" };
        let (size, mut model) = (6 * MIB, Model::default());
        let base = path(&format!("fen-base.{ending}"));
        perform(Make::new(&base, size)).unwrap();
        let fill = |image: &std::path::Path, runs: &[(u64, u64, u8)], unit: u64, model: &mut Model| {
            let disk = ChainMut::open(image, &OpenOptions::new()).unwrap();
            for (at, len, byte) in runs {
                let at = (at * unit).min(size);
                let len = (len * unit).min(size.min(disk.virtual_size()).saturating_sub(at));
                if len == 0 {
                    continue;
                }
                // Zeros are told in both ways.
                match (byte, at % (2 * unit)) {
                    (0, 0) => disk.zero_at(at, len).unwrap(),
                    _ => disk.write_at(&vec![*byte; len as usize], at).unwrap(),
                }
                model.fill(at, len, *byte);
            }
            disk.close().unwrap();
        };
        fill(&base, &base_runs, UNIT, &mut model);
        let base = if is_deep {
            let upper = path(&format!("upper.{ending}"));
            perform(Derive::new(&base, vec![upper.clone()])).unwrap();
            fill(&upper, &base_runs.iter().map(|(at, len, byte)| (at / 2, *len, byte + 1)).collect::<Vec<_>>(), UNIT,
                &mut model);
            upper
        } else {
            base
        };
        let before = std::fs::read(&base).unwrap();

        let full = path(["full.raw", "full.vhd", "full.vhdx", "full-fixed.vhdx"][form]);
        let image = NewImage::new().with_kind(if [0, 3].contains(&form) { Kind::Fixed } else { Kind::Dynamic });
        let sized = size.checked_add_signed(grown * MIB as i64).unwrap();
        // Grown, or cut off, by whoever had it.
        match form {
            0 => {
                perform(CopyDisk::new(&base, &full).with_image(image)).unwrap();
                std::fs::File::options().write(true).open(&full).unwrap().set_len(sized).unwrap();
            }
            _ if grown > 0 => {
                perform(Make::filled_from(&full, &base, None).with_size(sized).with_image(image)).unwrap();
            }
            _ => {
                perform(CopyDisk::new(&base, &full).with_image(image)).unwrap();
            }
        }
        let full_size = Chain::open(&full, &OpenOptions::new()).unwrap().virtual_size();
        fill(&full, &own_runs, 512, &mut model);

        let child = path(&format!("germination-01.{ending}"));
        let onto = CopyOnto::new(&full, &base, &child).with_verify(verify);
        let done = perform(onto).unwrap();
        prop_assert_eq!((done.virtual_size, done.verified), (full_size, verify));
        let changed: u64 = own_runs.iter().map(|(_, len, _)| len * 512 + 2 * UNIT).sum();
        prop_assert!(done.bytes_written <= changed, "{} of {}", done.bytes_written, changed);
        let open = |image: &std::path::Path| Chain::open(image, &OpenOptions::new()).unwrap();
        let (one, other) = (open(&child), open(&full));
        let mut bytes = [vec![0; full_size as usize], vec![0; full_size as usize]];
        one.read_at(&mut bytes[0], 0).unwrap();
        other.read_at(&mut bytes[1], 0).unwrap();
        prop_assert!(bytes[0] == bytes[1]);
        if full_size == size {
            model.assert_same(&one);
        }
        prop_assert_eq!(one.layers().len(), if is_deep { 3 } else { 2 });
        prop_assert!(std::fs::read(&base).unwrap() == before);
        let known = children_of(&base, &Search::default()).unwrap();
        prop_assert!(known.all().any(|known| known.ends_with(child.file_name().unwrap())));
        prop_assert_eq!(inspect(&child, None).unwrap().kind, Kind::Differencing);
        drop(one);
        let mut findings = crate::support::check_chain(&child, None).unwrap().findings;
        findings.retain(|finding| {
            finding.severity() > zestful_sapling::finding::Severity::Note && !finding.code().starts_with("chain-")
        });
        prop_assert_eq!(findings, vec![]);
    }
}

/// What cannot be is refused, with nothing made and the base as it was.
#[test]
fn what_cannot_be_is_refused_and_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    perform(Make::new(path("base.vhdx"), 8 * MIB)).unwrap();
    perform(Make::new(path("full.raw"), 8 * MIB)).unwrap();
    perform(Make::new(path("other.raw"), 8 * MIB)).unwrap();
    let before = files(folder.path());
    let onto = |source: &str, base: &str, target: &str| CopyOnto::new(path(source), path(base), path(target));
    for (case, request, told) in [
        ("a raw base", onto("full.raw", "other.raw", "child.raw"), "identity"),
        ("another format", onto("full.raw", "base.vhdx", "child.vhd"), "does not end in .vhdx"),
        ("something there", onto("full.raw", "base.vhdx", "other.raw"), "already exists"),
        ("the base", onto("full.raw", "base.vhdx", "base.vhdx"), "already exists"),
        ("no source", onto("nothing.raw", "base.vhdx", "child.vhdx"), "nothing.raw"),
        ("no base", onto("full.raw", "nothing.vhdx", "child.vhdx"), "nothing.vhdx"),
        ("blocks", onto("full.raw", "base.vhdx", "child.vhdx").with_block_size(12345), "block"),
    ] {
        let error = perform(request).unwrap_err().with_causes();
        assert!(error.contains(told), "{case}: {error}");
        assert_eq!(files(folder.path()), before, "{case}");
    }
    // Somebody writes to the source, or to the base.
    for name in ["full.raw", "base.vhdx"] {
        let held = std::fs::File::options().append(true).open(path(name)).unwrap();
        let refused = perform(onto("full.raw", "base.vhdx", "child.vhdx")).unwrap_err();
        assert!(matches!(refused, Error::Refused(Refusal::InUse { .. }, _)), "{name}: {refused:?}");
        drop(held);
    }
    // A program without locks changes one of them after the plan, and is gone again before the end.
    for name in ["full.raw", "base.vhdx"] {
        let plan = onto("full.raw", "base.vhdx", "child.vhdx").plan().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(20));
        let file = std::fs::File::options().write(true).open(path(name)).unwrap();
        file.write_all_at(&[0; 512], 6 * MIB + 512).unwrap();
        drop(file);
        let refused = plan.run(&Progress::new());
        assert!(matches!(refused, Err(Error::Refused(Refusal::SourceChanged { .. }, _))), "{name}: {refused:?}");
        assert_eq!(files(folder.path()), before, "{name}");
    }
    // The base gets a second name, or something appears in the child's place: nobody is recorded, nothing frozen.
    let plan = || onto("full.raw", "base.vhdx", "child.vhdx").plan().unwrap();
    let is_untouched = || {
        assert!(!zestful_sapling::storage::is_marked_read_only(&path("base.vhdx")).unwrap());
        assert_eq!(children_of(&path("base.vhdx"), &Search::default()).unwrap().all().count(), 0);
    };
    let named = plan();
    std::fs::hard_link(path("base.vhdx"), path("second")).unwrap();
    let refused = named.run(&Progress::new());
    assert!(matches!(refused, Err(Error::Refused(Refusal::HardLinks { .. }, _))), "{refused:?}");
    std::fs::remove_file(path("second")).unwrap();
    is_untouched();
    let taken = plan();
    std::fs::write(path("child.vhdx"), "").unwrap();
    let refused = taken.run(&Progress::new());
    assert!(matches!(refused, Err(Error::Refused(..))), "{refused:?}");
    std::fs::remove_file(path("child.vhdx")).unwrap();
    is_untouched();
    drop((named, taken));
    // The base changes between the plan and the run; then a stop.
    let plan = onto("full.raw", "base.vhdx", "child.vhdx").plan().unwrap();
    std::fs::remove_file(path("base.vhdx")).unwrap();
    perform(Make::new(path("base.vhdx"), 8 * MIB)).unwrap();
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(..))));
    drop(plan);
    let progress = Progress::new();
    progress.stop();
    let stopped = onto("full.raw", "base.vhdx", "child.vhdx").plan().unwrap().run(&progress);
    assert!(matches!(stopped, Err(Error::Cancelled)), "{stopped:?}");
    is_untouched();
    let mut left = files(folder.path());
    left.retain(|name| !name.ends_with(".zsap.json"));
    assert_eq!(left, before);
}

/// Each change of the host fails once: the child is there, known and on a frozen base, or nothing of it is left.
#[test]
fn what_fails_half_way_is_taken_back() {
    let folder = crate::family_model::quick_folder();
    let root = folder.path().canonicalize().unwrap();
    let (base, child) = (root.join("base.vhdx"), root.join("child.vhdx"));
    perform(Make::new(&base, 8 * MIB)).unwrap();
    perform(Make::new(root.join("full.raw"), 8 * MIB)).unwrap();
    let copy = || perform(CopyOnto::new(root.join("full.raw"), &base, &child));
    let recorder = HostRecorder::start(&root).unwrap();
    copy().unwrap();
    let mut failed = 0;
    for at in 0..recorder.asked() {
        recorder.rewind().unwrap();
        recorder.fail_once(at, Fault::Error(5));
        let ended = copy();
        let known = children_of(&base, &Search::default()).unwrap().all().count();
        let is_frozen = zestful_sapling::storage::is_marked_read_only(&base).unwrap();
        let state = (child.exists(), known, is_frozen);
        assert!(state == (true, 1, true) || ended.is_err() && state == (false, 0, false), "change {at}: {state:?}");
        failed += u32::from(ended.is_err());
    }
    assert!(failed > 10, "{failed} failed");
}
