//! New disks of every format and kind, empty or filled: content, identity, space, pieces, whole chains.

use std::os::unix::fs::FileExt;
use std::path::Path;

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Health, Override, Report, inspect};
use zestful_sapling::finding::Severity;
use zestful_sapling::image::Space;
use zestful_sapling::image::{Format, Kind};
use zestful_sapling::ops::{CopyChain, CopyDisk, Derive, FreshIdentity, Identity, Make, NewImage, Operation, Planned};
use zestful_sapling::progress::Progress;

use crate::operations::files;
use crate::support::Model;
use crate::support::check_chain;
use crate::support::with;

/// Every format with every kind that it has.
const FORMS: [(&str, Kind); 5] = [
    ("raw", Kind::Fixed),
    ("vhd", Kind::Fixed),
    ("vhd", Kind::Dynamic),
    ("vhdx", Kind::Fixed),
    ("vhdx", Kind::Dynamic),
];

fn open(path: &Path) -> Chain {
    Chain::open(path, &OpenOptions::new()).unwrap()
}

fn copy(from: &Path, to: &Path, image: NewImage, verify: bool) {
    let plan = CopyDisk::new(from, to).with_image(image).with_verify(verify).plan().unwrap();
    assert_eq!(plan.run(&Progress::new()).unwrap().verified, verify);
}

fn write(path: &Path, at: u64, bytes: &[u8]) {
    let disk = ChainMut::open(path, &OpenOptions::new()).unwrap();
    disk.write_at(bytes, at).unwrap();
    disk.close().unwrap();
}

fn derive(base: &Path, child: &Path) {
    Derive::new(base, vec![child.to_owned()]).plan().unwrap().run(&Progress::new()).unwrap();
}

/// The disk has this content, and our validator finds nothing in its files.
fn assert_sound(path: &Path, model: &Model) -> Result<(), TestCaseError> {
    model.assert_same(&open(path));
    let mut findings = check_chain(path, None).unwrap().findings;
    findings.retain(|finding| finding.severity() > Severity::Note);
    prop_assert_eq!(findings, vec![], "{}", path.display());
    Ok(())
}

proptest! {
    #![proptest_config(crate::support::config(11))]

    /// Every format and kind to every other, children included, over layouts of data, holes and written zeros.
    #[test]
    fn every_form_becomes_every_other(
        units in 1u64..1_500,
        runs in proptest::collection::vec((any::<prop::sample::Index>(), 1u64..300, 0u8..4), 0..12),
        block in 0u32..4,
        small_blocks in any::<bool>(),
        large_sectors in any::<bool>(),
        verify in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        let mut model = Model::default();
        let size = units * 4096;
        let source = std::fs::File::create(path("a.raw")).unwrap();
        source.set_len(size).unwrap();
        for (at, len, byte) in &runs {
            let at = at.index(units as usize) as u64;
            let len = (*len).min(units - at);
            source.write_all_at(&vec![*byte; (len * 4096) as usize], at * 4096).unwrap();
            model.fill(at * 4096, len * 4096, *byte);
        }
        drop(source);
        let image = |(format, kind): (&str, Kind)| {
            let block_size = match format {
                _ if kind == Kind::Fixed => None,
                "vhd" => Some(if small_blocks { 512 << 10 } else { 2 << 20 }),
                _ => Some(1 << (20 + block)),
            };
            let sectors = (format == "vhdx").then_some(if large_sectors { (4096, 4096) } else { (512, 4096) });
            let image = with(NewImage::new().with_kind(kind), block_size, NewImage::with_block_size);
            with(image, sectors, NewImage::with_sectors)
        };
        let mut sources = Vec::new();
        for (number, form) in FORMS.into_iter().enumerate() {
            let path = path(&format!("source-{number}.{}", form.0));
            copy(&path.with_file_name("a.raw"), &path, image(form), verify);
            assert_sound(&path, &model)?;
            sources.push((path, model.clone()));
        }
        // Two children with changes of their own: sectors over the parent's, and zeros over its data.
        let mut changed = model;
        changed.fill(0, size.min(3 << 20), 0);
        changed.fill(units / 2 * 4096 + 512, 512, 9);
        for (number, format) in [(2, "vhd"), (4, "vhdx")] {
            let child = path(&format!("child.{format}"));
            derive(&sources[number].0, &child);
            let disk = ChainMut::open(&child, &OpenOptions::new()).unwrap();
            disk.zero_at(0, size.min(3 << 20)).unwrap();
            disk.write_at(&[9; 512], units / 2 * 4096 + 512).unwrap();
            disk.close().unwrap();
            sources.push((child, changed.clone()));
        }
        for (source, model) in &sources {
            for (number, form) in FORMS.into_iter().enumerate() {
                let target = path(&format!("target-{number}.{}", form.0));
                copy(source, &target, image(form), verify);
                assert_sound(&target, model)?;
                prop_assert_eq!(inspect(&target, None).unwrap().kind, form.1);
                std::fs::remove_file(&target).unwrap();
            }
            let (pieces, piece_size) = (path("in-pieces"), 4096 * (1 + units / (1 + 2 * u64::from(block))));
            copy(source, &pieces, NewImage::new().with_piece_size(piece_size), verify);
            assert_sound(&path("in-pieces.pieces.json"), model)?;
            let names = files(folder.path()).into_iter().filter(|name| name.starts_with("in-pieces."));
            let names: Vec<String> = names.collect();
            prop_assert_eq!(names.len() as u64, size.div_ceil(piece_size) + 1);
            names.iter().for_each(|name| std::fs::remove_file(path(name)).unwrap());
        }
        for format in ["vhd", "vhdx"] {
            let twin = path(&format!("twin-{format}"));
            let request = CopyChain::new(path(&format!("child.{format}")), &twin).with_verify(verify);
            let outcome = request.plan().unwrap().run(&Progress::new()).unwrap();
            prop_assert_eq!(outcome.layers.len(), 2);
            assert_sound(&outcome.path, &changed)?;
        }
    }
}

/// A fixed disk takes its space as it was asked to, reads as zero, is valid, and is written to in place.
#[test]
fn fixed_disks_take_their_space_as_asked() {
    let folder = tempfile::tempdir().unwrap();
    let fixed = || NewImage::new().with_kind(Kind::Fixed);
    let size = 9 << 20;
    for (format, ending) in [(Format::Raw, "raw"), (Format::Vhd, "vhd"), (Format::Vhdx, "vhdx")] {
        for space in [Space::Written, Space::Reserved, Space::Sparse] {
            let path = folder.path().join(format!("{space:?}.{ending}"));
            let make = Make::new(&path, size).with_image(fixed().with_space(space));
            make.plan().unwrap().run(&Progress::new()).unwrap();
            let report = inspect(&path, None).unwrap();
            assert_eq!((report.format, report.kind, report.virtual_size), (format, Kind::Fixed, size));
            assert_eq!(report.allocated_size >= size, space != Space::Sparse, "{ending} {space:?}");
            // What was only reserved may count as written once it was read, so the host's answer is a hint there.
            assert_eq!(report.space == Some(Space::Sparse), space == Space::Sparse, "{ending} {space:?}");
            let mut model = Model::default();
            let disk = ChainMut::open(&path, &OpenOptions::new()).unwrap();
            model.assert_same(&disk);
            let len = std::fs::metadata(&path).unwrap().len();
            disk.write_at(&[6; 4096], 5 << 20).unwrap();
            model.fill(5 << 20, 4096, 6);
            disk.zero_at(0, 4 << 20).unwrap();
            disk.close().unwrap();
            model.assert_same(&Chain::open(&path, &OpenOptions::new()).unwrap());
            assert_eq!(std::fs::metadata(&path).unwrap().len(), len, "a fixed disk keeps its length");
            assert_eq!(check_chain(&path, None).unwrap().findings, vec![]);
        }
    }
    for ending in ["raw", "vhd", "vhdx"] {
        let copy = CopyDisk::new(folder.path().join("Written.vhd"), folder.path().join(format!("copy.{ending}")));
        copy.with_image(fixed()).plan().unwrap().run(&Progress::new()).unwrap();
        let mut model = Model::default();
        model.fill(5 << 20, 4096, 6);
        model.assert_same(&Chain::open(&folder.path().join(format!("copy.{ending}")), &OpenOptions::new()).unwrap());
        let huge = Make::new(folder.path().join(format!("huge.{ending}")), 2000 << 30).with_image(fixed());
        let Err(Error::Refused(Refusal::NoSpace { .. }, advice)) = huge.plan() else { panic!("{ending}") };
        assert!(advice.message.contains("1.95 TiB") && advice.message.contains("free"), "{advice}");
    }
    for (kind, space) in [(Kind::Dynamic, Some(Space::Sparse)), (Kind::Differencing, None)] {
        let image = with(NewImage::new().with_kind(kind), space, NewImage::with_space);
        let make = Make::new(folder.path().join("a.vhdx"), size).with_image(image);
        assert!(matches!(make.plan(), Err(Error::Usage(_))));
    }
}

/// A disk filled from another one, at its size or a larger one.
#[test]
fn a_disk_is_filled_from_another() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    Make::new(path("fen-base.vhdx"), 8 << 20).plan().unwrap().run(&Progress::new()).unwrap();
    write(&path("fen-base.vhdx"), 5 << 20, &[4; 8192]);
    derive(&path("fen-base.vhdx"), &path("germination-01.vhdx"));
    write(&path("germination-01.vhdx"), 1 << 20, &[5; 512]);
    let mut model = Model::default();
    model.fill(5 << 20, 8192, 4);
    model.fill(1 << 20, 512, 5);
    for (name, size) in [("a.raw", None), ("b.vhd", Some(9 << 20)), ("c.vhdx", Some(64 << 20))] {
        let filled = Make::filled_from(path(name), path("germination-01.vhdx"), None);
        let make = with(filled, size, Make::with_size);
        make.plan().unwrap().run(&Progress::new()).unwrap();
        assert_eq!(open(&path(name)).virtual_size(), size.unwrap_or(8 << 20));
        model.assert_same(&open(&path(name)));
    }
    let smaller = Make::filled_from(path("d.vhdx"), path("germination-01.vhdx"), None).with_size(4 << 20);
    assert!(matches!(smaller.plan(), Err(Error::Usage(_))));
}

#[test]
fn what_loses_something_needs_to_be_said() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let sectors = NewImage::new().with_sectors((4096, 4096));
    Make::new(path("large.vhdx"), 8 << 20).with_image(sectors).plan().unwrap().run(&Progress::new()).unwrap();
    copy(&path("large.vhdx"), &path("without-table.raw"), NewImage::new(), true);
    write(&path("large.vhdx"), 4096, b"EFI PART");
    for (target, image) in
        [("a.raw", NewImage::new()), ("a.vhd", NewImage::new()), ("a.vhdx", NewImage::new().with_sectors((512, 4096)))]
    {
        let copy = || CopyDisk::new(path("large.vhdx"), path(target)).with_image(image.clone());
        let Err(Error::Refused(Refusal::SectorsDiffer { .. }, advice)) = copy().plan() else { panic!("{target}") };
        assert!(advice.to_string().contains("will not be readable"), "{advice}");
        let plan = copy().with_override(Override::Sectors).plan().unwrap();
        assert!(plan.summary().warnings.iter().any(|warning| warning.contains("will not be readable")));
    }
    copy(&path("large.vhdx"), &path("kept.vhdx"), NewImage::new(), true);
    assert_eq!(inspect(&path("kept.vhdx"), None).unwrap().logical_sector, 4096);

    let odd = NewImage::new().with_format(Format::Vhd);
    let make = || Make::new(path("odd.vhdx"), 1 << 20).with_image(odd.clone());
    assert!(matches!(make().plan(), Err(Error::Refused(Refusal::FormatDisagrees { .. }, _))));
    make().with_override(Override::Ending).plan().unwrap().run(&Progress::new()).unwrap();
    assert!(matches!(inspect(&path("odd.vhdx"), None), Err(Error::Refused(Refusal::FormatDisagrees { .. }, _))));
    assert_eq!(inspect(&path("odd.vhdx"), Some(Format::Vhd)).unwrap().format, Format::Vhd);
}

/// Copies have identities of their own unless told to keep the source's; a file copied by hand gets one.
#[test]
fn identities_are_fresh_or_kept_as_asked() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let show = |name: &str| -> Report { inspect(&path(name), None).unwrap() };
    let seen = |report: &Report| report.identity.or(report.data_identity);
    for from in ["vhdx", "vhd"] {
        let source = format!("herbarium.{from}");
        Make::new(path(&source), 4 << 20).plan().unwrap().run(&Progress::new()).unwrap();
        write(&path(&source), 0, &[1; 512]);
        for to in ["vhdx", "vhd"] {
            let (fresh, kept) = (format!("fresh-{from}.{to}"), format!("kept-{from}.{to}"));
            copy(&path(&source), &path(&fresh), NewImage::new(), false);
            let plan = CopyDisk::new(path(&source), path(&kept)).with_identity(Identity::Keep).plan().unwrap();
            assert!(plan.summary().warnings.iter().any(|warning| warning.contains("answer to one identity")));
            plan.run(&Progress::new()).unwrap();
            let source = show(&source);
            assert_ne!(seen(&show(&fresh)), seen(&source));
            assert_eq!(seen(&show(&kept)), seen(&source), "{from} to {to}");
            assert_eq!(check_chain(&path(&kept), None).unwrap().findings, vec![]);
        }
        let keep = |to: &str| CopyDisk::new(path(&source), path(to)).with_identity(Identity::Keep).plan();
        assert!(matches!(keep("a.raw"), Err(Error::Usage(_))));

        // A child beside the original does not take the renewed twin for its parent.
        let twin = format!("twin.{from}");
        std::fs::copy(path(&source), path(&twin)).unwrap();
        let outcome = FreshIdentity::new(path(&twin)).plan().unwrap().run(&Progress::new()).unwrap();
        assert_eq!(outcome.before, seen(&show(&source)));
        assert_eq!(Some(outcome.identity), seen(&show(&twin)));
        assert_ne!(show(&twin).data_identity, show(&source).data_identity);
        assert_eq!(check_chain(&path(&twin), None).unwrap().findings, vec![]);
        let mut model = Model::default();
        model.fill(0, 512, 1);
        model.assert_same(&open(&path(&twin)));
        derive(&path(&source), &path(&format!("child.{from}")));
        let needed = FreshIdentity::new(path(&source)).plan().map(|_| ());
        assert!(matches!(needed, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{needed:?}");
        let by_hand = OpenOptions::new().with_parent(path(&twin));
        assert!(matches!(Chain::open(&path(&format!("child.{from}")), &by_hand), Err(Error::Parent(_))));
    }
    std::fs::write(path("plain.raw"), [0; 512]).unwrap();
    assert!(matches!(FreshIdentity::new(path("plain.raw")).plan(), Err(Error::Usage(_))));
}

/// A chain is copied layer by layer, in another format too; nothing of it depends on the source any more.
#[test]
fn a_chain_is_copied_layer_by_layer() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    std::fs::create_dir(path("old")).unwrap();
    Make::new(path("old/fen.vhdx"), 16 << 20).plan().unwrap().run(&Progress::new()).unwrap();
    write(&path("old/fen.vhdx"), 0, &[1; 3 << 20]);
    derive(&path("old/fen.vhdx"), &path("fen.vhdx"));
    let disk = ChainMut::open(&path("fen.vhdx"), &OpenOptions::new()).unwrap();
    disk.zero_at(1 << 20, 1 << 20).unwrap();
    disk.write_at(&[2; 512], 4 << 20).unwrap();
    disk.close().unwrap();
    derive(&path("fen.vhdx"), &path("now.vhdx"));
    write(&path("now.vhdx"), 9 << 20, &[3; 4096]);
    let mut model = Model::default();
    model.fill(0, 3 << 20, 1);
    model.fill(1 << 20, 1 << 20, 0);
    model.fill(4 << 20, 512, 2);
    let before = model.clone();
    model.fill(9 << 20, 4096, 3);

    for (twin, format) in [("twin", None), ("as-vhd", Some(Format::Vhd))] {
        let ending = if format.is_some() { "vhd" } else { "vhdx" };
        let request =
            with(CopyChain::new(path("now.vhdx"), path(twin)), format, CopyChain::with_format).with_verify(true);
        let outcome = request.plan().unwrap().run(&Progress::new()).unwrap();
        assert!(outcome.verified);
        let expected = ["now", "fen", "fen-2"].map(|name| path(twin).join(format!("{name}.{ending}")));
        assert_eq!(outcome.layers, expected);
    }
    // The source goes; the twins stay.
    std::fs::remove_dir_all(path("old")).unwrap();
    std::fs::remove_file(path("now.vhdx")).unwrap();
    for name in ["fen.vhdx", "fen.vhdx.zsap.json"] {
        std::fs::remove_file(path(name)).unwrap();
    }
    std::fs::rename(path("twin"), path("moved")).unwrap();
    for (twin, ending) in [("moved", "vhdx"), ("as-vhd", "vhd")] {
        assert_sound(&path(twin).join(format!("now.{ending}")), &model).unwrap();
        assert_sound(&path(twin).join(format!("fen.{ending}")), &before).unwrap();
        let base = inspect(&path(twin).join(format!("fen-2.{ending}")), None).unwrap();
        assert!(base.read_only && base.parent.is_none());
    }
    // Nothing is left of one that was stopped, or stands in the way.
    let stopped = CopyChain::new(path("moved/now.vhdx"), path("again")).plan().unwrap();
    let progress = Progress::new();
    progress.stop();
    assert!(matches!(stopped.run(&progress), Err(Error::Cancelled)));
    assert_eq!(files(folder.path()), ["as-vhd", "moved"]);
    let taken = CopyChain::new(path("moved/now.vhdx"), path("as-vhd")).plan();
    assert!(matches!(taken.map(|_| ()), Err(Error::Refused(Refusal::Exists { .. }, _))));
}

/// A piece that is missing, cut or changed is named, and nothing of it is ever read.
#[test]
fn a_spoiled_piece_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let content: Vec<u8> = (0..3u32 << 20).map(|n| (n / 4096 % 251) as u8).collect();
    std::fs::write(path("records.raw"), &content).unwrap();
    copy(&path("records.raw"), &path("in-pieces"), NewImage::new().with_piece_size(1 << 20), true);
    let descriptor = path("in-pieces.pieces.json");
    assert_eq!(files(folder.path()).len(), 5);
    let check = || check_chain(&descriptor, None).unwrap();
    assert_eq!(check().findings, vec![]);
    let mut joined = Vec::new();
    for number in 0..3 {
        joined.extend(std::fs::read(path(&format!("in-pieces.{number:03}"))).unwrap());
    }
    assert!(joined == content, "pieces are the disk's bytes and nothing else");
    type Spoil<'a> = (&'a str, &'a dyn Fn(&Path));
    let spoils: [Spoil; 3] = [
        ("piece-missing", &|piece| std::fs::remove_file(piece).unwrap()),
        ("piece-size", &|piece| std::fs::write(piece, "short").unwrap()),
        ("piece-changed", &|piece| {
            let file = std::fs::File::options().write(true).open(piece).unwrap();
            file.write_all_at(b"x", 700_000).unwrap();
        }),
    ];
    let second = path("in-pieces.001");
    let whole = std::fs::read(&second).unwrap();
    for (code, spoil) in spoils {
        spoil(&second);
        let report = check();
        assert_eq!(report.state, Health::Broken);
        assert!(
            report.findings.iter().any(|f| f.code() == code && f.message().contains("in-pieces.001")),
            "{report:?}"
        );
        let copied = CopyDisk::new(&descriptor, path("copy.vhdx")).plan().and_then(|plan| plan.run(&Progress::new()));
        assert!(matches!(copied, Err(Error::Damaged(finding)) if finding.code() == code), "{code}");
        if let Ok(disk) = Chain::open(&descriptor, &OpenOptions::new()) {
            // The first piece is still as good as ever.
            let mut byte = [0; 1];
            disk.read_at(&mut byte, 4096).unwrap();
            assert_eq!(byte, [1]);
            assert!(disk.read_at(&mut byte, 1 << 20).is_err());
        }
        std::fs::write(&second, &whole).unwrap();
    }
    copy(&descriptor, &path("whole.vhdx"), NewImage::new(), true);
    assert!(matches!(
        ChainMut::open(&descriptor, &OpenOptions::new()).map(|_| ()),
        Err(Error::Refused(Refusal::ReadOnly { .. }, _))
    ));
    // Descriptors from strangers.
    let good = std::fs::read_to_string(&descriptor).unwrap();
    for (from, to) in [
        ("in-pieces.001", "../in-pieces.001"),
        ("in-pieces.001", ".."),
        ("\"in-pieces.001\"", "\"/etc/passwd\""),
        ("3145728", "3145729"),
        ("\"size\": 1048576", "\"size\": 18446744073709551615"),
        ("\"logical_sector\": 512", "\"logical_sector\": 0"),
        ("\"zestful_sapling_pieces\": 1", "\"zestful_sapling_pieces\": 2"),
        ("raw", "vhdx"),
        ("{", ""),
    ] {
        assert!(good.contains(from), "{from}");
        std::fs::write(&descriptor, good.replace(from, to)).unwrap();
        let opened = Chain::open(&descriptor, &OpenOptions::new()).map(|_| ());
        assert!(matches!(opened, Err(Error::Damaged(_) | Error::Unsupported(_))), "{from}: {opened:?}");
    }
}

/// Another program writes into the source, or cuts it, while it is copied.
#[test]
fn a_source_that_changes_is_told_and_nothing_is_made() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let changes: [&dyn Fn(&std::fs::File); 2] =
        [&|file| file.write_all_at(b"late", 1 << 20).unwrap(), &|file| file.set_len(1 << 20).unwrap()];
    for change in changes {
        std::fs::write(path("herbarium.raw"), vec![7; 8 << 20]).unwrap();
        let plan = CopyDisk::new(path("herbarium.raw"), path("copy.vhdx")).plan().unwrap();
        // A file's time has the grain of the host's clock.
        std::thread::sleep(std::time::Duration::from_millis(20));
        change(&std::fs::File::options().write(true).open(path("herbarium.raw")).unwrap());
        let Err(Error::Refused(Refusal::SourceChanged { .. }, advice)) = plan.run(&Progress::new()) else { panic!() };
        assert!(advice.message.contains("herbarium.raw"));
        assert_eq!(files(folder.path()), ["herbarium.raw"]);
    }
}

/// Metadata items of other programs stay byte for byte, whatever is written, also when the identity is renewed.
#[test]
fn metadata_that_is_not_ours_is_kept() {
    const REGION: u64 = 2 << 20;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("herbarium.vhdx");
    Make::new(&path, 8 << 20).plan().unwrap().run(&Progress::new()).unwrap();
    let file = std::fs::File::options().read(true).write(true).open(&path).unwrap();
    let mut count = [0; 2];
    file.read_exact_at(&mut count, REGION + 10).unwrap();
    let mut entry = [0x5A; 32];
    entry[16..20].copy_from_slice(&(200u32 << 10).to_le_bytes());
    entry[20..24].copy_from_slice(&16u32.to_le_bytes());
    entry[24..28].copy_from_slice(&1u32.to_le_bytes());
    entry[28..].fill(0);
    file.write_all_at(&entry, REGION + 32 + 32 * u64::from(count[0])).unwrap();
    file.write_all_at(&[count[0] + 1, 0], REGION + 10).unwrap();
    file.write_all_at(b"a note of a tool", REGION + (200 << 10)).unwrap();
    drop(file);
    let region = || {
        let file = std::fs::File::open(&path).unwrap();
        let mut bytes = vec![0; 1 << 20];
        file.read_exact_at(&mut bytes, REGION).unwrap();
        bytes
    };
    assert_eq!(check_chain(&path, None).unwrap().findings, vec![]);
    let before = region();
    write(&path, 3 << 20, &[7; 8192]);
    assert!(region() == before);
    FreshIdentity::new(&path).plan().unwrap().run(&Progress::new()).unwrap();
    let after = region();
    let changed: Vec<usize> = (0..before.len()).filter(|at| before[*at] != after[*at]).collect();
    assert!(changed[0] + 16 > changed[changed.len() - 1], "only the identity itself changed: {changed:?}");
    assert_eq!(check_chain(&path, None).unwrap().findings, vec![]);
}

/// What was written is not what is read back: the copy does not appear.
#[test]
fn a_copy_that_reads_back_otherwise_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("herbarium.raw");
    std::fs::write(&source, vec![7; 8 << 20]).unwrap();
    for target in ["copy.raw", "copy.vhdx"] {
        let plan = CopyDisk::new(&source, folder.path().join(target)).with_verify(true).plan().unwrap();
        let progress = Progress::new();
        // Slow enough for somebody to reach the end of the file before it is read.
        progress.set_rate_limit(2 << 20);
        let done = std::thread::scope(|scope| {
            scope.spawn(|| {
                while !progress.read().what.starts_with("reading") {
                    std::thread::sleep(std::time::Duration::from_millis(2));
                }
                let partial = files(folder.path()).into_iter().find(|name| name.contains("partial")).unwrap();
                let file = std::fs::File::options().write(true).open(folder.path().join(partial)).unwrap();
                file.write_all_at(b"other", file.metadata().unwrap().len() - 4096).unwrap();
                progress.set_rate_limit(0);
            });
            plan.run(&progress)
        });
        let Err(Error::VerifyFailed { path }) = done else { panic!("{target}: {done:?}") };
        assert!(path.ends_with(target), "{}", path.display());
        assert_eq!(files(folder.path()), ["herbarium.raw"]);
    }
}
