//! What is damaged in a VHDX image is put right from what the file says twice, or with what has to be given up.
//!
//! Everything is done to an overlay in memory; whoever asked writes what comes of it.

use std::sync::Arc;

use uuid::Uuid;

use super::check::{IDENTIFIED, PLACE, RESERVED};
use super::header::{Current, HEADERS, Header, both, current};
use super::layout::Layout;
use super::metadata_edits;
use super::region::{self, Region, TABLE_LEN, TABLES};
use super::replay::replay;
use super::session::write_header;
use super::{ALIGNMENT, MAX_FILE_SIZE, PAGE, checksum, mend_table};
use crate::bytes::put;
use crate::error::{Error, Result};
use crate::finding::{Finding, FindingKind, Losses, VhdxFinding};
use crate::image::Mended;
use crate::progress::Progress;
use crate::storage::{Overlay, ReadAt, Storage};

/// Mends whatever has the finding's code, all over the image; `None` where nothing says how.
///
/// # Errors
/// `Io`; `Refused` when too much would change; `Cancelled`.
pub(crate) fn mend(storage: &Arc<Overlay>, finding: &Finding, progress: &Progress) -> Result<Option<Mended>> {
    let FindingKind::Vhdx(kind) = &finding.kind else { return Ok(None) };
    match mend_kind(storage, kind, progress) {
        // What stands in the way has a finding of its own.
        Err(Error::Damaged(_) | Error::Unsupported(_)) => Ok(None),
        Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::UnexpectedEof => Ok(None),
        other => other,
    }
}

fn mend_kind(storage: &Arc<Overlay>, kind: &VhdxFinding, progress: &Progress) -> Result<Option<Mended>> {
    use VhdxFinding as F;
    let mended = |what: String| Ok(Some(Mended::new(kind.rule().code, what)));
    match kind {
        F::Header { number, .. } => {
            renew(storage, 1, |_| ())?;
            return mended(format!("write header {number} anew from the other one, as the newer"));
        }
        F::HeadersSame => {
            renew(storage, 1, |_| ())?;
            return mended("give header 2 the next sequence number, so that one header is the newer".to_owned());
        }
        F::HeadersEqual { .. } => return choose_header(storage),
        F::LogVersionUnused { .. } => {
            renew(storage, 2, |header| header.log_version = 0)?;
            return mended("give the log, which is empty, the version that is known".to_owned());
        }
        F::LogEmpty => {
            renew(storage, 2, |header| header.log = Uuid::nil())?;
            return mended("no longer name a log: nothing was put into it that a guest could have seen".to_owned());
        }
        F::LogSequence | F::LogEntry { .. } | F::LogTarget { .. } | F::LogLength { .. } => {
            return dismiss_log(storage, kind);
        }
        F::LogCut { durable, file } => return lengthen_for_log(storage, *durable, *file, progress),
        F::LogPlace { .. } | F::LogOutside { .. } => return new_log(storage, kind),
        _ => {}
    }
    // The log comes before all that is read through it.
    if let Some(replayed) = replay_log(storage)? {
        return Ok(Some(replayed));
    }
    match kind {
        F::Reserved { structure: "file type identifier" } => {
            storage.punch_hole(IDENTIFIED, PLACE - IDENTIFIED)?;
            mended("zero the reserved bytes of the file type identifier".to_owned())
        }
        F::Reserved { structure: "metadata table" } => {
            let what = "zero the reserved bytes of the metadata table";
            edit(storage, kind, what, metadata_edits::clear_reserved)
        }
        F::Reserved { structure: "header" } => {
            for place in HEADERS {
                storage.punch_hole(place.saturating_add(PAGE), PLACE - PAGE)?;
            }
            renew(storage, 2, |_| ())?;
            mended("write both headers anew, their reserved bytes zero".to_owned())
        }
        F::Reserved { structure } if structure.starts_with("region") => {
            change_regions(storage, |table| table[12..16].fill(0))?;
            mended("zero the reserved bytes of both region tables".to_owned())
        }
        F::Reserved { .. } => {
            storage.punch_hole(RESERVED, ALIGNMENT - RESERVED)?;
            mended("zero the reserved part of the header section".to_owned())
        }
        F::FileLength { .. } => lengthen(storage, progress),
        F::RegionTable { number, .. } => {
            copy_regions(storage, usize::from(*number == 1))?;
            mended(format!("write region table {number} anew from the other one"))
        }
        F::RegionTablesDiffer => {
            copy_regions(storage, 0)?;
            let doubt = whole_disk(storage);
            let what = "write region table 1, which is used, over table 2; nothing tells which one is right";
            Ok(Some(Mended::new(kind.rule().code, what).touching(doubt)))
        }
        F::RegionFlag { .. } => {
            change_regions(storage, mark_required)?;
            mended("mark the regions as required that every reader needs".to_owned())
        }
        F::MetadataFlags { .. } => edit(storage, kind, "give the metadata items their flags", |view, region| {
            metadata_edits::put_flags_right(view, region)
        }),
        F::MetadataStray { item, .. } => {
            let what = format!("take the {item}, which nobody needs, out of the metadata table");
            edit(storage, kind, &what, metadata_edits::drop_stray)
        }
        F::MetadataAssumed { item, .. } => {
            let what = format!("add the metadata item `{item}`: 4096 bytes for a physical sector, or a new identity");
            edit(storage, kind, &what, |view, region| metadata_edits::add_assumed(view, region, 4096))
        }
        F::ParameterFlags { .. } => {
            edit(storage, kind, "clear the flags that mean nothing", metadata_edits::clear_unknown_flags)
        }
        _ => mend_table::mend(storage, kind, progress),
    }
}

/// The content of the disk as far as it is known, all of it in doubt.
fn whole_disk(storage: &Arc<Overlay>) -> Losses {
    let mut losses = Losses::default();
    if let Ok(layout) = Layout::read(storage.clone(), &mut Vec::new()) {
        losses.doubt(0..layout.parameters.virtual_size);
    }
    losses
}

/// Writes the current header anew, changed, so many times: the other one first.
fn renew(storage: &Arc<Overlay>, times: usize, change: impl FnOnce(&mut Header)) -> Result<()> {
    let Current { mut header, mut slot, .. } = current(&**storage, &mut Vec::new())?;
    change(&mut header);
    for _ in 0..times {
        slot = write_header(&**storage, &mut header, slot)?;
    }
    Ok(())
}

fn choose_header(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let [first, _] = both(&**storage)?;
    let Ok(mut header) = Header::parse(&first) else { return Ok(None) };
    write_header(&**storage, &mut header, 0)?;
    let what = "take header 1 for the newer one, and write it over header 2; nothing tells which one is right";
    Ok(Some(Mended::new("vhdx-headers-equal", what).touching(whole_disk(storage))))
}

fn replay_log(storage: &Arc<Overlay>) -> Result<Option<Mended>> {
    let Current { header, .. } = current(&**storage, &mut Vec::new())?;
    if header.log.is_nil() {
        return Ok(None);
    }
    let log = Region { id: Uuid::nil(), offset: header.log_offset, len: header.log_length.into(), required: false };
    replay(storage.clone(), &header, log)?.write_into(&**storage)?;
    renew(storage, 2, |header| header.log = Uuid::nil())?;
    Ok(Some(Mended::new("vhdx-log-pending", "put the changes that wait in the log in their places")))
}

fn dismiss_log(storage: &Arc<Overlay>, kind: &VhdxFinding) -> Result<Option<Mended>> {
    renew(storage, 2, |header| header.log = Uuid::nil())?;
    let what = "give up the log, which cannot be replayed: the last changes of which blocks are in use are lost";
    Ok(Some(Mended::new(kind.rule().code, what).touching(whole_disk(storage))))
}

/// A file that was cut gets its length back; what stood there is gone.
fn lengthen_for_log(storage: &Arc<Overlay>, durable: u64, file: u64, progress: &Progress) -> Result<Option<Mended>> {
    if durable > MAX_FILE_SIZE {
        return Ok(None);
    }
    storage.set_len(durable)?;
    let lost = match Layout::read(storage.clone(), &mut Vec::new()) {
        Ok(layout) => layout.cut_at(file, progress)?,
        Err(_) => Losses::default(),
    };
    let what = format!("lengthen the file, which was cut, from {file} to {durable} bytes with zeros");
    Ok(Some(Mended::new("vhdx-log-cut", what).touching(lost)))
}

/// An empty log where nothing stands.
fn new_log(storage: &Arc<Overlay>, kind: &VhdxFinding) -> Result<Option<Mended>> {
    let at = storage.len()?.next_multiple_of(ALIGNMENT);
    storage.set_len(at.saturating_add(ALIGNMENT))?;
    renew(storage, 2, |header| {
        (header.log, header.log_version) = (Uuid::nil(), 0);
        (header.log_offset, header.log_length) = (at, 1 << 20);
    })?;
    let what = "make a new, empty log at the end of the file; what may have waited in the old one is lost";
    Ok(Some(Mended::new(kind.rule().code, what).touching(whole_disk(storage))))
}

/// The file ends at a whole MiB again, unless that would complete a block which was cut.
fn lengthen(storage: &Arc<Overlay>, progress: &Progress) -> Result<Option<Mended>> {
    let (findings, _) = Layout::read(storage.clone(), &mut Vec::new())?.judge_table(progress)?;
    if findings.iter().any(|finding| finding.code() == "vhdx-block-outside") {
        return Ok(None);
    }
    let len = storage.len()?.next_multiple_of(ALIGNMENT);
    storage.set_len(len)?;
    Ok(Some(Mended::new("vhdx-file-length", format!("lengthen the file to {len} bytes, a whole number of MiB"))))
}

fn read_regions(storage: &Overlay, slot: usize) -> Result<Vec<u8>> {
    let mut bytes = vec![0; TABLE_LEN];
    storage.read_at(&mut bytes, TABLES[slot])?;
    Ok(bytes)
}

/// Writes the region table in this place over the other one.
fn copy_regions(storage: &Overlay, from: usize) -> Result<()> {
    let bytes = read_regions(storage, from)?;
    storage.write_at(&bytes, TABLES[usize::from(from == 0)])
}

/// Changes the region table that is used, and writes it to both places.
fn change_regions(storage: &Overlay, change: impl FnOnce(&mut [u8])) -> Result<()> {
    let first = read_regions(storage, 0)?;
    let mut bytes = if region::parse(&first).is_ok() { first } else { read_regions(storage, 1)? };
    change(&mut bytes);
    let sum = checksum(&bytes);
    put(&mut bytes, 4, &sum.to_le_bytes());
    TABLES.iter().try_for_each(|at| storage.write_at(&bytes, *at))
}

fn mark_required(table: &mut [u8]) {
    for number in 0..region::parse(table).map_or(0, |regions| regions.len()) {
        let entry = region::entry_of(table, number);
        if [region::BAT, region::METADATA].contains(&super::header::guid(entry, 0)) {
            entry[28] |= 1;
        }
    }
}

/// Changes bytes of the metadata region; `None` where there is nothing to change, or no way to do it.
fn edit(
    storage: &Arc<Overlay>,
    kind: &VhdxFinding,
    what: &str,
    edits: impl FnOnce(&dyn ReadAt, Region) -> Result<Vec<(u64, Vec<u8>)>>,
) -> Result<Option<Mended>> {
    let Some(region) = metadata_region(storage)? else { return Ok(None) };
    let edits = edits(&**storage, region)?;
    edits.iter().try_for_each(|(at, bytes)| storage.write_at(bytes, *at))?;
    Ok((!edits.is_empty()).then(|| Mended::new(kind.rule().code, what)))
}

fn metadata_region(storage: &Arc<Overlay>) -> Result<Option<Region>> {
    let regions = [0, 1].into_iter().find_map(|slot| region::parse(&read_regions(storage, slot).ok()?).ok());
    Ok(regions.unwrap_or_default().into_iter().find(|region| region.id == region::METADATA))
}
