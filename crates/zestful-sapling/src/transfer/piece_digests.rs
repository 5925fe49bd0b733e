//! The digests of what a guest sees, piece by piece: what a pin keeps, and what it is compared with.

use std::ops::Range;

use super::pipeline::{self, Chunk, Feed};
use crate::bytes::is_zero;
use crate::chain::{Chain, Disk, for_each_data_extent};
use crate::error::Result;
use crate::finding::{CompanionFinding, Finding};
use crate::progress::Progress;
use crate::sidecar::{Companion, Digest, Pin, PinnedRun};

/// Bytes that each digest covers.
pub(crate) const PIECE: u64 = 4 << 20;

/// The digests of a disk.
pub(crate) struct Digests {
    pub(crate) runs: Vec<PinnedRun>,
    pub(crate) whole: Digest,
}

/// Digests all pieces; those that tables and holes tell to be zero are not read.
pub(crate) fn digest_pieces(disk: &Chain, piece_size: u64, progress: &Progress) -> Result<Digests> {
    let size = disk.virtual_size();
    let mut pieces: Vec<Range<u64>> = Vec::new();
    for_each_data_extent(disk, |data| {
        let (first, end) = (data.offset / piece_size, (data.offset + data.len).div_ceil(piece_size));
        match pieces.last_mut().filter(|last| first <= last.end) {
            Some(last) => last.end = last.end.max(end),
            None => pieces.push(first..end),
        }
        Ok(())
    })?;
    let len_of = |piece: u64| piece_size.min(size - piece * piece_size);
    progress.begin(
        "reading the disk",
        pieces.iter().map(|run| (run.end * piece_size).min(size) - run.start * piece_size).sum(),
    );
    let mut digests = Digests { runs: Vec::new(), whole: Digest([0; 32]) };
    let mut open = OpenPiece::default();
    let read = |feed: &mut Feed<'_>| {
        pieces.iter().cloned().flatten().try_for_each(|piece| {
            let start = piece * piece_size;
            feed.read(start, len_of(piece), |bytes, done| disk.read_at(bytes, start + done))
        })
    };
    let take = |chunk: &Chunk| {
        let Chunk::Data { offset, bytes } = chunk else { return Ok(0) };
        let piece = offset / piece_size;
        if let Some(digest) = open.take(bytes, len_of(piece)) {
            digests.push(piece, digest);
        }
        Ok(bytes.len() as u64)
    };
    pipeline::run(read, take, || Ok(()), progress)?;
    digests.whole = whole_of(&digests.runs, size, piece_size);
    Ok(digests)
}

/// What of a piece was read so far.
#[derive(Default)]
struct OpenPiece {
    hasher: blake3::Hasher,
    taken: u64,
    holds_data: bool,
}

impl OpenPiece {
    /// The digest, once all of the piece's `len` bytes were taken; none for one that is all zero.
    fn take(&mut self, bytes: &[u8], len: u64) -> Option<Digest> {
        self.hasher.update(bytes);
        self.holds_data |= !is_zero(bytes);
        self.taken += bytes.len() as u64;
        if self.taken < len {
            return None;
        }
        let whole = std::mem::take(self);
        whole.holds_data.then(|| Digest(whole.hasher.finalize().into()))
    }
}

impl Digests {
    fn push(&mut self, piece: u64, digest: Digest) {
        match self.runs.last_mut().filter(|run| run.first + run.digests.len() as u64 == piece) {
            Some(run) => run.digests.push(digest),
            None => self.runs.push(PinnedRun { first: piece, digests: vec![digest] }),
        }
    }
}

/// The digest of the digests of all pieces in order.
fn whole_of(runs: &[PinnedRun], size: u64, piece_size: u64) -> Digest {
    let zeros = vec![0; piece_size.min(size) as usize];
    let (count, last) = (size.div_ceil(piece_size), size - (size.div_ceil(piece_size) - 1) * piece_size);
    let (empty, empty_last) = (blake3::hash(&zeros), blake3::hash(&zeros[..last as usize]));
    let mut whole = blake3::Hasher::new();
    let zeros = |whole: &mut blake3::Hasher, pieces: Range<u64>| {
        for piece in pieces {
            whole.update(if piece + 1 == count { empty_last.as_bytes() } else { empty.as_bytes() });
        }
    };
    let mut next = 0;
    for run in runs {
        zeros(&mut whole, next..run.first);
        run.digests.iter().for_each(|digest| _ = whole.update(&digest.0));
        next = run.first + run.digests.len() as u64;
    }
    zeros(&mut whole, next..count);
    Digest(whole.finalize().into())
}

/// Whether a pin's figures and digests belong together.
fn is_sound(pin: &Pin) -> bool {
    let legal = pin.piece_size.is_power_of_two()
        && (1 << 20..=1 << 28).contains(&pin.piece_size)
        && (1..=1 << 47).contains(&pin.virtual_size);
    let count = if legal { pin.virtual_size.div_ceil(pin.piece_size) } else { 0 };
    let mut next = 0;
    for run in &pin.runs {
        match run.first.checked_add(run.digests.len() as u64) {
            Some(end) if run.first >= next && end <= count => next = end,
            _ => return false,
        }
    }
    legal && whole_of(&pin.runs, pin.virtual_size, pin.piece_size) == pin.whole
}

/// The ranges in which a disk no longer is what was pinned, in whole pieces.
///
/// # Errors
/// `Damaged` when the pin contradicts itself; otherwise as reading the disk.
pub(crate) fn changed_since(disk: &Chain, pin: &Pin, progress: &Progress) -> Result<Vec<Range<u64>>> {
    let size = disk.virtual_size();
    if !is_sound(pin) {
        let place = Companion::place(disk.layers()[0].path());
        return Err(Finding::new(CompanionFinding::PinDamaged, 0).at(&place).into());
    }
    let now = digest_pieces(disk, pin.piece_size, progress)?;
    let mut changed: Vec<Range<u64>> = Vec::new();
    let (mut then, mut here) = (entries(&pin.runs), entries(&now.runs));
    let (mut one, mut other) = (then.next(), here.next());
    let mut note = |piece: u64| {
        let (start, end) = (piece * pin.piece_size, (piece + 1) * pin.piece_size);
        match changed.last_mut().filter(|last| last.end == start) {
            Some(last) => last.end = end,
            None => changed.push(start..end),
        }
    };
    loop {
        match (one, other) {
            (None, None) => break,
            (Some((piece, digest)), Some((there, found))) if piece == there => {
                if digest != found {
                    note(piece);
                }
                (one, other) = (then.next(), here.next());
            }
            (Some((piece, _)), found) if found.is_none_or(|(there, _)| piece < there) => {
                note(piece);
                one = then.next();
            }
            (_, Some((piece, _))) => {
                note(piece);
                other = here.next();
            }
            (Some(_), None) => break,
        }
    }
    if size != pin.virtual_size {
        let (from, to) = (size.min(pin.virtual_size), size.max(pin.virtual_size));
        changed.push(from..to);
    }
    let end = size.max(pin.virtual_size);
    changed.iter_mut().for_each(|range| range.end = range.end.min(end));
    Ok(changed)
}

fn entries(runs: &[PinnedRun]) -> impl Iterator<Item = (u64, &Digest)> {
    runs.iter().flat_map(|run| (run.first..).zip(&run.digests))
}
