//! Whether a disk is blank.

use crate::bytes::is_zero;
use crate::chain::{DataExtent, Disk, data_len, for_each_data_extent};
use crate::error::{Error, Result};
use crate::guest::{PartitionProblem, volumes_uncounted};
use crate::size::format_size;

/// As much data is read to find a byte that is not zero; of more, samples.
const MOST_READ: u64 = 1 << 30;
const PIECE: u64 = 1 << 20;
/// A sample, and how far apart they lie at least.
const SAMPLE: u64 = 64 << 10;
const SAMPLES: u64 = 8192;
/// At both ends tables and signatures stand: there every byte is looked at.
const ENDS: u64 = 16 << 20;

/// What was found on a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Found {
    Blank,
    /// So much data, of which samples are zero.
    SeemsBlank {
        data: u64,
    },
    /// What an earlier preparation has left, which was cut short.
    Begun,
    /// What there is, in words.
    Content(Vec<String>),
}

pub(super) fn judge(disk: &dyn Disk) -> Result<Found> {
    // Some hosts take reserved space for data as soon as a byte of it is read.
    let data = data_len(disk)?;
    let found = volumes_uncounted(disk)?;
    if found.problems.contains(&PartitionProblem::Begun) {
        return Ok(Found::Begun);
    }
    let mut there = Vec::new();
    if let Some(table) = found.table {
        there.push(match found.volumes.len() {
            0 => format!("a {table} without volumes"),
            1 => format!("a {table} with one volume"),
            count => format!("a {table} with {count} volumes"),
        });
    }
    there.extend(found.volumes.iter().map(|volume| match volume.partition {
        Some(_) => format!("volume {volume}"),
        None => format!("on the whole disk, without a table: volume {volume}"),
    }));
    there.extend(found.problems.iter().map(|problem| format!("what is left of a table: {problem}")));
    if !there.is_empty() {
        return Ok(Found::Content(there));
    }
    if let Some(place) = first_data(disk, data)? {
        there.push(format!(
            "no table and no file system that is known, but data, of which the first that was seen lies at byte \
             {place} ({})",
            format_size(place)
        ));
    }
    Ok(match (there.is_empty(), data <= MOST_READ) {
        (false, _) => Found::Content(there),
        (true, true) => Found::Blank,
        (true, false) => Found::SeemsBlank { data },
    })
}

/// The place of a byte that is not zero; of a disk that holds more than 1 GiB only samples are looked at, beside its
/// ends.
fn first_data(disk: &dyn Disk, all: u64) -> Result<Option<u64>> {
    let size = disk.virtual_size();
    let step = if all <= MOST_READ { 0 } else { (all / SAMPLES).next_multiple_of(PIECE) };
    let mut found = None;
    let mut next = 0;
    let walked = for_each_data_extent(disk, |data| {
        let DataExtent { layer, at, offset, len } = data;
        let mut done = 0;
        while done < len {
            let here = offset + done;
            let is_end = here < ENDS || here + PIECE > size.saturating_sub(ENDS);
            let wanted = match step {
                0 => PIECE,
                _ if is_end => PIECE,
                _ if here >= next => SAMPLE,
                _ => 0,
            };
            let part = wanted.min(len - done);
            let mut bytes = vec![0; part as usize];
            layer.read_data(&mut bytes, at + done)?;
            if !is_zero(&bytes) {
                found = bytes.iter().position(|byte| *byte != 0).map(|within| here + within as u64);
                // The walk knows no other way to end early.
                return Err(Error::Cancelled);
            }
            if wanted == SAMPLE {
                next = here + step;
            }
            done += if wanted == PIECE { part } else { PIECE.min(len - done) };
        }
        Ok(())
    });
    match (walked, found) {
        (_, Some(place)) => Ok(Some(place)),
        (walked, None) => walked.map(|()| None),
    }
}
