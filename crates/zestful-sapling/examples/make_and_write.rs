//! Make a disk, write to it, read it back.
//!
//! `cargo run --example make_and_write`

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::family::inspect;
use zestful_sapling::ops::{Make, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::size::format_size;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::temp_dir().join(format!("zsap-example-{}", std::process::id()));
    std::fs::create_dir(&folder)?;
    let path = folder.join("herbarium-records.vhdx");

    // A plan says what would happen, and changes nothing; its run does it.
    let plan = Make::new(&path, 8 << 30).plan()?;
    println!("{}", plan.summary().steps.join("; "));
    plan.run(&Progress::new())?;

    // Writes may begin and end anywhere. After `flush` they survive a loss of power; `close` flushes, too.
    let disk = ChainMut::open(&path, &OpenOptions::new())?;
    disk.write_at(b"HF-0001 Caltha palustris", 5 << 30)?;
    disk.close()?;

    let disk = Chain::open(&path, &OpenOptions::new())?;
    let mut record = [0; 24];
    disk.read_at(&mut record, 5 << 30)?;
    println!("read back: {}", String::from_utf8_lossy(&record));

    let report = inspect(&path, None)?;
    println!("a disk of {} takes {}", format_size(report.virtual_size), format_size(report.allocated_size));

    std::fs::remove_dir_all(&folder)?;
    Ok(())
}
