//! Pins and companions: what proves that a base did not change, and who is known to have grown from it.

use std::fs::File;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde_json::json;
use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Family, Health, Override, Search, children_of, status_of};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{
    FreshIdentity, Merge, MoveImage, Operation, PinImage, Planned, Relink, Remove, Transplant, WriteBytes,
};
use zestful_sapling::progress::Progress;

use crate::family_model::{derive, make, move_to, write};
use crate::sidecars::{companion, companion_of};
use crate::support::{check_chain, unpin, verify_pin};

const PIECE: u64 = 4 << 20;

fn pin(path: &Path) {
    PinImage::new(path).plan().unwrap().run(&Progress::new()).unwrap();
}

/// Changes a byte of the disk behind everybody's back, in the file itself; the file's time stays as it was.
fn spoil(path: &Path, at: u64) {
    let (layer, place) = Chain::open(path, &OpenOptions::new()).unwrap().extent_at(at, 1).unwrap().data.unwrap();
    assert_eq!(layer, 0);
    let mode = std::fs::metadata(path).unwrap();
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o644)).unwrap();
    let file = File::options().read(true).write(true).open(path).unwrap();
    let mut byte = [0];
    file.read_exact_at(&mut byte, place).unwrap();
    file.write_all_at(&[byte[0] ^ 1], place).unwrap();
    file.set_modified(mode.modified().unwrap()).unwrap();
    std::fs::set_permissions(path, mode.permissions()).unwrap();
}

#[test]
fn a_pin_proves_content_and_names_what_changed_and_who_reads_it() {
    for format in [Format::Vhdx, Format::Vhd] {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(format!("{name}.{format}"));
        let base = path("fen-base");
        make(&base);
        for at in [0, 3, 1023, 1024, 2047] {
            write(&base, at * 4096, at as u8 | 1);
        }
        derive(&base, &path("germination-01"), false);
        derive(&base, &path("germination-02"), false);
        // The second one hides a part of the base.
        write(&path("germination-02"), 4096, 9);
        write(&path("germination-02"), 1023 * 4096, 9);
        pin(&base);
        // The digests are those of the plain content, whoever computes them.
        let kept = companion(&base)["pin"].clone();
        let disk = Chain::open(&base, &OpenOptions::new()).unwrap();
        let mut content = vec![0; disk.virtual_size() as usize];
        disk.read_at(&mut content, 0).unwrap();
        drop(disk);
        let expected: Vec<blake3::Hash> = content.chunks(PIECE as usize).map(blake3::hash).collect();
        let digests: Vec<String> = expected.iter().map(|digest| digest.to_hex().to_string()).collect();
        let joined: Vec<u8> = expected.iter().flat_map(|digest| *digest.as_bytes()).collect();
        assert_eq!(kept["runs"], json!([{ "first": 0, "digests": digests }]));
        assert_eq!(kept["whole"], blake3::hash(&joined).to_hex().as_str());
        assert_eq!((&kept["virtual_size"], &kept["piece_size"]), (&json!(content.len()), &json!(PIECE)));
        let verify = || verify_pin(&base).unwrap();
        assert_eq!(verify().state, Health::Healthy);
        assert_eq!(check_chain(&base, None).unwrap().state, Health::Healthy);
        // One byte, and not even the file's time tells.
        spoil(&base, 1023 * 4096 + 5);
        let report = verify();
        assert!(report.state == Health::Broken && !report.identity_changed);
        assert_eq!(report.changed.iter().map(|range| (range.offset, range.length)).collect::<Vec<_>>(), [(0, PIECE)]);
        let reads: Vec<u64> = report.children.iter().map(|child| child.bytes_read_through).collect();
        assert_eq!(reads, [PIECE, PIECE - 2 * 4096]);
        let checked = check_chain(&base, None).unwrap();
        assert_eq!((checked.state, checked.findings[0].code()), (Health::Broken, "pin-changed"));
        spoil(&base, 1023 * 4096 + 5);
        assert_eq!(verify().state, Health::Healthy);
        // The digests themselves are proven.
        let mut spoiled = companion(&base);
        spoiled["pin"]["runs"][0]["digests"][0] = json!("00".repeat(32));
        std::fs::write(companion_of(&base), spoiled.to_string()).unwrap();
        assert!(matches!(verify_pin(&base), Err(Error::Damaged(_))));
        std::fs::write(companion_of(&base), "{").unwrap();
        assert!(matches!(verify_pin(&base), Err(Error::Damaged(_))));
        assert_eq!(check_chain(&path("germination-01"), None).unwrap().state, Health::Broken);
    }
}

#[test]
fn a_pinned_image_refuses_every_change() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(format!("{name}.vhdx"));
    for name in ["fen-base", "other-base"] {
        make(&path(name));
        write(&path(name), 0, 7);
    }
    derive(&path("fen-base"), &path("layer"), false);
    derive(&path("layer"), &path("now"), false);
    let (layer, other) = (path("layer"), path("other-base"));
    assert!(!PinImage::new(&other).plan().unwrap().summary().steps.is_empty());
    for image in [&layer, &other] {
        pin(image);
        assert!(std::fs::metadata(image).unwrap().permissions().readonly());
        assert!(matches!(PinImage::new(image).plan().map(|_| ()), Err(Error::Usage(_))));
    }
    let refused = |result: zestful_sapling::Result<()>| match result {
        Err(Error::Refused(Refusal::Pinned { .. }, advice)) => assert!(advice.to_string().contains("unpin")),
        other => panic!("{other:?}"),
    };
    refused(WriteBytes::new(&other, 0, 1, std::io::empty()).plan().map(|_| ()));
    refused(FreshIdentity::new(&other).plan().map(|_| ()));
    refused(Remove::new(&other).with_override(Override::UnknownChildren).plan().map(|_| ()));
    refused(MoveImage::new(&other, path("elsewhere")).plan().map(|_| ()));
    refused(Relink::new(&layer).plan().map(|_| ()));
    refused(Transplant::new(&layer, &other).plan().map(|_| ()));
    refused(Merge::new(path("now")).plan().map(|_| ()));
    refused(Merge::new(&layer).plan().map(|_| ()));
    refused(Merge::new(path("now")).with_ancestor(path("fen-base")).plan().map(|_| ()));
    // Grown from it may be all the same.
    derive(&other, &path("records"), false);
    let status = status_of(folder.path()).unwrap();
    assert_eq!((status.pinned.len(), status.state, status.deepest), (2, Health::Healthy, 3));
    assert_eq!(status.current.len(), 2);
    assert!(!unpin(&layer, &Search::default()).unwrap().writable, "it has a child");
    assert!(!unpin(&other, &Search::default()).unwrap().writable);
    assert!(matches!(unpin(&other, &Search::default()), Err(Error::Usage(_))));
    make(&path("alone"));
    pin(&path("alone"));
    assert!(unpin(&path("alone"), &Search::default()).unwrap().writable);
    assert!(!companion_of(&path("alone")).exists());
    // What is stopped leaves no pin and no mark.
    let progress = Progress::new();
    progress.stop();
    write(&path("alone"), 0, 1);
    assert!(matches!(PinImage::new(path("alone")).plan().unwrap().run(&progress), Err(Error::Cancelled)));
    write(&path("alone"), 0, 2);
}

#[test]
fn the_companion_follows_its_children() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().canonicalize().unwrap().join(name);
    for sub in ["bases", "machines", "attic"] {
        std::fs::create_dir(path(sub)).unwrap();
    }
    let base = path("bases/fen-base.vhdx");
    make(&base);
    let known = |image: &Path| {
        let found = children_of(image, &Search::default()).unwrap();
        assert_eq!(found.lost, Vec::<PathBuf>::new());
        (found.children, found.unknown.into_iter().map(|unknown| unknown.path).collect::<Vec<_>>())
    };
    let (one, two) = (path("machines/germination-01.vhdx"), path("machines/germination-02.vhdx"));
    derive(&base, &one, false);
    derive(&base, &two, true);
    assert_eq!(known(&base), (vec![one.clone(), two.clone()], vec![]));
    let attic = path("attic/germination-02.vhdx");
    move_to(&two, &attic, &path("bases")).unwrap();
    assert_eq!(known(&base), (vec![one.clone(), attic.clone()], vec![]));
    // The base itself moves: its companion goes along.
    let moved = path("attic/fen-base.vhdx");
    MoveImage::new(&base, &moved).plan().unwrap().run(&Progress::new()).unwrap();
    assert_eq!(known(&moved).1, Vec::<PathBuf>::new());
    let mut children = known(&moved).0;
    children.sort();
    assert_eq!(children, [attic.clone(), one.clone()]);
    // Moved by hand, a child is missed before anything that it may need goes.
    std::fs::rename(&one, path("bases/gone.vhdx")).unwrap();
    assert_eq!(known(&moved), (vec![attic.clone()], vec![one.clone()]));
    Remove::new(&attic).plan().unwrap().run(&Progress::new()).unwrap();
    let remove = Remove::new(&moved).plan().map(|_| ());
    assert!(matches!(remove, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{remove:?}");
    let search = Search::below(vec![path("attic")]);
    let relinked =
        Relink::new(path("bases/gone.vhdx")).with_search(search).plan().unwrap().run(&Progress::new()).unwrap();
    assert_eq!(relinked.parent, moved);
    // It is the same file under its new name.
    assert_eq!(known(&moved), (vec![path("bases/gone.vhdx")], vec![]));
    let tree = Family::of_folder(&path("bases")).unwrap();
    assert_eq!((tree.problems.len(), tree.roots.len(), tree.roots[0].children[0].depth), (0, 1, 1));
    assert!(tree.roots[0].children[0].since.is_some());
}
