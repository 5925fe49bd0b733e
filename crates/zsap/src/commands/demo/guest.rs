//! What a guest does to its disk in the demo: made-up seed records on a FAT volume.

use std::io::{Read, Seek, Write};
use std::path::Path;

use fatfs::{Date, DateTime, Dir, FileSystem, FsOptions, Time, TimeProvider};
use zestful_sapling::chain::{Chain, ChainMut, DiskStream, DiskWindow, OpenOptions};
use zestful_sapling::{Error, Result};

const MIB: u64 = 1 << 20;
/// The volume's place on the disk.
const VOLUME: (u64, u64) = (MIB, 1024 * MIB);

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

/// The seed records, as files of this host.
pub(super) fn write_records(folder: &Path) -> Result<()> {
    let write = || -> std::io::Result<()> {
        let part = |name: &str| std::fs::create_dir_all(folder.join(name)).map(|()| folder.join(name));
        let (accessions, scans, _) = (part("accessions")?, part("scans")?, part("observations")?);
        for number in 0..40u32 {
            let species = SPECIES[number as usize % SPECIES.len()];
            let mut sheet = format!("accession HF-{number:04}\nspecies   {species}\n\n");
            for tray in 0..30 {
                let viable = 60 + (number * 7 + tray * 13) % 40;
                sheet.push_str(&format!("tray {tray:02}: 50 seeds sown, {viable} % germinated\n"));
            }
            std::fs::write(accessions.join(format!("HF-{number:04}.txt")), sheet)?;
        }
        for number in 0..8u64 {
            std::fs::write(scans.join(format!("sheet-{number}.bin")), noise(number + 1, MIB as usize))?;
        }
        Ok(())
    };
    write().map_err(|e| failed("write the records to", &folder.to_string_lossy(), e))
}

/// What a guest's clock tells its file system.
#[derive(Debug)]
struct Clock;

impl TimeProvider for Clock {
    fn get_current_date(&self) -> Date {
        self.get_current_date_time().date
    }

    fn get_current_date_time(&self) -> DateTime {
        let now = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
        let part = |number: i8| u16::try_from(number).unwrap_or_default();
        let year = u16::try_from(now.year()).unwrap_or(1980);
        let date = Date { year, month: part(now.month()), day: part(now.day()) };
        let (hour, min, sec) = (part(now.hour()), part(now.minute()), part(now.second()));
        DateTime { date, time: Time { hour, min, sec, millis: 0 } }
    }
}

/// Lets the guest change the files on its volume.
fn change(path: &str, change: impl FnOnce(&Dir<'_, DiskStream<'_, ChainMut>>) -> std::io::Result<()>) -> Result<()> {
    let mut disk = ChainMut::open(Path::new(path), &OpenOptions::new())?;
    let changed = (|| {
        let options = FsOptions::new().time_provider(&Clock);
        let volume = FileSystem::new(DiskStream::window(&mut disk, VOLUME.0, VOLUME.1), options)?;
        change(&volume.root_dir())?;
        volume.unmount()
    })();
    changed.map_err(|e| failed("write to the volume of", path, e))?;
    disk.close()
}

/// The machine's own records, in its own layer.
pub(super) fn add_observations(path: &str) -> Result<()> {
    change(path, |root| {
        let observations = root.open_dir("observations")?;
        for day in 1..=12u64 {
            let text = format!("day {day}: {} of 50 seedlings up\n", day * 4);
            observations.create_file(&format!("day-{day:02}.txt"))?.write_all(text.as_bytes())?;
        }
        observations.create_file("camera.bin")?.write_all(&noise(99, 3 * MIB as usize))
    })
}

/// A file in the root of the volume, with nothing but this text in it.
pub(super) fn enter(path: &str, file: &str, text: &str) -> Result<()> {
    change(path, |root| {
        let mut file = root.create_file(file)?;
        file.truncate()?;
        file.write_all(text.as_bytes())
    })
}

/// The same with so many bytes of no pattern, and it is deleted again.
pub(super) fn enter_and_delete(path: &str, file: &str, len: usize) -> Result<()> {
    change(path, |root| {
        root.create_file(file)?.write_all(&noise(29, len))?;
        root.remove(file)
    })
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
