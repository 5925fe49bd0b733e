//! The dynamic disk header (specification: "dynamic disk header format").

use uuid::Uuid;

use super::{SECTOR, checksum};
use crate::bytes::{array, be_u32, be_u64, nth, put};
use crate::finding::{Fault, Finding, VhdFinding};

pub(super) const LEN: usize = 1024;

const COOKIE: &[u8; 8] = b"cxsparse";
const DATA_OFFSET: usize = 8;
const TABLE_OFFSET: usize = 16;
const VERSION: usize = 24;
const MAX_TABLE_ENTRIES: usize = 28;
const BLOCK_SIZE: usize = 32;
const CHECKSUM: usize = 36;
const PARENT_ID: usize = 40;
const PARENT_TIME: usize = 56;
const PARENT_NAME: usize = 64;
const PARENT_NAME_LEN: usize = 512;
const LOCATORS: usize = 576;
const LOCATOR_LEN: usize = 24;
const MOST_LOCATORS: usize = 8;
/// Longer paths make no sense.
const MOST_LOCATOR: u32 = 64 << 10;

/// A header with the right cookie and checksum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct DynamicHeader {
    bytes: [u8; LEN],
}

/// One entry of the header's list of parent locators.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct LocatorEntry {
    pub(super) code: [u8; 4],
    /// Space in the file, in sectors by the specification, in bytes by habit of some; never relied on.
    pub(super) space: u32,
    pub(super) len: u32,
    pub(super) offset: u64,
}

impl LocatorEntry {
    fn put_into(&self, entry: &mut [u8]) {
        put(entry, 0, &self.code);
        put(entry, 4, &self.space.to_be_bytes());
        put(entry, 8, &self.len.to_be_bytes());
        put(entry, 16, &self.offset.to_be_bytes());
    }

    /// Whether its bytes lie inside a file of this length, and are no more than any path has.
    pub(super) fn is_inside(&self, file: u64) -> bool {
        self.offset.checked_add(u64::from(self.len)).is_some_and(|end| end <= file) && self.len <= MOST_LOCATOR
    }
}

impl DynamicHeader {
    pub(super) fn parse(bytes: &[u8; LEN]) -> std::result::Result<Self, Fault> {
        if bytes[..8] != *COOKIE {
            return Err(Fault::Cookie("cxsparse"));
        }
        if checksum(bytes, CHECKSUM) != be_u32(bytes, CHECKSUM) {
            return Err(Fault::Checksum);
        }
        Ok(Self { bytes: *bytes })
    }

    pub(super) fn new(table_offset: u64, entries: u32, block_size: u32) -> Self {
        let mut bytes = [0; LEN];
        put(&mut bytes, 0, COOKIE);
        put(&mut bytes, DATA_OFFSET, &u64::MAX.to_be_bytes());
        put(&mut bytes, TABLE_OFFSET, &table_offset.to_be_bytes());
        put(&mut bytes, VERSION, &0x0001_0000u32.to_be_bytes());
        put(&mut bytes, MAX_TABLE_ENTRIES, &entries.to_be_bytes());
        put(&mut bytes, BLOCK_SIZE, &block_size.to_be_bytes());
        Self { bytes }.sealed()
    }

    /// The same with its table at another place, with so many entries.
    pub(super) fn with_table(mut self, offset: u64, entries: u32) -> Self {
        put(&mut self.bytes, TABLE_OFFSET, &offset.to_be_bytes());
        put(&mut self.bytes, MAX_TABLE_ENTRIES, &entries.to_be_bytes());
        self.sealed()
    }

    /// The same with this parent alone, and where its locators stand.
    pub(super) fn with_parent(mut self, id: Uuid, time_stamp: u32, name: &str, locators: &[LocatorEntry]) -> Self {
        self.bytes[PARENT_NAME..PARENT_NAME + PARENT_NAME_LEN].fill(0);
        self.bytes[LOCATORS..LOCATORS + LOCATOR_LEN * MOST_LOCATORS].fill(0);
        put(&mut self.bytes, PARENT_ID, id.as_bytes());
        put(&mut self.bytes, PARENT_TIME, &time_stamp.to_be_bytes());
        // The last unit stays zero, so that readers find an end.
        let text: Vec<u8> = name.encode_utf16().flat_map(u16::to_be_bytes).collect();
        put(&mut self.bytes, PARENT_NAME, &text[..text.len().min(PARENT_NAME_LEN - 2)]);
        for (number, locator) in locators.iter().take(MOST_LOCATORS).enumerate() {
            locator.put_into(&mut self.bytes[nth(LOCATORS, LOCATOR_LEN, number)..]);
        }
        self.sealed()
    }

    /// The same, its cookie and its checksum put right: what else the bytes say is believed.
    pub(super) fn believed(bytes: &[u8; LEN]) -> Self {
        let mut bytes = *bytes;
        put(&mut bytes, 0, COOKIE);
        Self { bytes }.sealed()
    }

    /// The same without the locators that `keep` says no to.
    pub(super) fn with_locators_that(mut self, keep: impl Fn(&LocatorEntry) -> bool) -> Self {
        let entries: Vec<LocatorEntry> = self.locators().collect();
        let kept = entries.iter().filter(|entry| keep(entry));
        self.bytes[LOCATORS..LOCATORS + LOCATOR_LEN * MOST_LOCATORS].fill(0);
        for (number, locator) in kept.enumerate() {
            locator.put_into(&mut self.bytes[nth(LOCATORS, LOCATOR_LEN, number)..]);
        }
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
    pub(super) fn table_offset(&self) -> u64 {
        be_u64(&self.bytes, TABLE_OFFSET)
    }
    pub(super) fn entries(&self) -> u64 {
        u64::from(be_u32(&self.bytes, MAX_TABLE_ENTRIES))
    }
    pub(super) fn block_size(&self) -> u64 {
        u64::from(be_u32(&self.bytes, BLOCK_SIZE))
    }
    pub(super) fn parent_id(&self) -> Uuid {
        Uuid::from_bytes(array(&self.bytes, PARENT_ID))
    }
    pub(super) fn parent_time(&self) -> u32 {
        be_u32(&self.bytes, PARENT_TIME)
    }

    /// The parent's name, up to the first NUL.
    pub(super) fn parent_name(&self) -> String {
        let units = self.bytes[PARENT_NAME..PARENT_NAME + PARENT_NAME_LEN].chunks_exact(2);
        let units = units.map(|pair| u16::from_be_bytes([pair[0], pair[1]])).take_while(|unit| *unit != 0);
        char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
    }

    pub(super) fn locators(&self) -> impl Iterator<Item = LocatorEntry> + '_ {
        self.bytes[LOCATORS..].chunks_exact(LOCATOR_LEN).take(MOST_LOCATORS).filter_map(|entry| {
            let code = array(entry, 0);
            (code != [0; 4]).then(|| LocatorEntry {
                code,
                space: be_u32(entry, 4),
                len: be_u32(entry, 8),
                offset: be_u64(entry, 16),
            })
        })
    }

    /// What forbids reading the image; `at` is where the header stands, `size` the virtual size.
    pub(super) fn judge(&self, at: u64, size: u64) -> std::result::Result<(), Finding> {
        let (version, bytes) = (be_u32(&self.bytes, VERSION) >> 16, self.block_size());
        if version != 1 {
            return Err(Finding::new(VhdFinding::HeaderVersion { version }, at));
        }
        if !bytes.is_power_of_two() || bytes < SECTOR {
            return Err(Finding::new(VhdFinding::BlockSize { bytes }, at));
        }
        let (entries, needed) = (self.entries(), size.div_ceil(bytes));
        if entries < needed {
            return Err(Finding::new(VhdFinding::TableShort { entries, size, needed }, at));
        }
        Ok(())
    }
}
