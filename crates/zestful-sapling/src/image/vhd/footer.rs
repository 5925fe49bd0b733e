//! The footer (specification: "hard disk footer format"): the last sector of the file, and in dynamic and differencing
//! images a copy in the first.

use uuid::Uuid;

use super::{SECTOR, checksum};
use crate::bytes::{array, be_u32, be_u64, fit_u16, index, put};
use crate::error::Result;
use crate::finding::{Fault, Finding, VhdFinding};
use crate::storage::ReadAt;

pub(crate) const COOKIE: &[u8; 8] = b"conectix";
pub(super) const LEN: usize = 512;

const FEATURES: usize = 8;
const VERSION: usize = 12;
const DATA_OFFSET: usize = 16;
const TIME_STAMP: usize = 24;
const CREATOR: usize = 28;
/// What this program calls itself there.
const OUR_MARK: &[u8; 4] = b"zsap";
const CREATOR_VERSION: usize = 32;
const CREATOR_HOST: usize = 36;
const ORIGINAL_SIZE: usize = 40;
const CURRENT_SIZE: usize = 48;
const GEOMETRY: usize = 56;
const DISK_TYPE: usize = 60;
const CHECKSUM: usize = 64;
const UNIQUE_ID: usize = 68;
const SAVED_STATE: usize = 84;
const RESERVED: usize = 85;

/// The bit that must be set.
const FEATURE_RESERVED: u32 = 2;
const KNOWN_FEATURES: u32 = 3;

/// Seconds from the Unix epoch to the format's, 2000-01-01.
const EPOCH: u64 = 946_684_800;

/// What kind of disk the footer speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct DiskType(pub(super) u32);

impl DiskType {
    pub(super) const FIXED: Self = Self(2);
    pub(super) const DYNAMIC: Self = Self(3);
    pub(super) const DIFFERENCING: Self = Self(4);
}

/// A footer with the right cookie and checksum. The bytes are kept, so that fields that we do not know survive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Footer {
    bytes: [u8; LEN],
}

impl Footer {
    /// The footer in these bytes, or why there is none.
    pub(super) fn parse(bytes: &[u8; LEN]) -> std::result::Result<Self, Fault> {
        if bytes[..8] != *COOKIE {
            return Err(Fault::Cookie("conectix"));
        }
        if checksum(bytes, CHECKSUM) != be_u32(bytes, CHECKSUM) {
            return Err(Fault::Checksum);
        }
        Ok(Self { bytes: *bytes })
    }

    /// The footer of a new image; `data_offset` is where its dynamic header stands, if it has one.
    pub(super) fn new(kind: DiskType, size: u64, data_offset: Option<u64>, id: Uuid, time_stamp: u32) -> Self {
        let mut bytes = [0; LEN];
        put(&mut bytes, 0, COOKIE);
        put(&mut bytes, FEATURES, &FEATURE_RESERVED.to_be_bytes());
        put(&mut bytes, VERSION, &0x0001_0000u32.to_be_bytes());
        put(&mut bytes, DATA_OFFSET, &data_offset.unwrap_or(u64::MAX).to_be_bytes());
        put(&mut bytes, TIME_STAMP, &time_stamp.to_be_bytes());
        put(&mut bytes, CREATOR, OUR_MARK);
        put(&mut bytes, CREATOR_VERSION, &1u32.to_be_bytes());
        put(&mut bytes, CREATOR_HOST, b"Wi2k");
        put(&mut bytes, ORIGINAL_SIZE, &size.to_be_bytes());
        put(&mut bytes, CURRENT_SIZE, &size.to_be_bytes());
        put(&mut bytes, GEOMETRY, &geometry(size));
        put(&mut bytes, DISK_TYPE, &kind.0.to_be_bytes());
        put(&mut bytes, UNIQUE_ID, id.as_bytes());
        Self { bytes }.sealed()
    }

    /// The same with another identity.
    pub(super) fn with_unique_id(mut self, id: Uuid) -> Self {
        put(&mut self.bytes, UNIQUE_ID, id.as_bytes());
        self.sealed()
    }

    /// The same with the dynamic header at another place.
    pub(super) fn with_data_offset(mut self, offset: u64) -> Self {
        put(&mut self.bytes, DATA_OFFSET, &offset.to_be_bytes());
        self.sealed()
    }

    /// The same for a disk of another size.
    pub(super) fn with_size(mut self, size: u64) -> Self {
        put(&mut self.bytes, CURRENT_SIZE, &size.to_be_bytes());
        put(&mut self.bytes, GEOMETRY, &geometry(size));
        self.sealed()
    }

    /// The same, its cookie and its checksum put right: what else the bytes say is believed.
    pub(super) fn believed(bytes: &[u8; LEN]) -> Self {
        let mut bytes = *bytes;
        put(&mut bytes, 0, COOKIE);
        Self { bytes }.sealed()
    }

    /// The same with a mark of a suspended machine, or without.
    pub(super) fn with_saved_state(mut self, saved: bool) -> Self {
        self.bytes[SAVED_STATE] = u8::from(saved);
        self.sealed()
    }

    /// The same with the geometry that its size gives.
    pub(super) fn with_right_geometry(mut self) -> Self {
        let right = geometry(self.current_size());
        put(&mut self.bytes, GEOMETRY, &right);
        self.sealed()
    }

    /// The same, reserved bytes zero.
    pub(super) fn with_reserved_zero(mut self) -> Self {
        self.bytes[RESERVED..].fill(0);
        self.sealed()
    }

    /// The same with features that there are.
    pub(super) fn with_legal_features(mut self) -> Self {
        let features = be_u32(&self.bytes, FEATURES) & KNOWN_FEATURES | FEATURE_RESERVED;
        put(&mut self.bytes, FEATURES, &features.to_be_bytes());
        self.sealed()
    }

    /// The same for an image of another kind.
    pub(super) fn with_kind(mut self, kind: DiskType) -> Self {
        put(&mut self.bytes, DISK_TYPE, &kind.0.to_be_bytes());
        self.sealed()
    }

    fn sealed(mut self) -> Self {
        let sum = checksum(&self.bytes, CHECKSUM);
        put(&mut self.bytes, CHECKSUM, &sum.to_be_bytes());
        self
    }

    pub(super) fn bytes(&self) -> &[u8; LEN] {
        &self.bytes
    }
    /// Whether this program made the image.
    pub(super) fn is_ours(&self) -> bool {
        self.bytes[CREATOR..CREATOR_VERSION] == *OUR_MARK
    }

    pub(super) fn kind(&self) -> DiskType {
        DiskType(be_u32(&self.bytes, DISK_TYPE))
    }
    pub(super) fn data_offset(&self) -> u64 {
        be_u64(&self.bytes, DATA_OFFSET)
    }
    pub(super) fn current_size(&self) -> u64 {
        be_u64(&self.bytes, CURRENT_SIZE)
    }
    pub(super) fn unique_id(&self) -> Uuid {
        Uuid::from_bytes(array(&self.bytes, UNIQUE_ID))
    }
    pub(super) fn saved_state(&self) -> bool {
        self.bytes[SAVED_STATE] != 0
    }
    pub(super) fn time_stamp(&self) -> u32 {
        be_u32(&self.bytes, TIME_STAMP)
    }
}

/// Now, in seconds since the format's epoch.
pub(super) fn now() -> u32 {
    let unix = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(EPOCH, |time| time.as_secs());
    u32::try_from(unix.saturating_sub(EPOCH)).unwrap_or(u32::MAX)
}

/// Cylinders, heads and sectors per track, by the specification's algorithm. They never limit reading.
pub(super) fn geometry(size: u64) -> [u8; 4] {
    let total = (size / SECTOR).min(65535 * 16 * 255);
    let (cylinders_heads, heads, sectors): (u64, u64, u64);
    if total >= 65535 * 16 * 63 {
        (cylinders_heads, heads, sectors) = (total / 255, 16, 255);
    } else {
        let mut chosen = (total / 17, (total / 17).div_ceil(1024).max(4), 17);
        if chosen.0 / 1024 >= chosen.1 || chosen.1 > 16 {
            chosen = (total / 31, 16, 31);
        }
        if chosen.0 / 1024 >= chosen.1 {
            chosen = (total / 63, 16, 63);
        }
        (cylinders_heads, heads, sectors) = chosen;
    }
    let [high, low] = fit_u16(cylinders_heads.checked_div(heads).unwrap_or_default()).to_be_bytes();
    // Both are 255 at the most.
    [high, low, heads.to_le_bytes()[0], sectors.to_le_bytes()[0]]
}

/// Where the footer was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum FooterPlace {
    /// At the end of the file, from this byte on.
    End(u64),
    /// Only the copy at the start is left.
    Copy,
}

/// The footer that rules, and where it stands.
pub(super) fn select(storage: &dyn ReadAt, findings: &mut Vec<Finding>) -> Result<(Footer, FooterPlace)> {
    let len = storage.len()?;
    let end = len.saturating_sub(SECTOR);
    if len < SECTOR - 1 {
        return Err(Finding::new(VhdFinding::TooShort { len }, end).into());
    }
    let (copy, early) = (read(storage, 0, len)?, len.saturating_sub(SECTOR - 1));
    // Very old writers left out the last reserved byte.
    let at_end = match (read(storage, end, len)?, read(storage, early, len)?) {
        (Ok(footer), _) => Ok((footer, end)),
        (Err(_), Ok(footer)) => {
            findings.push(Finding::new(VhdFinding::FooterShort, early));
            Ok((footer, early))
        }
        (Err(fault), Err(_)) => Err(fault),
    };
    let has_copy = |footer: &Footer| [DiskType::DYNAMIC, DiskType::DIFFERENCING].contains(&footer.kind());
    let (footer, place) = match (at_end, copy) {
        (Ok((footer, at)), _) if !has_copy(&footer) => (footer, FooterPlace::End(at)),
        (Ok((footer, at)), Ok(copy)) => {
            if footer != copy {
                let of_use = |footer: &Footer| (footer.data_offset(), footer.kind());
                let kind = if footer.current_size() != copy.current_size() {
                    VhdFinding::CopyContradicts
                } else if of_use(&footer) != of_use(&copy) {
                    VhdFinding::CopyOutdated
                } else {
                    VhdFinding::CopyDiffers
                };
                findings.push(Finding::new(kind, 0));
            }
            (footer, FooterPlace::End(at))
        }
        (Ok((footer, at)), Err(fault)) => {
            findings.push(Finding::new(VhdFinding::Copy { fault }, 0));
            (footer, FooterPlace::End(at))
        }
        (Err(fault), Ok(copy)) if has_copy(&copy) => {
            findings.push(Finding::new(VhdFinding::FooterLost { fault }, end));
            (copy, FooterPlace::Copy)
        }
        (Err(fault), _) => return Err(Finding::new(VhdFinding::Footer { fault }, end).into()),
    };
    let at = match place {
        FooterPlace::End(at) => at,
        FooterPlace::Copy => 0,
    };
    judge(&footer, at, findings)?;
    Ok((footer, place))
}

fn read(storage: &dyn ReadAt, at: u64, len: u64) -> Result<std::result::Result<Footer, Fault>> {
    Ok(Footer::parse(&bytes_at(storage, at, len)?))
}

/// The bytes of a footer at this place, zeros behind the end of the file.
pub(super) fn bytes_at(storage: &dyn ReadAt, at: u64, len: u64) -> Result<[u8; LEN]> {
    let mut bytes = [0; LEN];
    let there = index(len.saturating_sub(at).min(SECTOR));
    storage.read_at(&mut bytes[..there], at)?;
    Ok(bytes)
}

/// Every rule that a footer must obey, and those that it should.
pub(super) fn judge(footer: &Footer, at: u64, findings: &mut Vec<Finding>) -> Result<()> {
    let bytes = &footer.bytes;
    let version = be_u32(bytes, VERSION);
    let kind = footer.kind();
    let size = footer.current_size();
    let forbids = if version >> 16 != 1 {
        Some(VhdFinding::Version { major: version >> 16, minor: version & 0xFFFF })
    } else if ![DiskType::FIXED, DiskType::DYNAMIC, DiskType::DIFFERENCING].contains(&kind) {
        Some(VhdFinding::DiskType { number: kind.0 })
    } else if size == 0 || !size.is_multiple_of(SECTOR) || size > super::super::vhdx::MAX_VIRTUAL_SIZE {
        Some(VhdFinding::Size { bytes: size })
    } else {
        None
    };
    if let Some(kind) = forbids {
        return Err(Finding::new(kind, at).into());
    }
    let (value, features) = (bytes[SAVED_STATE], be_u32(bytes, FEATURES));
    let rules = [
        (value == 1, VhdFinding::SavedState),
        (value > 1, VhdFinding::SavedStateValue { value }),
        (bytes[GEOMETRY..GEOMETRY + 4] != geometry(size), VhdFinding::Geometry),
        (!crate::bytes::is_zero(&bytes[RESERVED..]), VhdFinding::Reserved),
        (footer.unique_id().is_nil(), VhdFinding::Identity),
        (features & FEATURE_RESERVED == 0 || features & !KNOWN_FEATURES != 0, VhdFinding::Features { features }),
    ];
    findings.extend(rules.into_iter().filter(|(broken, _)| *broken).map(|(_, kind)| Finding::new(kind, at)));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The test vectors that come with the specification's algorithm.
    #[test]
    fn geometry_matches_the_specification() {
        let mib = 1 << 20;
        for (size, cylinders, heads, sectors) in [
            (4 * mib, 120, 4, 17),
            (16 * mib, 481, 4, 17),
            (504 * mib, 1024, 16, 63),
            (1024 * mib, 2080, 16, 63),
            (127 * 1024 * mib, 65278, 16, 255),
            (2040 * 1024 * mib, 65535, 16, 255),
            (33_822_351_360, 16191, 16, 255),
        ] {
            let found = geometry(size);
            assert_eq!((u16::from_be_bytes([found[0], found[1]]), found[2], found[3]), (cylinders, heads, sectors));
        }
    }

    #[test]
    fn a_footer_survives_and_each_byte_counts() {
        let footer = Footer::new(DiskType::DYNAMIC, 3 << 30, Some(512), Uuid::from_u128(7), 99);
        assert_eq!(Footer::parse(footer.bytes()), Ok(footer.clone()));
        assert_eq!((footer.current_size(), footer.time_stamp(), footer.unique_id()), (3 << 30, 99, Uuid::from_u128(7)));
        for at in 0..LEN {
            let mut spoiled = *footer.bytes();
            spoiled[at] ^= 0x10;
            assert!(Footer::parse(&spoiled).is_err(), "byte {at}");
        }
    }
}
