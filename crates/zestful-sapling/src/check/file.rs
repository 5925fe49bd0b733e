//! One file by itself: every structure of it and, where that is asked for, every byte of its content.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use crate::error::{Error, Result};
use crate::finding::{DataFinding, Finding};
use crate::image::{Format, Image, Source, open_image, probe, vhd, vhdx};
use crate::progress::Progress;
use crate::storage::{HostIdentity, ReadAt};

/// Bytes that are read at once.
const CHUNK: u64 = 1 << 20;
/// Where such a read fails it is gone at in pieces of this size.
const PIECE: u64 = 4096;

/// What was found in a file, and the image in it where it opens.
pub(super) struct Checked {
    pub(super) findings: Arc<Vec<Finding>>,
    pub(super) image: Option<Box<dyn Image>>,
}

/// The files that were checked so far: many images read through one, which is looked at once.
#[derive(Default)]
pub(super) struct Files {
    /// Whether all content is read.
    pub(super) data: bool,
    seen: Mutex<HashMap<HostIdentity, Arc<Vec<Finding>>>>,
}

impl Files {
    pub(super) fn new(data: bool) -> Self {
        Self { data, ..Self::default() }
    }

    /// Checks one file; the image is returned when it is sound enough to be opened.
    ///
    /// # Errors
    /// `Io`, `Usage` when it is no image, `Cancelled`.
    pub(super) fn check(
        &self,
        storage: Arc<dyn ReadAt>,
        identity: HostIdentity,
        format: Option<Format>,
        progress: &Progress,
    ) -> Result<Checked> {
        let format = match probe(&*storage, format) {
            Ok(format) => format,
            Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
                return Ok(Checked { findings: Arc::new(vec![*finding]), image: None });
            }
            Err(other) => return Err(other),
        };
        let known = self.seen.lock().unwrap_or_else(PoisonError::into_inner).get(&identity).cloned();
        let is_known = known.is_some();
        let mut findings = match (known, format) {
            // Under the name by which this image leads there.
            (Some(known), _) => {
                let named = |finding: &Finding| Finding { path: Some(storage.path().to_owned()), ..finding.clone() };
                known.iter().map(named).collect()
            }
            (None, Format::Vhd) => vhd::check(storage.clone(), progress)?,
            (None, Format::Vhdx) => vhdx::check(storage.clone(), progress)?,
            (None, Format::Raw) => Vec::new(),
        };
        let opens = !findings.iter().any(Finding::prevents_opening);
        let image = opens.then(|| open_image(storage.clone(), Some(format))).transpose()?;
        if let Some(image) = image.as_ref().filter(|_| !is_known) {
            if format == Format::Raw {
                findings.extend(image.warnings().iter().cloned());
            }
            if self.data && format == Format::Vhd {
                findings.extend(vhd::check_data(storage, progress)?);
            }
            if self.data {
                findings.extend(unreadable(&**image, progress)?);
            }
        }
        let findings = Arc::new(findings);
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).insert(identity, findings.clone());
        Ok(Checked { findings, image })
    }
}

/// Reads all that the image itself holds; what the host cannot read is a finding.
fn unreadable(image: &dyn Image, progress: &Progress) -> Result<Vec<Finding>> {
    let (mut offset, size) = (0u64, image.info().virtual_size);
    let name = image.path().file_name().unwrap_or(image.path().as_os_str()).to_string_lossy().into_owned();
    progress.begin(format!("reading {name}"), size);
    let (mut buffer, mut findings) = (vec![0; CHUNK as usize], crate::finding::FindingList::default());
    while offset < size {
        progress.check()?;
        let extent = image.extent_at(offset, size - offset)?;
        if let Source::Data(at) = extent.source {
            let mut done = 0;
            while done < extent.len {
                progress.check()?;
                let data = image.host_data(at + done, extent.len - done)?;
                let step = (data.end - data.start).min(CHUNK);
                done = data.start - at;
                if step == 0 {
                    break;
                }
                let (place, start) = (data.start, offset + done);
                if image.read_data(&mut buffer[..step as usize], place).is_err() {
                    let bad = bad_pieces(image, place..place + step, &mut buffer);
                    for (range, reason) in bad {
                        let content = start + (range.start - place)..start + (range.end - place);
                        let kind = DataFinding::Unreadable { bytes: range.end - range.start, reason };
                        findings.push(Finding::new(kind, range.start).at(image.path()).losing(content));
                    }
                }
                done += step;
                progress.advance(step);
            }
        }
        offset += extent.len;
    }
    Ok(findings.into_vec())
}

/// The parts of a range of the file that cannot be read, with why.
fn bad_pieces(image: &dyn Image, range: Range<u64>, buffer: &mut [u8]) -> Vec<(Range<u64>, String)> {
    let mut bad: Vec<(Range<u64>, String)> = Vec::new();
    let mut at = range.start;
    while at < range.end {
        let end = (at + PIECE).min(range.end);
        if let Err(error) = image.read_data(&mut buffer[..(end - at) as usize], at) {
            match bad.last_mut().filter(|(last, _)| last.end == at) {
                Some((last, _)) => last.end = end,
                None => bad.push((at..end, error.with_causes())),
            }
        }
        at = end;
    }
    bad
}
