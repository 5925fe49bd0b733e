//! What it takes to make a disk larger, all of whose blocks are in use: VHDX from 1 TiB to 64 TiB, VHD from 1 TiB to
//! 2040 GiB, in turn with a plain copy of a file of 16 MiB, synced.
//!
//! `cargo bench --bench resize [FOLDER]`

#![allow(clippy::expect_used, reason = "a measurement ends where it fails")]

use std::path::Path;
use std::time::Instant;

use zestful_sapling::chain::{ChainMut, OpenOptions};
use zestful_sapling::family::Override;
use zestful_sapling::ops::{Make, NewSize, Operation, Planned, Resize};
use zestful_sapling::progress::Progress;

const DISK: u64 = 1 << 40;
const PLAIN: usize = 16 << 20;
const RUNS: usize = 7;

/// A disk that holds something in every block.
fn build(path: &Path) {
    Make::new(path, DISK).plan().expect("a plan").run(&Progress::new()).expect("a disk");
    let disk = ChainMut::open(path, &OpenOptions::new()).expect("the disk");
    let block = zestful_sapling::chain::Disk::info(&disk).block_size.expect("blocks");
    for number in 0..DISK / block {
        disk.write_at(&[7; 4096], number * block).expect("space");
    }
    disk.close().expect("space");
}

fn resize(path: &Path, size: u64) {
    let request = Resize::new(path).with_size(NewSize::To(size)).with_override(Override::DiscardData);
    request.plan().expect("a plan").run(&Progress::new()).expect("room");
}

fn plain(from: &Path, to: &Path) -> f64 {
    let start = Instant::now();
    std::fs::copy(from, to).expect("space");
    std::fs::File::open(to).and_then(|file| file.sync_all()).expect("a sync");
    start.elapsed().as_secs_f64()
}

fn main() {
    let around = std::env::args().nth(1).filter(|argument| !argument.starts_with('-'));
    let folder = around.map_or_else(tempfile::tempdir, tempfile::tempdir_in).expect("a folder");
    let plain_file = folder.path().join("plain");
    std::fs::write(&plain_file, vec![7; PLAIN]).expect("space");
    for (ending, largest) in [("vhdx", 64u64 << 40), ("vhd", 2040 << 30)] {
        let path = folder.path().join(format!("disk.{ending}"));
        build(&path);
        let mut rounds = Vec::new();
        for _ in 0..RUNS {
            let copied = plain(&plain_file, &folder.path().join("copy"));
            let start = Instant::now();
            resize(&path, largest);
            rounds.push((start.elapsed().as_secs_f64(), copied));
            resize(&path, DISK);
        }
        rounds.sort_by(|one, other| one.0.total_cmp(&other.0));
        let middle = rounds[RUNS / 2];
        let mut ratios: Vec<f64> = rounds.iter().map(|(grown, copied)| grown / copied).collect();
        ratios.sort_by(f64::total_cmp);
        println!(
            "{ending}: {:.1} ms ({:.1} to {:.1}), {:.2} of a plain copy of 16 MiB ({:.2} to {:.2})",
            middle.0 * 1e3,
            rounds[0].0 * 1e3,
            rounds[RUNS - 1].0 * 1e3,
            ratios[RUNS / 2],
            ratios[0],
            ratios[RUNS - 1]
        );
        std::fs::remove_file(&path).expect("the disk");
    }
}
