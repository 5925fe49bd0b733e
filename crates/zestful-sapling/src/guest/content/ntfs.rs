//! NTFS: the boot sector by its published layout, the rest by the `ntfs` crate.

use std::io::Read;

use ntfs::structured_values::NtfsVolumeFlags;
use ntfs::{KnownNtfsFileRecordNumber, Ntfs};

use super::found::{Content, FileSystem};
use super::stream::ViewStream;
use crate::error::Result;
use crate::guest::contained::contained;
use crate::guest::mft::Boot;
use crate::guest::view::View;

/// A bitmap as large as this is counted through: that of 2 TiB in clusters of 4 KiB.
const MOST_COUNTED: u64 = 64 << 20;

pub(super) fn read(view: &View<'_>, head: &[u8], count: bool) -> Result<Option<Content>> {
    let Some(boot) = Boot::of(head) else { return Ok(None) };
    let (clusters, cluster) = (boot.clusters(), boot.sector.saturating_mul(boot.per_cluster));
    // What the crate cannot read is not known; the volume is NTFS all the same.
    let said = contained(|| said(view, count.then_some(clusters))).ok().flatten().unwrap_or_default();
    let found = Content {
        label: said.label,
        identifier: Some(format!("{:016X}", boot.serial)),
        clean: said.clean,
        ..Content::of(FileSystem::Ntfs)
    };
    Ok(Some(found.with_figures(cluster, clusters, said.free)))
}

#[derive(Default)]
struct Said {
    label: Option<String>,
    clean: Option<bool>,
    free: Option<u64>,
}

fn said(view: &View<'_>, clusters: Option<u64>) -> Option<Said> {
    let mut stream = ViewStream::new(*view);
    let volume = Ntfs::new(&mut stream).ok()?;
    let label = volume.volume_name(&mut stream).and_then(|name| name.ok()).map(|name| name.name().to_string_lossy());
    let flags = volume.volume_info(&mut stream).ok().map(|info| info.flags());
    Some(Said {
        label: label.filter(|label| !label.is_empty()),
        clean: flags.map(|flags| !flags.contains(NtfsVolumeFlags::IS_DIRTY)),
        free: clusters.and_then(|clusters| free(&volume, &mut stream, clusters)),
    })
}

fn free(volume: &Ntfs, stream: &mut ViewStream<'_>, clusters: u64) -> Option<u64> {
    let file = volume.file(stream, KnownNtfsFileRecordNumber::Bitmap as u64).ok()?;
    let data = file.data(stream, "")?.ok()?;
    let value = data.to_attribute().ok()?.value(stream).ok()?;
    if value.len().saturating_mul(8) < clusters || value.len() > MOST_COUNTED {
        return None;
    }
    let (mut value, mut left, mut used) = (value.attach(stream), clusters, 0u64);
    let mut buffer = vec![0; 64 << 10];
    while left > 0 {
        let len = value.read(&mut buffer).ok().filter(|len| *len > 0)?;
        for byte in &buffer[..len] {
            // The bits behind the last cluster are set, and count for nothing.
            let bits = left.min(8);
            let byte = if bits == 8 { *byte } else { byte & ((1 << bits) - 1) };
            used += u64::from(byte.count_ones());
            left -= bits;
        }
    }
    Some(clusters - used)
}
