//! What may be found in a VHDX image, in the order in which it is read.

use super::fault::Fault;
use super::rule::Class::{Broken, Fatal, Note, Unsupported, Warning};
use super::rule::Repair::{Lossy, None, Safe};
use super::rule::rules;
use crate::size::format_size;

/// What an entry of the block allocation table is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TableEntry {
    /// The block of this number.
    Payload(u64),
    /// The sector bitmap of the chunk of this number.
    Bitmap(u64),
}

impl std::fmt::Display for TableEntry {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Payload(block) => write!(f, "block {block}"),
            Self::Bitmap(chunk) => write!(f, "the sector bitmap of chunk {chunk}"),
        }
    }
}

rules! {
    /// What may be found in a VHDX image. Offsets and lengths are bytes of the file.
    VhdxFinding {
        /// The file does not begin as a VHDX image does.
        Signature = "vhdx-signature", Fatal(None), "file type identifier", "the signature `vhdxfile` is missing";
        /// The file ends within its header section.
        TooShort {
            /// Bytes of the file.
            len: u64,
        } = "vhdx-too-short", Fatal(None), "header section",
            "the file is only {len} bytes long, its header section takes 1 MiB";
        /// Neither of the two headers can be used.
        Headers {
            /// What is wrong with the first.
            first: Fault,
            /// What is wrong with the second.
            second: Fault,
        } = "vhdx-headers", Fatal(None), "header 1",
            "neither header is valid: in header 1 {first}, in header 2 {second}";
        /// One of the two headers cannot be used; the other one is.
        Header {
            /// Which, 1 or 2.
            number: usize,
            /// What is wrong with it.
            fault: Fault,
        } = "vhdx-header", Broken(Safe), "header {number}", "{fault}; the other header is used";
        /// The two headers are the same, where one should be newer.
        HeadersSame = "vhdx-headers-same", Broken(Safe), "header 2",
            "both headers are the same, byte for byte; one should be newer";
        /// The two headers differ, and neither is newer.
        HeadersEqual {
            /// The sequence number of both.
            sequence: u64,
        } = "vhdx-headers-equal", Fatal(Lossy), "header 2",
            "both headers are valid and carry the same sequence number {sequence}, yet differ";
        /// No newer header can be written, for there is no higher sequence number.
        Sequence = "vhdx-sequence", Unsupported, "header",
            "the sequence number has reached its end, no newer header can be written";
        /// The image is of a version that is not known.
        Version {
            /// Which header says so, 1 or 2.
            number: usize,
            /// The version.
            version: u16,
        } = "vhdx-version", Unsupported, "header {number}", "the format version is {version}, only 1 is known";
        /// The log's place breaks the rules of alignment.
        LogPlace {
            /// Which header says so, 1 or 2.
            number: usize,
            /// Where the log begins.
            offset: u64,
            /// Its length.
            length: u64,
        } = "vhdx-log-place", Fatal(Lossy), "header {number}",
            "the log's place is not legal: offset={offset}, length={length}";
        /// The log lies past the end of the file.
        LogOutside {
            /// Which header says so, 1 or 2.
            number: usize,
            /// Where the log begins.
            offset: u64,
            /// Its length.
            length: u64,
            /// Bytes of the file.
            file: u64,
        } = "vhdx-log-outside", Fatal(Lossy), "header {number}",
            "the log lies outside the file: offset={offset}, length={length}, file={file}";
        /// The log is of a version that is not known, and is in use or to be used.
        LogVersion {
            /// The version.
            version: u16,
        } = "vhdx-log-version", Unsupported, "header", "the log version is {version}, only 0 is known";
        /// The log is of a version that is not known, and holds nothing.
        LogVersionUnused {
            /// Which header says so, 1 or 2.
            number: usize,
            /// The version.
            version: u16,
        } = "vhdx-log-version-unused", Broken(Safe), "header {number}",
            "the log version is {version}, only 0 is known; the log is empty";
        /// The log is longer than any that is worth replaying.
        LogSize {
            /// Bytes of the log.
            length: u64,
            /// The most that are replayed.
            most: u64,
        } = "vhdx-log-size", Unsupported, "log", "the log has {length} bytes, at most {most} are replayed";
        /// The newest entry of the log is whole, and makes no sense.
        LogEntry {
            /// Where it stands in the log.
            position: u64,
        } = "vhdx-log-entry", Fatal(Lossy), "log",
            "the entry at {position} of the log, the newest, has the right checksum, and descriptors that are not \
             legal: no loss of power does that, and what it was to change is not known";
        /// Changes should wait in the log, but are not there.
        LogSequence = "vhdx-log-sequence", Fatal(Lossy), "log",
            "the header says that changes wait in the log, but no valid sequence of entries is there";
        /// A log is named that holds nothing, and the content was not changed since there was none.
        LogEmpty = "vhdx-log-empty", Fatal(Safe), "log",
            "the header says that changes wait in the log, but there are none; the other header shows that the content \
             was not changed since";
        /// The file is shorter than it was when the log was written.
        LogCut {
            /// Bytes that it had then.
            durable: u64,
            /// Bytes that it has now.
            file: u64,
        } = "vhdx-log-cut", Fatal(Lossy), "log",
            "the file had {durable} durable bytes when the log was written and has {file} now: it was cut off";
        /// The log asks for a file that is longer than any.
        LogLength {
            /// The length that it asks for.
            length: u64,
        } = "vhdx-log-length", Fatal(Lossy), "log", "the log asks for a file of {length} bytes";
        /// The log changes what no log may.
        LogTarget {
            /// Where it would change the file.
            target: u64,
            /// How many bytes.
            length: u64,
        } = "vhdx-log-target", Fatal(Lossy), "log",
            "an entry changes {length} bytes at {target}, which no log entry may";
        /// Changes wait in the log; the next writer puts them in place.
        LogPending = "vhdx-log-pending", Note(Safe), "log",
            "changes wait in the log; opening the image for writing puts them in place";
        /// The file is longer than any that makes sense.
        FileSize {
            /// Bytes of the file.
            file: u64,
            /// The most that make sense.
            most: u64,
        } = "vhdx-file-size", Unsupported, "file", "the file is {file} bytes long, at most {most} make sense";
        /// The file does not end at a multiple of 1 MiB.
        FileLength {
            /// Bytes of the file.
            file: u64,
        } = "vhdx-file-length", Warning(Safe), "file", "the file's length {file} is no multiple of 1 MiB";
        /// Bytes are set that writers leave zero and readers ignore.
        Reserved {
            /// Where.
            structure: &'static str,
        } = "vhdx-reserved", Warning(Safe), "{structure}", "reserved bytes are not zero";
        /// Neither of the two region tables can be used.
        RegionTables {
            /// What is wrong with the first.
            first: Fault,
            /// What is wrong with the second.
            second: Fault,
        } = "vhdx-region-tables", Fatal(None), "region table 1",
            "neither region table is valid: in table 1 {first}; in table 2 {second}";
        /// One of the two region tables cannot be used; the other one is.
        RegionTable {
            /// Which, 1 or 2.
            number: usize,
            /// What is wrong with it.
            fault: Fault,
        } = "vhdx-region-table", Broken(Safe), "region table {number}", "{fault}; the other table is used";
        /// The two region tables contradict each other.
        RegionTablesDiffer = "vhdx-region-tables-differ", Broken(Lossy), "region table 2",
            "the two region tables are valid but differ; the first one is used";
        /// The region table lists a region twice.
        RegionTwice {
            /// The region's name.
            region: String,
        } = "vhdx-region-twice", Fatal(None), "region table", "it lists the {region} twice";
        /// The image has a region that is not known, and says that it cannot be read without.
        RegionUnknown {
            /// The region's name.
            region: String,
        } = "vhdx-region-unknown", Unsupported, "region table", "the {region} is marked required, but is not known";
        /// A region's place breaks the rules of alignment.
        RegionPlace {
            /// The region's name.
            region: String,
            /// Where it begins.
            offset: u64,
            /// Its length.
            length: u64,
        } = "vhdx-region-place", Fatal(None), "region table",
            "the place of the {region} is not legal: offset={offset}, length={length}";
        /// A region lies past the end of the file.
        RegionOutside {
            /// The region's name.
            region: String,
            /// Where it begins.
            offset: u64,
            /// Its length.
            length: u64,
            /// Bytes of the file.
            file: u64,
        } = "vhdx-region-outside", Fatal(None), "region table",
            "the {region} lies outside the file: offset={offset}, length={length}, file={file}";
        /// A region that every reader needs is not marked so.
        RegionFlag {
            /// The region's name.
            region: String,
        } = "vhdx-region-flag", Broken(Safe), "region table", "the {region} is not marked required";
        /// A region that every image has is not there.
        RegionMissing {
            /// The region's name.
            region: &'static str,
        } = "vhdx-region-missing", Fatal(None), "region table", "it does not list the {region}";
        /// Two regions share bytes of the file.
        RegionOverlap {
            /// The name of the one that begins first.
            first: String,
            /// The other's name.
            second: String,
            /// Where the other begins.
            at: u64,
        } = "vhdx-region-overlap", Fatal(None), "region table", "the {first} and the {second} overlap at byte {at}";
        /// There is no metadata table.
        MetadataTable {
            /// What is wrong with it.
            fault: Fault,
        } = "vhdx-metadata-table", Fatal(None), "metadata table", "{fault}";
        /// The metadata table lists an item twice.
        MetadataTwice {
            /// The item's name.
            item: String,
        } = "vhdx-metadata-twice", Fatal(None), "metadata table", "it lists the {item} twice";
        /// The image has an item that is not known, and says that it cannot be read without.
        MetadataUnknown {
            /// The item's name.
            item: String,
        } = "vhdx-metadata-unknown", Unsupported, "metadata table", "the {item} is marked required, but is not known";
        /// An item does not have its length.
        MetadataLength {
            /// The item's name.
            item: String,
            /// The length that it has.
            length: u32,
            /// The length that is right.
            right: u32,
        } = "vhdx-metadata-length", Fatal(None), "metadata table",
            "the {item} is {length} bytes long, {right} are right";
        /// An item does not have its flags.
        MetadataFlags {
            /// The item's name.
            item: String,
            /// The flags that it has.
            flags: u32,
            /// The flags that are right.
            right: u32,
        } = "vhdx-metadata-flags", Broken(Safe), "metadata table",
            "the {item} carries the flags {flags:#x}, {right:#x} are right";
        /// An item that is needed lies outside of its region.
        MetadataOutside {
            /// The item's name.
            item: String,
            /// Where it begins in the region.
            offset: u32,
            /// Its length.
            length: u32,
        } = "vhdx-metadata-outside", Fatal(None), "metadata table",
            "the {item} lies outside its place: offset={offset}, length={length}";
        /// An item that nobody needs lies outside of its region.
        MetadataStray {
            /// The item's name.
            item: String,
            /// Where it begins in the region.
            offset: u32,
            /// Its length.
            length: u32,
        } = "vhdx-metadata-stray", Broken(Lossy), "metadata table",
            "the {item}, which is not needed, lies outside its place: offset={offset}, length={length}";
        /// There are more items of users than there may be.
        MetadataUsers {
            /// How many there are.
            count: usize,
            /// How many are legal.
            most: usize,
        } = "vhdx-metadata-users", Fatal(None), "metadata table", "it has {count} user items, at most {most} are legal";
        /// Two items share bytes.
        MetadataOverlap {
            /// The name of the one that begins first.
            first: String,
            /// The other's name.
            second: String,
        } = "vhdx-metadata-overlap", Fatal(None), "metadata table", "the {first} and the {second} overlap";
        /// An item that every image has is not there.
        MetadataMissing {
            /// The item's name.
            item: &'static str,
        } = "vhdx-metadata-missing", Fatal(None), "metadata table", "the item `{item}` is missing";
        /// An item that every image has is not there; the image can be read without.
        MetadataAssumed {
            /// The item's name.
            item: &'static str,
            /// What is used in its place.
            used: &'static str,
        } = "vhdx-metadata-assumed", Broken(Lossy), "metadata table", "the item `{item}` is missing; {used} is used";
        /// The image has no place for an identity.
        IdentityPlace = "vhdx-identity-place", Unsupported, "metadata table",
            "the item `virtual disk id` is missing, so there is no place for an identity";
        /// The block size is none that the format has.
        BlockSize {
            /// The block size in bytes.
            bytes: u64,
        } = "vhdx-block-size", Fatal(None), "metadata item `file parameters`",
            "the block size {bytes} is not legal, powers of two from 1 MiB to 256 MiB are";
        /// Flags are set that mean nothing.
        ParameterFlags {
            /// All flags.
            flags: u32,
        } = "vhdx-parameter-flags", Broken(Safe), "metadata item `file parameters`",
            "reserved flags are set: {flags:#x}";
        /// A sector size is none that the format has.
        SectorSize {
            /// The item's name.
            item: &'static str,
            /// The sector size in bytes.
            bytes: u32,
        } = "vhdx-sector-size", Fatal(None), "metadata item `{item}`",
            "the sector size {bytes} is not legal, 512 and 4096 are";
        /// The virtual size is none that the format has.
        VirtualSize {
            /// The virtual size in bytes.
            bytes: u64,
            /// Bytes of a logical sector.
            sector: u32,
            /// The format's limit in bytes.
            most: u64,
        } = "vhdx-virtual-size", Fatal(None), "metadata item `virtual disk size`",
            "the size {bytes} is not legal: a multiple of {sector}, at most {most}, is";
        /// An image without a parent has a parent locator.
        LocatorUnused = "vhdx-locator-unused", Warning(None), "parent locator",
            "there is a parent locator, but the file parameters say that there is no parent";
        /// An image with a parent does not say which.
        LocatorMissing = "vhdx-locator-missing", Fatal(None), "metadata table",
            "the image has a parent, but no parent locator";
        /// The parent locator cannot be understood.
        Locator {
            /// What is wrong with it.
            why: String,
        } = "vhdx-locator", Fatal(None), "parent locator", "{why}";
        /// The parent locator says which image the parent is, but not where.
        LocatorPaths = "vhdx-locator-paths", Broken(Safe), "parent locator", "it names no path of the parent";
        /// What is to be recorded of another parent does not fit.
        LocatorRoom {
            /// Bytes that it takes.
            length: u64,
        } = "vhdx-locator-room", Unsupported, "metadata region",
            "it has no room for the {length} bytes that are to be recorded of the parent";
        /// The block allocation table is too short for the disk.
        TableShort {
            /// Entries that it has room for.
            room: u64,
            /// The virtual size in bytes.
            size: u64,
            /// Entries that such a disk needs.
            needed: u64,
        } = "vhdx-table-short", Fatal(None), "block allocation table",
            "it has room for {room} entries, a disk of {size} bytes needs {needed}";
        /// An entry behind the last block's is set.
        EntryUnneeded {
            /// Its number.
            index: u64,
        } = "vhdx-entry-unneeded", Warning(Safe), "block allocation table",
            "entry {index} lies past the last block's, yet is set";
        /// Bits of an entry are set that mean nothing.
        EntryReserved {
            /// What the entry is about.
            entry: TableEntry,
            /// Its value.
            value: u64,
        } = "vhdx-entry-reserved", Broken(Safe), "block allocation table",
            "the entry of {entry} has reserved bits set: {value:#x}";
        /// A block that takes no space has a place.
        EntryPlace {
            /// What the entry is about.
            entry: TableEntry,
            /// The place that it names.
            offset: u64,
        } = "vhdx-entry-place", Warning(Safe), "block allocation table",
            "{entry} takes no space, yet its entry names the place {offset}";
        /// An entry has a state that there is not.
        BlockState {
            /// What the entry is about.
            entry: TableEntry,
            /// The state's number.
            state: u8,
        } = "vhdx-block-state", Fatal(Lossy), "block allocation table",
            "{entry} has the state {state}, which is not legal";
        /// A block is to be read from a parent where there is none.
        BlockPartial {
            /// Its number.
            block: u64,
        } = "vhdx-block-partial", Fatal(Lossy), "block allocation table",
            "block {block} is partially present, but the image has no parent";
        /// A block lies past the end of the file.
        BlockOutside {
            /// What the entry is about.
            entry: TableEntry,
            /// Where it begins.
            offset: u64,
            /// Its length.
            length: u64,
            /// Bytes of the file.
            file: u64,
        } = "vhdx-block-outside", Fatal(Lossy), "block allocation table",
            "{entry} lies outside the file: offset={offset}, length={length}, file={file}";
        /// A block shares bytes of the file with another structure.
        BlockOverlap {
            /// What the entry is about.
            entry: TableEntry,
            /// Where it begins.
            offset: u64,
            /// What it shares bytes with.
            over: String,
        } = "vhdx-block-overlap", Fatal(Lossy), "block allocation table", "{entry} at {offset} lies over {over}";
        /// A block is partially present, and nothing says which part.
        BitmapMissing {
            /// Its number.
            block: u64,
            /// The chunk that it belongs to.
            chunk: u64,
        } = "vhdx-bitmap-missing", Fatal(Lossy), "block allocation table",
            "block {block} is partially present, but its chunk {chunk} has no sector bitmap";
        /// An image without a parent has a sector bitmap.
        BitmapUnneeded {
            /// The chunk that it belongs to.
            chunk: u64,
        } = "vhdx-bitmap-unneeded", Broken(Safe), "block allocation table",
            "the sector bitmap of chunk {chunk} is set, but an image without a parent has none";
        /// A block takes space, and everything in it is read from the parent.
        BlockEmpty {
            /// Its number.
            block: u64,
        } = "vhdx-block-empty", Note(None), "block allocation table",
            "block {block} is partially present, yet none of its sectors is";
        /// The file has space that nothing uses.
        SpaceUnused {
            /// How much, in bytes.
            bytes: u64,
        } = "vhdx-space-unused", Note(None), "file",
            "{size} in the file are used by nothing", size = format_size(*bytes);
    }
}
