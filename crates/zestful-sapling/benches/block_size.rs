//! What a block size costs: the space that scattered small writes take, the length of the file (what a host without
//! holes would take), the table, and the speed of bulk writing as a ratio to plain writes of the same bytes.
//!
//! `cargo bench --bench block_size [FOLDER]`

#![allow(clippy::expect_used, reason = "a measurement ends where it fails")]

use std::io::Write;
use std::path::Path;
use std::time::Instant;

use zestful_sapling::image::ImageMut;
use zestful_sapling::image::vhdx::{CreateOptions, VhdxMut};
use zestful_sapling::image::{ParentReference, RecordedPath};
use zestful_sapling::storage::{ReadAt, StagedFile};

const DISK: u64 = 256 << 30;
const BULK: u64 = 1 << 30;
const SCATTERED: u64 = 2000;
const RUNS: usize = 5;

fn image(folder: &Path, block_size: u64, child: bool) -> (StagedFile, Box<VhdxMut>) {
    let staged = StagedFile::create(&folder.join("bench.vhdx")).expect("a file in the folder");
    let mut options = CreateOptions::new(DISK).with_block_size(block_size);
    if child {
        options = options.with_parent(ParentReference {
            accepted: vec![uuid::Uuid::new_v4()],
            paths: vec![RecordedPath { key: "relative_path", text: ".\\base.vhdx".into() }],
            time_stamp: None,
        });
    }
    options.create_in(&*staged.storage()).expect("a legal image");
    let image = VhdxMut::open(staged.storage()).expect("the image that was just made");
    (staged, Box::new(image))
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

fn main() {
    let folder = std::env::args().nth(1).filter(|arg| !arg.starts_with("--")).unwrap_or_else(|| ".".to_owned());
    let folder = Path::new(&folder);
    let chunk: Vec<u8> = (0..1u32 << 20).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8 | 1).collect();

    let plain = || {
        let mut file = tempfile::tempfile_in(folder).expect("a file in the folder");
        let start = Instant::now();
        for _ in 0..BULK >> 20 {
            file.write_all(&chunk).expect("room");
        }
        file.sync_all().expect("a sync");
        start.elapsed().as_secs_f64()
    };
    println!(
        "{SCATTERED} scattered 4 KiB writes in {} GiB; bulk: {} GiB against plain writes, median of {RUNS}",
        DISK >> 30,
        BULK >> 30
    );
    println!("{:>9} {:>13} {:>12} {:>12} {:>10} {:>8}", "block", "kind", "on host", "length", "table", "bulk");
    for child in [false, true] {
        for mib in [1u64, 2, 4, 8, 32, 256] {
            let (staged, scattered) = image(folder, mib << 20, child);
            let mut at = 1u64;
            for _ in 0..SCATTERED {
                at = at.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                scattered.write_at(&chunk[..4096], (at >> 20) % (DISK / 4096) * 4096).expect("room");
            }
            scattered.close().expect("a close");
            let storage = staged.storage();
            let (host, length) = (storage.allocated().expect("a size"), ReadAt::len(&*storage).expect("a size"));
            drop(staged);
            let ratios = (0..RUNS).map(|_| {
                let plain = plain();
                let (_staged, bulk) = image(folder, mib << 20, child);
                let start = Instant::now();
                for number in 0..BULK >> 20 {
                    bulk.write_at(&chunk, number << 20).expect("room");
                }
                bulk.close().expect("a close");
                start.elapsed().as_secs_f64() / plain
            });
            println!(
                "{:>5} MiB {:>13} {:>8} MiB {:>8} MiB {:>6} KiB {:>7.2}x",
                mib,
                if child { "differencing" } else { "dynamic" },
                host >> 20,
                length >> 20,
                DISK / (mib << 20) * 8 / 1024,
                median(ratios.collect())
            );
        }
    }
}
