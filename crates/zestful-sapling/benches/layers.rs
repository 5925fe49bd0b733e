//! What depth costs a reader: random and sequential reads through 32 layers, as ratios to the same reads of one layer
//! that holds the same disk, in turn.
//!
//! `cargo bench --bench layers [FOLDER]`

#![allow(clippy::expect_used, reason = "a measurement ends where it fails")]

use std::path::{Path, PathBuf};
use std::time::Instant;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::ops::{CopyDisk, Derive, Make, Operation, Planned};
use zestful_sapling::progress::Progress;

const DISK: u64 = 1 << 30;
const LAYERS: usize = 32;
/// What each layer writes, scattered.
const PIECES: u64 = 512;
const PIECE: u64 = 64 << 10;
const READS: usize = 100_000;
const RUNS: usize = 7;

struct Random(u64);

impl Random {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % limit
    }
}

/// A chain whose lowest layer is full, and the same disk in one layer.
fn build(folder: &Path, ending: &str) -> (PathBuf, PathBuf) {
    let path = |number: usize| folder.join(format!("layer-{number}.{ending}"));
    let progress = Progress::new();
    Make::new(path(0), DISK).plan().expect("a plan").run(&progress).expect("a base");
    let mut random = Random(20_261_123);
    for number in 0..LAYERS {
        if number > 0 {
            Derive::new(path(number - 1), vec![path(number)]).plan().expect("a plan").run(&progress).expect("a child");
        }
        let disk = ChainMut::open(&path(number), &OpenOptions::new()).expect("the layer");
        let (count, len) = if number == 0 { (DISK >> 20, 1 << 20) } else { (PIECES, PIECE) };
        for piece in 0..count {
            let at = if number == 0 { piece * len } else { random.below(DISK / len) * len };
            disk.write_at(&vec![(number + 1) as u8; len as usize], at).expect("space");
        }
        disk.close().expect("space");
    }
    let flat = folder.join(format!("flat.{ending}"));
    CopyDisk::new(path(LAYERS - 1), &flat).plan().expect("a plan").run(&progress).expect("a copy");
    (path(LAYERS - 1), flat)
}

fn random_reads(disk: &Chain) -> f64 {
    let (mut random, mut buffer) = (Random(7), vec![0; 4096]);
    let start = Instant::now();
    for _ in 0..READS {
        disk.read_at(&mut buffer, random.below(DISK / 4096) * 4096).expect("the disk");
    }
    start.elapsed().as_secs_f64()
}

fn sequential_read(disk: &Chain) -> f64 {
    let mut buffer = vec![0; 256 << 10];
    let start = Instant::now();
    for at in (0..DISK).step_by(buffer.len()) {
        disk.read_at(&mut buffer, at).expect("the disk");
    }
    start.elapsed().as_secs_f64()
}

fn report(name: &str, deep: &mut [f64], flat: &mut [f64]) {
    deep.sort_by(f64::total_cmp);
    flat.sort_by(f64::total_cmp);
    let (own, other) = (deep[RUNS / 2], flat[RUNS / 2]);
    println!(
        "{name:<28} {LAYERS} layers {own:.3} s ({:.3} to {:.3}), one {other:.3} s ({:.3} to {:.3}): {:.2}",
        deep[0],
        deep[RUNS - 1],
        flat[0],
        flat[RUNS - 1],
        own / other
    );
}

fn main() {
    let folder = std::env::args().skip(1).find(|argument| !argument.starts_with("--"));
    let folder = tempfile::tempdir_in(folder.unwrap_or_else(|| ".".to_owned())).expect("a folder");
    for ending in ["vhdx", "vhd"] {
        let sub = folder.path().join(ending);
        std::fs::create_dir(&sub).expect("a folder");
        let (deep, flat) = build(&sub, ending);
        let start = Instant::now();
        let deep = Chain::open(&deep, &OpenOptions::new()).expect("the chain");
        println!("{ending}: opening {LAYERS} layers {:.1} ms", start.elapsed().as_secs_f64() * 1e3);
        let flat = Chain::open(&flat, &OpenOptions::new()).expect("the copy");
        let first = random_reads(&deep);
        println!("{ending}: {READS} random reads through a chain opened just now {first:.3} s");
        for (name, read) in
            [("random 4 KiB", random_reads as fn(&Chain) -> f64), ("sequential 256 KiB", sequential_read)]
        {
            read(&deep);
            read(&flat);
            let (mut own, mut other) = (Vec::new(), Vec::new());
            for _ in 0..RUNS {
                own.push(read(&deep));
                other.push(read(&flat));
            }
            report(&format!("{ending}, {name}"), &mut own, &mut other);
        }
    }
}
