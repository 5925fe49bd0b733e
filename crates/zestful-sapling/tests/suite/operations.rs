//! Operations: what their plans refuse, and that nothing half-made is ever left.

use std::io::Write;
use std::path::Path;

use crate::support::{perform, read_bytes, with};
use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{CopyDisk, Derive, Make, NewImage, Operation, Planned, WriteBytes};
use zestful_sapling::progress::Progress;

pub fn files(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[test]
fn impossible_disks_are_refused_with_the_limit() {
    let folder = tempfile::tempdir().unwrap();
    let make = |name: &str, size: u64| Make::new(folder.path().join(name), size);
    let image = NewImage::new;
    let blocks = |name, bytes: u64| make(name, 1 << 30).with_image(image().with_block_size(bytes));
    let sectors = |name, size, sectors| make(name, size).with_image(image().with_sectors(sectors));
    let rows: [(&str, Make, &str); 14] = [
        ("vhd too large", make("a.vhd", (2040 << 30) + 512), "2040 GiB"),
        ("vhd odd", make("a.vhd", 1000), "512 bytes"),
        ("vhd block", blocks("a.vhd", 1 << 20), "512K and 2M"),
        ("vhd sectors", sectors("a.vhd", 1 << 30, (4096, 4096)), "choose vhdx"),
        ("zero", make("a.vhdx", 0), "64 TiB"),
        ("odd", make("a.vhdx", 1000), "512-byte sectors"),
        ("odd for 4096", sectors("a.vhdx", 512, (4096, 4096)), "4096-byte sectors"),
        ("too large", make("a.vhdx", (64 << 40) + 512), "64 TiB"),
        ("block too small", blocks("a.vhdx", 512 << 10), "1 MiB to 256 MiB"),
        ("block no power", blocks("a.vhdx", 3 << 20), "power of two"),
        ("sectors", sectors("a.vhdx", 1 << 30, (1024, 4096)), "512 and 4096"),
        ("no ending", make("a", 1 << 30), ".vhdx, .vhd or .raw"),
        ("raw with blocks", blocks("a.raw", 1 << 20), "vhdx"),
        ("raw zero", make("a.raw", 0), "512 bytes"),
    ];
    for (name, make, limit) in rows {
        match make.plan().map(|_| ()) {
            Err(Error::Usage(advice)) => assert!(advice.to_string().contains(limit), "{name}: {advice}"),
            other => panic!("{name}: {other:?}"),
        }
    }
    assert!(matches!(make("missing/a.vhdx", 1 << 30).plan(), Err(Error::Io { .. })));
    std::fs::write(folder.path().join("a.vhdx"), "precious").unwrap();
    assert!(matches!(make("a.vhdx", 1 << 30).plan(), Err(Error::Refused(Refusal::Exists { .. }, _))));
    assert_eq!(files(folder.path()), ["a.vhdx"]);
    assert_eq!(std::fs::read(folder.path().join("a.vhdx")).unwrap(), b"precious");
}

#[test]
fn impossible_children_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    Make::new(path("fen-base.vhdx"), 1 << 30).plan().unwrap().run(&Progress::new()).unwrap();
    Make::new(path("plain.raw"), 1 << 20).plan().unwrap().run(&Progress::new()).unwrap();
    let derive = |base: &str, children: &[&str]| {
        Derive::new(path(base), children.iter().map(|child| path(child)).collect()).plan().map(|_| ())
    };
    for (base, children) in [
        ("plain.raw", &["a.vhdx"][..]),
        ("fen-base.vhdx", &["a.raw"]),
        ("fen-base.vhdx", &["a.vhdx", "a.vhdx"]),
        ("fen-base.vhdx", &[]),
    ] {
        assert!(matches!(derive(base, children), Err(Error::Usage(_))), "{base} {children:?}");
    }
    assert!(matches!(derive("fen-base.vhdx", &["fen-base.vhdx"]), Err(Error::Refused(Refusal::Exists { .. }, _))));
    assert!(matches!(derive("missing.vhdx", &["a.vhdx"]), Err(Error::Io { .. })));
    // One child that cannot be made: none is.
    let plan = Derive::new(path("fen-base.vhdx"), vec![path("a.vhdx"), path("b.vhdx")]).plan().unwrap();
    std::fs::write(path("b.vhdx"), "in the way").unwrap();
    assert!(plan.run(&Progress::new()).is_err());
    assert_eq!(files(folder.path()), ["b.vhdx", "fen-base.vhdx", "plain.raw"]);
}

#[test]
fn a_stopped_copy_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("herbarium.raw");
    std::fs::write(&source, vec![5; 8 << 20]).unwrap();
    for target in ["copy.vhdx", "copy.raw"] {
        let plan = CopyDisk::new(&source, folder.path().join(target)).plan().unwrap();
        let progress = Progress::new();
        progress.stop();
        assert!(matches!(plan.run(&progress), Err(Error::Cancelled)));
        assert_eq!(files(folder.path()), ["herbarium.raw"]);
    }
}

#[test]
fn what_a_guest_wrote_into_a_raw_disk_does_not_make_it_another_format() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("nested.raw");
    let mut bytes = vec![0; 2 << 20];
    bytes[..8].copy_from_slice(b"vhdxfile");
    std::fs::write(&path, &bytes).unwrap();
    let options = |format| with(OpenOptions::new(), format, OpenOptions::with_format);
    let open = |format| Chain::open(&path, &options(format)).map(|disk| disk.info().format);
    assert!(matches!(open(None), Err(Error::Refused(Refusal::FormatDisagrees { .. }, _))));
    assert_eq!(open(Some(Format::Raw)).unwrap(), Format::Raw);
    assert!(matches!(open(Some(Format::Vhdx)), Err(Error::Damaged(_))));
    std::fs::rename(&path, folder.path().join("nested")).unwrap();
    assert!(matches!(Chain::open(&folder.path().join("nested"), &OpenOptions::new()), Err(Error::Damaged(_))));
    std::fs::rename(folder.path().join("nested"), folder.path().join("nested.vhd")).unwrap();
    let named_vhd = Chain::open(&folder.path().join("nested.vhd"), &OpenOptions::new());
    assert!(matches!(named_vhd, Err(Error::Refused(Refusal::FormatDisagrees { .. }, _))));
}

#[test]
fn bytes_go_in_and_out() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("records.vhdx");
    Make::new(&path, 4 << 20).plan().unwrap().run(&Progress::new()).unwrap();
    let write = |at: u64, bytes: &[u8]| perform(WriteBytes::new(&path, at, bytes.len() as u64, bytes));
    let text: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
    write(777, &text).unwrap();
    assert!(read_bytes(&path, 777, 3_000_000).unwrap() == text);
    assert!(matches!(read_bytes(&path, 4 << 20, 1), Err(Error::Usage(_))));
    assert!(matches!(write((4 << 20) - 10, &text), Err(Error::Usage(_))));
    assert!(matches!(write(u64::MAX, &text), Err(Error::Usage(_))));
    assert_eq!(read_bytes(&path, (4 << 20) - 10, 10).unwrap(), [0; 10], "of what does not fit nothing is written");
    assert!(matches!(write(5 << 20, b""), Err(Error::Usage(_))));
}

/// Input that ends with an error: what came before is kept, the error is told.
#[test]
fn a_broken_pipe_of_bytes_is_told() {
    struct Broken(usize);
    impl std::io::Read for Broken {
        fn read(&mut self, mut buffer: &mut [u8]) -> std::io::Result<usize> {
            match self.0 {
                0 => Err(std::io::ErrorKind::ConnectionReset.into()),
                left => {
                    let step = left.min(buffer.len());
                    buffer.write_all(&vec![8; step])?;
                    self.0 -= step;
                    Ok(step)
                }
            }
        }
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("records.vhdx");
    Make::new(&path, 4 << 20).plan().unwrap().run(&Progress::new()).unwrap();
    let written = perform(WriteBytes::new(&path, 0, 2 << 20, Broken(1 << 20)));
    assert!(matches!(written, Err(Error::Io { .. })));
    let mut first = [0; 1];
    Chain::open(&path, &OpenOptions::new()).unwrap().read_at(&mut first, (1 << 20) - 1).unwrap();
    assert_eq!(first, [8]);
}
