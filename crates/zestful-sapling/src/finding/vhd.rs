//! What may be found in a VHD image, in the order in which it is read.

use super::fault::Fault;
use super::rule::Class::{Broken, Fatal, Note, Unsupported, Warning};
use super::rule::Repair::{Lossy, None, Safe};
use super::rule::rules;
use crate::size::format_size;

rules! {
    /// What may be found in a VHD image. Offsets and lengths are bytes of the file.
    VhdFinding {
        /// The file is shorter than a footer.
        TooShort {
            /// Bytes of the file.
            len: u64,
        } = "vhd-too-short", Fatal(None), "footer", "the file is only {len} bytes long, a footer takes 512";
        /// There is no footer, and no copy of one.
        Footer {
            /// What is wrong with the one at the end.
            fault: Fault,
        } = "vhd-footer", Fatal(Lossy), "footer", "{fault}, and there is no valid copy at the start";
        /// The footer lacks its last byte, as very old programs wrote it.
        FooterShort = "vhd-footer-short", Note(None), "footer",
            "the footer has 511 bytes, as very old programs wrote it";
        /// The footer at the end is lost; its copy is used, and the image cannot be written to.
        FooterLost {
            /// What is wrong with the one at the end.
            fault: Fault,
        } = "vhd-footer-lost", Broken(Safe), "footer",
            "the footer at the end is lost ({fault}); its copy at the start is used, for reading only";
        /// The copy of the footer is lost.
        Copy {
            /// What is wrong with it.
            fault: Fault,
        } = "vhd-copy", Broken(Safe), "footer copy", "the copy of the footer is not valid: {fault}";
        /// The copy of the footer differs from it in what does not matter for reading.
        CopyDiffers = "vhd-copy-differs", Warning(Safe), "footer copy",
            "the copy of the footer is valid, but differs from the footer at the end, which is used";
        /// The copy of the footer gives the disk another kind, or its header another place. A change that was cut short
        /// leaves it like that: the footer at the end is written first.
        CopyOutdated = "vhd-copy-outdated", Broken(Safe), "footer copy",
            "the copy of the footer is valid, but names another kind or another header than the footer at the end, \
             which is used";
        /// The copy of the footer gives the disk another size.
        CopyContradicts = "vhd-copy-contradicts", Broken(Lossy), "footer copy",
            "the copy of the footer is valid, but gives the disk another size than the footer at the end, which is \
             used";
        /// The image is of a version that is not known.
        Version {
            /// The first part of the version.
            major: u32,
            /// The second part.
            minor: u32,
        } = "vhd-version", Unsupported, "footer", "the format version is {major}.{minor}, only 1.0 is known";
        /// The image is of a kind that is not known.
        DiskType {
            /// The kind's number.
            number: u32,
        } = "vhd-type", Unsupported, "footer", "the disk type is {number}, only 2, 3 and 4 are known";
        /// The virtual size is none that the format has.
        Size {
            /// The virtual size in bytes.
            bytes: u64,
        } = "vhd-size", Fatal(None), "footer",
            "the size {bytes} is not legal: whole sectors of 512 bytes are, up to 64 TiB";
        /// The disk belongs to a machine that was suspended, which counts on it.
        SavedState = "vhd-saved-state", Warning(Lossy), "footer", "the disk belongs to a suspended machine";
        /// The mark of a suspended machine is none that there is.
        SavedStateValue {
            /// The mark.
            value: u8,
        } = "vhd-saved-state-value", Broken(Safe), "footer",
            "the saved state is {value}, 0 and 1 are legal; it is taken for 1";
        /// Cylinders, heads and sectors are not what the specification computes from the size.
        Geometry = "vhd-geometry", Warning(Safe), "footer", "the geometry is not what the size gives";
        /// Bytes are set that writers leave zero and readers ignore.
        Reserved = "vhd-reserved", Warning(Safe), "footer", "reserved bytes are not zero";
        /// The image has no identity, so that no child can know it.
        Identity = "vhd-id", Warning(Safe), "footer", "the identity is all zero";
        /// The features are none that there are.
        Features {
            /// The features.
            features: u32,
        } = "vhd-features", Broken(Safe), "footer", "the features {features:#x} are not legal, 2 and 3 are";
        /// The file ends before its disk does.
        Cut {
            /// The virtual size in bytes.
            size: u64,
            /// Bytes before the footer.
            room: u64,
        } = "vhd-cut", Fatal(Lossy), "footer",
            "the disk has {size} bytes, but only {room} stand before the footer: the file was cut";
        /// Bytes stand behind the disk and before the footer.
        Slack {
            /// How many.
            bytes: u64,
        } = "vhd-slack", Warning(None), "footer", "{bytes} bytes stand unused between data and footer";
        /// The dynamic header's place is none.
        HeaderPlace {
            /// Where it should begin.
            offset: u64,
            /// Bytes of the file.
            file: u64,
        } = "vhd-header-place", Fatal(Lossy), "dynamic header", "its place is not legal: offset={offset}, file={file}";
        /// There is no dynamic header, and the format keeps no copy of it.
        Header {
            /// What is wrong with it.
            fault: Fault,
        } = "vhd-header", Fatal(Lossy), "dynamic header", "{fault}, and there is no copy";
        /// The dynamic header is of a version that is not known.
        HeaderVersion {
            /// The version.
            version: u32,
        } = "vhd-header-version", Unsupported, "dynamic header", "the header version is {version}, only 1 is known";
        /// The block size is none that can be read.
        BlockSize {
            /// The block size in bytes.
            bytes: u64,
        } = "vhd-block-size", Fatal(None), "dynamic header",
            "the block size {bytes} is no power of two of at least 512";
        /// The block allocation table is too short for the disk.
        TableShort {
            /// Entries that it has.
            entries: u64,
            /// The virtual size in bytes.
            size: u64,
            /// Entries that such a disk needs.
            needed: u64,
        } = "vhd-table-short", Fatal(None), "dynamic header",
            "the table has {entries} entries, a disk of {size} bytes needs {needed}";
        /// The block allocation table has more entries than are handled.
        TableSize {
            /// Entries that the disk needs.
            needed: u64,
            /// The most that are handled.
            most: u64,
        } = "vhd-table-size", Unsupported, "dynamic header",
            "the table has {needed} entries, at most {most} are handled";
        /// The block allocation table lies past the end of the file.
        TableOutside {
            /// Where it begins.
            offset: u64,
            /// Bytes of the file.
            file: u64,
        } = "vhd-table-outside", Fatal(None), "block allocation table",
            "the table lies outside the file: offset={offset}, file={file}";
        /// The block allocation table does not begin at a sector, so that it cannot be changed safely.
        TablePlace {
            /// Where it begins.
            offset: u64,
        } = "vhd-table-place", Warning(None), "dynamic header",
            "the table stands at {offset}, not at the beginning of a sector: the image is only read";
        /// The block allocation table has more entries than the disk needs.
        TableLong {
            /// Entries that it has.
            entries: u64,
            /// Entries that the disk needs.
            needed: u64,
        } = "vhd-table-long", Note(None), "dynamic header", "the table has {entries} entries, the disk needs {needed}";
        /// An image with a parent does not say which.
        ParentIdentity = "vhd-parent-id", Fatal(None), "dynamic header",
            "the image has a parent, but the parent's identity is all zero";
        /// A path of the parent lies past the end of the file.
        Locator {
            /// The platform code of the path.
            platform: String,
            /// Where it begins.
            offset: u64,
            /// Its length.
            length: u32,
        } = "vhd-locator", Broken(Safe), "parent locator",
            "the locator {platform} lies outside: offset={offset}, length={length}";
        /// The image says which image its parent is, but not where.
        LocatorPaths = "vhd-locators", Warning(Safe), "parent locator",
            "it names no path of the parent, only a file name";
        /// A block lies past the end of the data.
        BlockOutside {
            /// Its number.
            block: u32,
            /// Where it begins.
            offset: u64,
            /// Where the data end.
            end: u64,
        } = "vhd-block-outside", Fatal(Lossy), "block allocation table",
            "block {block} at {offset} reaches past the end of the data at {end}";
        /// A block shares bytes of the file with another structure.
        BlockOverlap {
            /// Its number.
            block: u32,
            /// Where it begins.
            offset: u64,
            /// The other structure.
            over: &'static str,
        } = "vhd-block-overlap", Fatal(Lossy), "block allocation table",
            "block {block} at {offset} lies over the {over}";
        /// Two blocks share bytes of the file.
        BlocksShare {
            /// The number of the one.
            block: u32,
            /// The number of the other.
            other: u32,
        } = "vhd-blocks-share", Fatal(Lossy), "block allocation table", "blocks {other} and {block} share a place";
        /// The file has space that nothing uses, with room for a block at least.
        SpaceUnused {
            /// How much, in bytes.
            bytes: u64,
        } = "vhd-space-unused", Note(None), "file",
            "{size} in the file are used by nothing", size = format_size(*bytes);
        /// Sectors hold data that the block's bitmap says were never written. Programs that do not look at the bitmap
        /// read them, others read zeros.
        UnwrittenData {
            /// The block's number.
            block: u64,
        } = "vhd-unwritten-data", Broken(Lossy), "data block",
            "block {block} holds data in sectors that its bitmap calls never written";
    }
}
