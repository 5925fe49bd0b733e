//! Bulk data from layers into an image: one thread reads, one writes, and a third has the host put on its disk what was
//! written, so that the end has little left to wait for.

use std::ops::Range;
use std::panic::resume_unwind;
use std::sync::mpsc::{Receiver, Sender, channel, sync_channel};

use super::digest::ContentDigest;
use crate::chain::DataExtent;
use crate::error::{Error, Result};
use crate::image::ImageMut;
use crate::progress::Progress;

/// Bytes that are read and written at a time: as many as stay in the processor's cache between the two threads.
const CHUNK: u64 = 256 << 10;
/// Chunks between the reading and the writing thread.
const IN_FLIGHT: usize = 4;
/// Bytes after which the host is asked to put them on its disk.
const SYNC_EVERY: u64 = 16 << 20;
/// Zeros that are written by one call at most, so that the work can be stopped in between.
const ZERO_STEP: u64 = 64 << 20;

/// A part of the content, on its way.
pub(crate) enum Chunk {
    Data {
        offset: u64,
        bytes: Vec<u8>,
    },
    /// Explicit zeros.
    Zeros(Range<u64>),
}

/// The reading end: takes parts in the order in which they are to be written.
pub(crate) struct Feed<'a> {
    empty: &'a Receiver<Vec<u8>>,
    send: &'a mut dyn FnMut(Chunk) -> bool,
    /// Takes in all data that goes through, where that is wanted.
    pub(crate) digest: Option<ContentDigest>,
}

impl Feed<'_> {
    /// All of an extent, read from its layer.
    pub(crate) fn extent(&mut self, data: &DataExtent<'_>) -> Result<()> {
        self.read(data.offset, data.len, |bytes, done| data.layer.read_data(bytes, data.at + done))
    }

    /// A range whose bytes `read` gives, by their place in it.
    pub(crate) fn read(&mut self, offset: u64, len: u64, read: impl Fn(&mut [u8], u64) -> Result<()>) -> Result<()> {
        let mut done = 0;
        while done < len {
            // Chunks end at multiples of their size, so that the next one begins aligned.
            let at = offset + done;
            let step = (CHUNK - at % CHUNK).min(len - done);
            let mut bytes = self.empty.try_recv().unwrap_or_default();
            bytes.resize(step as usize, 0);
            read(&mut bytes, done)?;
            self.give(Chunk::Data { offset: at, bytes })?;
            done += step;
        }
        Ok(())
    }

    pub(crate) fn zeros(&mut self, range: Range<u64>) -> Result<()> {
        self.give(Chunk::Zeros(range))
    }

    fn give(&mut self, chunk: Chunk) -> Result<()> {
        if let (Some(digest), Chunk::Data { offset, bytes }) = (&mut self.digest, &chunk) {
            digest.push(*offset, bytes);
        }
        // The writer has gone when nobody takes it, and has an error of its own.
        if (self.send)(chunk) { Ok(()) } else { Err(Error::WorkerEnded) }
    }
}

/// Runs `read` beside `write`, which is given each part in order and says how many bytes it wrote; `sync` is called now
/// and then beside them. Returns how many bytes were written, and what `read` returned.
pub(crate) fn run<T: Send>(
    read: impl FnOnce(&mut Feed<'_>) -> Result<T> + Send,
    mut write: impl FnMut(&Chunk) -> Result<u64>,
    sync: impl Fn() -> Result<()> + Send,
    progress: &Progress,
) -> Result<(u64, T)> {
    std::thread::scope(|scope| {
        let (full, filled) = sync_channel::<Result<Chunk>>(IN_FLIGHT);
        let (used, empty) = channel::<Vec<u8>>();
        let (wish, wishes) = sync_channel::<()>(1);
        let reader = scope.spawn(move || {
            let mut send = |chunk| full.send(Ok(chunk)).is_ok();
            let done = read(&mut Feed { empty: &empty, send: &mut send, digest: None });
            done.map_err(|error| _ = full.send(Err(error))).ok()
        });
        let syncer = scope.spawn(move || wishes.iter().try_for_each(|()| sync()));
        let mut pump = || {
            let (mut written, mut wished) = (0, 0);
            for chunk in &filled {
                progress.check()?;
                let chunk = chunk?;
                written += write(&chunk)?;
                if written - wished >= SYNC_EVERY {
                    // While the one before is still at work it takes this in as well, or the next one does.
                    _ = wish.try_send(());
                    wished = written;
                }
                if let Chunk::Data { bytes, .. } = chunk {
                    progress.advance(bytes.len() as u64);
                    give_back(&used, bytes);
                }
            }
            Ok(written)
        };
        let written: Result<u64> = pump();
        drop((wish, filled));
        // A thread that panicked is no stop that somebody asked for.
        let synced = syncer.join().unwrap_or_else(|panic| resume_unwind(panic));
        let read = reader.join().unwrap_or_else(|panic| resume_unwind(panic));
        let written = written?;
        synced?;
        read.map(|read| (written, read)).ok_or(Error::WorkerEnded)
    })
}

/// Nobody needs the buffer once the reader is done.
fn give_back(used: &Sender<Vec<u8>>, bytes: Vec<u8>) {
    _ = used.send(bytes);
}

/// Makes a range of an image, or of a chain's current one, read as zero, in steps between which the work can stop.
pub(crate) fn zero(
    mut range: Range<u64>,
    progress: &Progress,
    mut zero_at: impl FnMut(u64, u64) -> Result<()>,
) -> Result<()> {
    while !range.is_empty() {
        progress.check()?;
        let step = ZERO_STEP.min(range.end - range.start);
        zero_at(range.start, step)?;
        range.start += step;
    }
    Ok(())
}

/// Writes a part into an image as it is.
pub(crate) fn write_into(image: &mut dyn ImageMut, chunk: &Chunk, progress: &Progress) -> Result<u64> {
    match chunk {
        Chunk::Data { offset, bytes } => image.write_at(bytes, *offset).map(|()| bytes.len() as u64),
        Chunk::Zeros(range) => zero(range.clone(), progress, |at, len| image.zero_at(at, len)).map(|()| 0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A fault of the program is no stop that somebody asked for: it comes through, whichever thread has it.
    #[test]
    fn a_panic_beside_the_writer_is_not_taken_for_a_stop() {
        let outcome = |in_reader: bool, in_syncer: bool| {
            let read = |feed: &mut Feed<'_>| {
                assert!(!in_reader, "the reader's fault");
                feed.read(0, 2 * SYNC_EVERY, |_, _| Ok(()))
            };
            let sync = || {
                assert!(!in_syncer, "the syncer's fault");
                Ok(())
            };
            let run = || run(read, |_| Ok(SYNC_EVERY), sync, &Progress::new()).map(|_| ());
            std::panic::catch_unwind(std::panic::AssertUnwindSafe(run))
        };
        assert!(matches!(outcome(false, false), Ok(Ok(()))));
        for (in_reader, in_syncer) in [(true, false), (false, true)] {
            let fault = outcome(in_reader, in_syncer).expect_err("a panic");
            assert!(fault.downcast_ref::<&str>().is_some_and(|text| text.ends_with("fault")));
        }
    }
}
