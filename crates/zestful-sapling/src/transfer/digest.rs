//! The digest of what a guest sees, whatever image holds it.

use std::path::Path;

use crate::bytes::is_zero;
use crate::chain::{DataExtent, Disk, Part, for_each_data_extent, for_each_part};
use crate::error::Result;
use crate::image::Image;
use crate::progress::Progress;

const SECTOR: usize = 512;
const CHUNK: u64 = 1 << 20;

/// A digest over the sectors that are not zero and where they stand, so that holes cost nothing and every layout of the
/// same content has the same digest.
pub(crate) struct ContentDigest {
    hasher: blake3::Hasher,
    /// The run of data sectors that is being taken in.
    run: std::ops::Range<u64>,
}

impl ContentDigest {
    pub(crate) fn new() -> Self {
        Self { hasher: blake3::Hasher::new(), run: 0..0 }
    }

    /// Takes in content; offsets rise from call to call, what is left out is zero.
    pub(crate) fn push(&mut self, offset: u64, bytes: &[u8]) {
        let mut data = 0..0;
        for (number, sector) in bytes.chunks(SECTOR).enumerate() {
            if is_zero(sector) {
                continue;
            }
            let start = number * SECTOR;
            if data.end != start {
                self.push_data(offset + data.start as u64, &bytes[data.clone()]);
                data = start..start;
            }
            data.end = start + sector.len();
        }
        self.push_data(offset + data.start as u64, &bytes[data]);
    }

    fn push_data(&mut self, offset: u64, bytes: &[u8]) {
        if bytes.is_empty() {
            return;
        }
        if self.run.end != offset || self.run.is_empty() {
            self.end_run();
            self.run = offset..offset;
        }
        self.hasher.update(bytes);
        self.run.end += bytes.len() as u64;
    }

    /// A run is known by its content and, behind that, its place.
    fn end_run(&mut self) {
        if !self.run.is_empty() {
            self.hasher.update(&self.run.start.to_le_bytes());
            self.hasher.update(&self.run.end.to_le_bytes());
        }
    }

    /// The digest of a disk of `size` bytes.
    pub(crate) fn finish(mut self, size: u64) -> blake3::Hash {
        self.end_run();
        self.hasher.update(&size.to_le_bytes());
        self.hasher.finalize()
    }
}

/// The digest of a disk, taken as one of `size` bytes; what lies past its end counts as zero.
pub(crate) fn digest_of(disk: &dyn Disk, name: &Path, size: u64, progress: &Progress) -> Result<blake3::Hash> {
    let mut reading = Reading::new(name, progress);
    for_each_data_extent(disk, |data| reading.take(data))?;
    Ok(reading.digest.finish(size))
}

/// The digest of the data that one layer holds itself.
pub(crate) fn layer_digest(layer: &dyn Image, progress: &Progress) -> Result<blake3::Hash> {
    let mut reading = Reading::new(layer.path(), progress);
    for_each_part(layer, |part| match part {
        Part::Data(data) => reading.take(data),
        Part::Zeros(_) => Ok(()),
    })?;
    Ok(reading.digest.finish(layer.info().virtual_size))
}

struct Reading<'a> {
    digest: ContentDigest,
    buffer: Vec<u8>,
    progress: &'a Progress,
}

impl<'a> Reading<'a> {
    fn new(name: &Path, progress: &'a Progress) -> Self {
        progress.begin(format!("reading {} back", name.display()), 0);
        Self { digest: ContentDigest::new(), buffer: Vec::new(), progress }
    }

    fn take(&mut self, data: DataExtent<'_>) -> Result<()> {
        let mut done = 0;
        while done < data.len {
            self.progress.check()?;
            let step = (data.len - done).min(CHUNK);
            self.buffer.resize(step as usize, 0);
            data.layer.read_data(&mut self.buffer, data.at + done)?;
            self.digest.push(data.offset + done, &self.buffer);
            self.progress.advance(step);
            done += step;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_tells_content_and_place_but_not_how_it_came() {
        let digest = |parts: &[(u64, &[u8])]| {
            let mut digest = ContentDigest::new();
            parts.iter().for_each(|(offset, bytes)| digest.push(*offset, bytes));
            digest.finish(1 << 20)
        };
        let mut bytes = vec![0; 8192];
        bytes[512..1536].fill(3);
        bytes[4096..4608].fill(4);
        let whole = digest(&[(0, &bytes)]);
        assert_eq!(whole, digest(&[(512, &bytes[512..1024]), (1024, &bytes[1024..6000 / 512 * 512])]));
        assert_eq!(whole, digest(&[(512, &bytes[512..1536]), (4096, &bytes[4096..])]));
        assert_ne!(whole, digest(&[(1024, &bytes)]));
        assert_ne!(whole, digest(&[(0, &bytes[..4096])]));
        // Two runs next to each other are one.
        assert_ne!(digest(&[(0, &[7; 1024])]), digest(&[(0, &[7; 512]), (1024, &[7; 512])]));
    }
}
