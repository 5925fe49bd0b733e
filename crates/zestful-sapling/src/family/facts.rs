//! All about one image.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::health::Health;
use super::parents::{ParentReport, look_at_parents};
use super::pinned::{PinDoubts, judge_pin, pin_of};
use super::place::PlaceReport;
use super::scatter::Scatter;
use super::unfinished::{UnderWay, UnderWayState};
use crate::error::{Error, Refusal, Result};
use crate::finding::Finding;
use crate::image::vhd::Vhd;
use crate::image::vhdx::Vhdx;
use crate::image::{BlockCounts, Format, Image, Kind, Space, open_image, open_place, open_place_at_once, probe};
use crate::sidecar::under_way_at;
use crate::storage::{
    Access, BlockDevice, HostIdentity, Medium, ReadAt, folder_of, free_space, is_marked_read_only, server_of, user_of,
};

/// Tables whose used part is larger than this are not counted through.
pub(super) const COUNTED_TABLE: u64 = 4 << 20;

/// What an image says of itself, what the host says of its file, and how its parent is. Sizes are in bytes.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Report {
    /// The file.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// How it is, with all that it reads through: what its findings, its parents and unfinished work come to.
    pub state: Health,
    /// The on-disk layout.
    pub format: Format,
    /// How it takes its space.
    pub kind: Kind,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// The length of the file.
    pub file_size: u64,
    /// What the host has really set aside for the file.
    pub allocated_size: u64,
    /// The most bytes that it can still take on the host; 0 for what nothing is written to.
    pub most_growth: u64,
    /// How a fixed image takes its space, as far as the host tells; `None` for others.
    pub space: Option<Space>,
    /// The unit of allocation.
    pub block_size: Option<u64>,
    /// The smallest unit a guest addresses.
    pub logical_sector: u32,
    /// The unit the disk claims to write in.
    pub physical_sector: u32,
    /// Identifies the disk to a guest.
    pub identity: Option<Uuid>,
    /// Identifies the content; children record it.
    pub data_identity: Option<Uuid>,
    /// The parent; `None` for a base.
    pub parent: Option<ParentReport>,
    /// Layers below this one that could be opened.
    pub depth: usize,
    /// The process that writes to it, as far as this host tells.
    pub in_use: Option<String>,
    /// Whether the host's file mode forbids writing, as for parents.
    pub read_only: bool,
    /// Whether it is pinned, never to change.
    pub pinned: bool,
    /// What was begun with it and is not finished, if anything.
    pub under_way: Option<UnderWay>,
    /// Blocks by state; `None` where the format has none, or for a very large table.
    pub blocks: Option<BlockCounts>,
    /// How scattered the blocks are; `None` for an image without any, or with a very large table.
    pub scatter: Option<Scatter>,
    /// The log; `None` where the format has none.
    pub log: Option<LogReport>,
    /// When the file was last changed.
    pub modified: Option<Timestamp>,
    /// Free space of the file system that holds the file; nothing for a device, which is all its own.
    pub host_free: u64,
    /// What kind of place holds it.
    pub place: PlaceReport,
    /// What was found wrong or unusual about it, and about what it reads through, without reading its content.
    pub findings: Vec<Finding>,
}

/// The state of an image's log.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct LogReport {
    /// Whether changes wait to be put in place by the next writer.
    pub pending: bool,
}

/// An image opened for a look, also while another process writes to it.
pub(crate) struct Opened {
    pub(crate) image: Box<dyn Image>,
    pub(crate) storage: Arc<dyn ReadAt>,
    pub(crate) identity: HostIdentity,
    pub(crate) blocks: Option<BlockCounts>,
    pub(crate) in_use: Option<String>,
}

/// Opens an image; without a lock if somebody holds it, who is then named.
pub(crate) fn open_for_look(path: &Path, format: Option<Format>, count: bool) -> Result<Opened> {
    // A device is looked at without a lock, so that the look disturbs nobody.
    let is_device = BlockDevice::is_at(path);
    let opened = if is_device { open_place(path, Access::ReadUnlocked) } else { open_place_at_once(path) };
    let (place, in_use) = match opened {
        Ok(place) if is_device => (place, user_of(path)?.map(|holder| holder.name)),
        Ok(place) => (place, server_of(path)?.map(|holder| holder.name)),
        Err(Error::Refused(Refusal::InUse { .. }, _)) => {
            (open_place(path, Access::ReadUnlocked)?, user_of(path)?.map(|holder| holder.name))
        }
        Err(other) => return Err(other),
    };
    let (storage, identity) = (place.storage, place.identity);
    let shared: Arc<dyn ReadAt> = storage.clone();
    let (image, blocks): (Box<dyn Image>, _) = match probe(&*shared, format)? {
        Format::Vhdx => {
            let image = Vhdx::open(shared)?;
            let blocks = if count { image.block_counts(COUNTED_TABLE)? } else { None };
            (Box::new(image), blocks)
        }
        Format::Vhd => {
            let image = Vhd::open(shared)?;
            let blocks = image.block_counts();
            (Box::new(image), blocks)
        }
        named => (open_image(shared, Some(named))?, None),
    };
    Ok(Opened { image, storage, identity, blocks, in_use })
}

/// Looks at an image and at its chain; its own state is told even when a parent is missing.
///
/// # Errors
/// As [`open_image`] for the image itself; problems with parents are part of the report.
pub fn inspect(path: &Path, format: Option<Format>) -> Result<Report> {
    look(path, format, &mut PinDoubts::default())
}

pub(super) fn look(path: &Path, format: Option<Format>, doubts: &mut PinDoubts) -> Result<Report> {
    let opened = open_for_look(path, format, true)?;
    let info = opened.image.info().clone();
    let mut warnings = opened.image.warnings().to_vec();
    let identity = opened.identity;
    let medium = opened.storage.medium();
    let scatter = Scatter::of(&*opened.image, COUNTED_TABLE);
    let modified = std::fs::metadata(path).and_then(|m| m.modified()).ok().and_then(|t| Timestamp::try_from(t).ok());
    let (file_size, allocated_size) = (opened.storage.len()?, opened.storage.allocated()?);
    let read_only = is_marked_read_only(path)?;
    let parents = look_at_parents(opened.image, identity, doubts, &mut warnings)?;
    let pinned = judge_pin(path, info.data_identity, pin_of(path), &mut warnings)?;
    let under_way = match under_way_at(path) {
        Err(Error::Damaged(finding) | Error::Unsupported(finding)) => {
            warnings.push(*finding);
            None
        }
        other => other?.as_ref().map(UnderWay::of),
    };
    let cut_short = under_way.as_ref().is_some_and(|work| work.state != UnderWayState::Held);
    let unfinished = if cut_short { Health::Unfinished } else { Health::Healthy };
    Ok(Report {
        path: path.to_owned(),
        state: Health::of_findings(&warnings).max(parents.state).max(unfinished),
        format: info.format,
        kind: info.kind,
        virtual_size: info.virtual_size,
        file_size,
        allocated_size,
        most_growth: if read_only || medium != Medium::File { 0 } else { info.most_growth(allocated_size) },
        space: (info.kind == Kind::Fixed && !is_device(medium))
            .then(|| space_of(&*opened.storage, info.virtual_size))
            .transpose()?,
        block_size: info.block_size,
        logical_sector: info.logical_sector,
        physical_sector: info.physical_sector,
        identity: info.identity,
        data_identity: info.data_identity,
        parent: parents.direct,
        depth: parents.depth,
        in_use: opened.in_use,
        read_only,
        pinned,
        under_way,
        blocks: opened.blocks,
        scatter,
        log: (info.format == Format::Vhdx).then_some(LogReport { pending: info.log_pending }),
        modified,
        host_free: if is_device(medium) { 0 } else { free_space(&folder_of(path))? },
        place: PlaceReport::of(medium),
        findings: warnings,
    })
}

fn is_device(medium: Medium) -> bool {
    matches!(medium, Medium::Device { .. })
}

/// Space that is set aside but was never written looks like a hole that takes room.
fn space_of(storage: &dyn ReadAt, virtual_size: u64) -> Result<Space> {
    let (mut at, mut data) = (0, 0);
    if storage.allocated()? < virtual_size {
        return Ok(Space::Sparse);
    }
    while let Some(found) = storage.next_data(at)? {
        data += found.end - found.start;
        at = found.end;
    }
    Ok(if data >= virtual_size { Space::Written } else { Space::Reserved })
}
