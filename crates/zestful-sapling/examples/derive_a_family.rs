//! Grow three disks from one base and look at the family.
//!
//! `cargo run --example derive_a_family`

use zestful_sapling::Error;
use zestful_sapling::chain::{ChainMut, OpenOptions};
use zestful_sapling::family::Family;
use zestful_sapling::ops::{Derive, Make, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::size::format_size;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::temp_dir().join(format!("zsap-example-{}", std::process::id()));
    std::fs::create_dir(&folder)?;
    let base = folder.join("fen-base.vhdx");
    Make::new(&base, 64 << 30).plan()?.run(&Progress::new())?;

    // All children are laid out before the first appears, and the base becomes read-only on this host.
    let children: Vec<_> = (1..=3).map(|number| folder.join(format!("germination-{number:02}.vhdx"))).collect();
    Derive::new(&base, children.clone()).plan()?.run(&Progress::new())?;

    let disk = ChainMut::open(&children[0], &OpenOptions::new())?;
    disk.write_at(&vec![7; 3 << 20], 10 << 30)?;
    disk.close()?;

    // Whoever tries to write to the base is told why that is refused.
    match ChainMut::open(&base, &OpenOptions::new()) {
        Err(Error::Refused(why, advice)) => println!("refused ({why:?}): {advice}"),
        _ => unreachable!("the base is marked read-only"),
    }

    for root in &Family::of_folder(&folder)?.roots {
        println!("{} takes {}", root.path.display(), format_size(root.allocated_size));
        for child in &root.children {
            println!("  {} takes {}", child.path.display(), format_size(child.allocated_size));
        }
    }

    std::fs::remove_dir_all(&folder)?;
    Ok(())
}
