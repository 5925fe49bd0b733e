//! Read a disk through three layers, and see which layer each part comes from.
//!
//! `cargo run --example read_through_a_chain`

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::ops::{Derive, Make, Operation, Planned};
use zestful_sapling::progress::Progress;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::temp_dir().join(format!("zsap-example-{}", std::process::id()));
    std::fs::create_dir(&folder)?;
    let layers = ["fen-base.vhdx", "germination-01.vhdx", "after-the-flood.vhdx"].map(|name| folder.join(name));

    // Each layer gets a part of its own, then it is frozen under the next one.
    Make::new(&layers[0], 16 << 20).plan()?.run(&Progress::new())?;
    for number in 0..layers.len() {
        let disk = ChainMut::open(&layers[number], &OpenOptions::new())?;
        disk.write_at(&vec![number as u8 + 1; 2 << 20], (number as u64) << 20)?;
        disk.close()?;
        if let Some(next) = layers.get(number + 1) {
            Derive::new(&layers[number], vec![next.clone()]).plan()?.run(&Progress::new())?;
        }
    }

    // Opening checks every parent's identity; the parents are found by the paths that the children recorded.
    let disk = Chain::open(&layers[2], &OpenOptions::new())?;
    let mut offset = 0;
    while offset < disk.virtual_size() {
        let extent = disk.extent_at(offset, disk.virtual_size() - offset)?;
        let source = match extent.data.and_then(|(layer, at)| disk.layer(layer).map(|image| (image, at))) {
            Some((image, at)) => format!("{} from byte {at} on", image.path().display()),
            None => "zeros".to_owned(),
        };
        println!("{:>9} bytes at {offset:>9}: {source}", extent.len);
        offset += extent.len;
    }

    std::fs::remove_dir_all(&folder)?;
    Ok(())
}
