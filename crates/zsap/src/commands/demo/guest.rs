//! What a guest does to its disk in the demo: a partition table, a FAT volume, made-up seed records.

use std::io::{Read, Seek, Write};
use std::path::Path;

use fatfs::{FatType, FileSystem, FormatVolumeOptions, FsOptions};
use gpt::GptConfig;
use gpt::disk::LogicalBlockSize;
use gpt::mbr::ProtectiveMBR;
use zestful_sapling::chain::{Chain, ChainMut, Disk, DiskStream, DiskWindow, OpenOptions};
use zestful_sapling::{Error, Result};

const MIB: u64 = 1 << 20;
/// The volume's place on the disk.
const VOLUME: (u64, u64) = (MIB, 1024 * MIB);
const SECTOR: u64 = 512;

/// Species of a fen, for the records.
const SPECIES: [&str; 8] = [
    "Caltha palustris",
    "Carex appropinquata",
    "Cladium mariscus",
    "Iris pseudacorus",
    "Lychnis flos-cuculi",
    "Menyanthes trifoliata",
    "Peucedanum palustre",
    "Thelypteris palustris",
];

fn failed(what: &str, path: &str, error: impl std::fmt::Display) -> Error {
    let source = std::io::Error::other(error.to_string());
    Error::Io { action: what.to_owned(), path: Path::new(path).to_owned(), source }
}

/// Partitions the disk, formats the volume and fills it.
pub(super) fn install(path: &str) -> Result<()> {
    let mut disk = ChainMut::open(Path::new(path), &OpenOptions::new())?;
    partition(&mut disk).map_err(|e| failed("partition", path, e))?;
    let format = |disk: &mut ChainMut| -> std::io::Result<()> {
        let mut volume = DiskStream::window(disk, VOLUME.0, VOLUME.1);
        // FAT32 would do, but this crate writes folders into its root that the usual checkers want to mend.
        let options = FormatVolumeOptions::new().fat_type(FatType::Fat16).volume_label(*b"HARROW FEN ");
        fatfs::format_volume(&mut volume, options)
    };
    format(&mut disk).map_err(|e| failed("format the volume of", path, e))?;
    let fill = |disk: &mut ChainMut| -> std::io::Result<()> {
        let volume = FileSystem::new(DiskStream::window(disk, VOLUME.0, VOLUME.1), FsOptions::new())?;
        let root = volume.root_dir();
        let accessions = root.create_dir("accessions")?;
        for number in 0..40u32 {
            let species = SPECIES[number as usize % SPECIES.len()];
            let mut sheet = format!("accession HF-{number:04}\nspecies   {species}\n\n");
            for tray in 0..30 {
                let viable = 60 + (number * 7 + tray * 13) % 40;
                sheet.push_str(&format!("tray {tray:02}: 50 seeds sown, {viable} % germinated\n"));
            }
            accessions.create_file(&format!("HF-{number:04}.txt"))?.write_all(sheet.as_bytes())?;
        }
        let scans = root.create_dir("scans")?;
        for number in 0..8u64 {
            scans.create_file(&format!("sheet-{number}.bin"))?.write_all(&noise(number + 1, MIB as usize))?;
        }
        Ok(())
    };
    fill(&mut disk).map_err(|e| failed("fill the volume of", path, e))?;
    disk.close()
}

fn partition(disk: &mut ChainMut) -> std::result::Result<(), String> {
    let last = disk.virtual_size() / SECTOR - 1;
    let protective = ProtectiveMBR::with_lb_size(u32::try_from(last).unwrap_or(u32::MAX));
    let mut stream = DiskStream::new(disk);
    protective.overwrite_lba0(&mut stream).map_err(|e| e.to_string())?;
    let config = GptConfig::new().writable(true).logical_block_size(LogicalBlockSize::Lb512);
    let mut table = config.create_from_device(stream, None).map_err(|e| e.to_string())?;
    table.update_partitions(std::collections::BTreeMap::new()).map_err(|e| e.to_string())?;
    let (first, count) = (VOLUME.0 / SECTOR, VOLUME.1 / SECTOR);
    table
        .add_partition_at("seed records", 1, first, count, gpt::partition_types::BASIC, 0)
        .map_err(|e| e.to_string())?;
    table.write().map(|_| ()).map_err(|e| e.to_string())
}

/// The machine's own records, in its own layer.
pub(super) fn add_observations(path: &str) -> Result<()> {
    let mut disk = ChainMut::open(Path::new(path), &OpenOptions::new())?;
    let add = |disk: &mut ChainMut| -> std::io::Result<()> {
        let volume = FileSystem::new(DiskStream::window(disk, VOLUME.0, VOLUME.1), FsOptions::new())?;
        let observations = volume.root_dir().create_dir("observations")?;
        for day in 1..=12u64 {
            let text = format!("day {day}: {} of 50 seedlings up\n", day * 4);
            observations.create_file(&format!("day-{day:02}.txt"))?.write_all(text.as_bytes())?;
        }
        observations.create_file("camera.bin")?.write_all(&noise(99, 3 * MIB as usize))
    };
    add(&mut disk).map_err(|e| failed("write records to", path, e))?;
    disk.close()
}

/// How many files the volume on a disk holds, all of them read.
pub(super) fn list(path: &str) -> Result<usize> {
    let disk = Chain::open(Path::new(path), &OpenOptions::new())?;
    count(DiskWindow::new(&disk, VOLUME.0, VOLUME.1)).map_err(|e| failed("read the volume of", path, e))
}

/// The same, of a volume that is a file of this host.
pub(super) fn list_file(path: &str) -> Result<usize> {
    std::fs::File::open(path).and_then(count).map_err(|e| failed("read the volume in", path, e))
}

fn count(volume: impl Read + Seek) -> std::io::Result<usize> {
    let volume = FileSystem::new(ReadOnly(volume), FsOptions::new())?;
    let mut count = 0;
    for folder in volume.root_dir().iter() {
        let folder = folder?;
        if !folder.is_dir() {
            continue;
        }
        for file in folder.to_dir().iter() {
            let file = file?;
            if file.is_file() {
                std::io::copy(&mut file.to_file(), &mut std::io::sink())?;
                count += 1;
            }
        }
    }
    Ok(count)
}

/// A volume that the file-system crate may ask to write, and that refuses.
struct ReadOnly<T>(T);

impl<T: Read> Read for ReadOnly<T> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.0.read(buffer)
    }
}

impl<T: Seek> Seek for ReadOnly<T> {
    fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
        self.0.seek(to)
    }
}

impl<T> Write for ReadOnly<T> {
    fn write(&mut self, _: &[u8]) -> std::io::Result<usize> {
        Err(std::io::ErrorKind::PermissionDenied.into())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Bytes that do not repeat, the same in every run.
fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15);
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 32) as u8
    };
    (0..len).map(|_| next()).collect()
}

/// A guest that uses a disk without any partition writes a text.
pub(super) fn write(path: &str, at: u64, text: &str) -> Result<()> {
    let disk = ChainMut::open(Path::new(path), &OpenOptions::new())?;
    disk.write_at(text.as_bytes(), at)?;
    disk.close()
}
