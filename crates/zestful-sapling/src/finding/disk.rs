//! What may be found in a raw disk, in a disk in pieces, in a chain, and in the small files beside an image.

use jiff::Timestamp;

use super::parent::ParentProblemKind;
use super::rule::Class::{Broken, Fatal, Note, Unsupported, Warning};
use super::rule::Repair::{None, Safe};
use super::rule::rules;
use crate::size::format_size;

rules! {
    /// What may be found in a raw disk.
    RawFinding {
        /// The file does not end at a sector; what is behind the last whole one is not part of the disk.
        Remainder {
            /// Bytes that are left out.
            bytes: u64,
        } = "raw-size", Warning(None), "end of the file",
            "the last {bytes} bytes are no whole sector and are left out";
    }
}

rules! {
    /// What may be found in a disk in pieces.
    PiecesFinding {
        /// The descriptor cannot be understood, or what it says does not fit together.
        Descriptor {
            /// What is wrong with it.
            why: String,
        } = "pieces-descriptor", Fatal, "descriptor", "{why}";
        /// The descriptor is of a version or a format that is not known.
        Version {
            /// The version.
            version: u32,
            /// The format of the disk in the pieces.
            format: String,
        } = "pieces-version", Unsupported, "descriptor",
            "version {version} of {format} pieces is not known, 1 of raw is";
        /// A piece is not there.
        Missing {
            /// Its name.
            piece: String,
        } = "piece-missing", Fatal, "piece", "the piece {piece} is missing; put it back beside the descriptor";
        /// A piece does not have its size.
        Size {
            /// Its name.
            piece: String,
            /// Bytes that it has.
            length: u64,
            /// Bytes that it should have.
            right: u64,
        } = "piece-size", Fatal, "piece",
            "the piece {piece} has {length} bytes instead of {right}; get it again from where it came from";
        /// A piece does not have its digest.
        Changed {
            /// Its name.
            piece: String,
        } = "piece-changed", Fatal, "piece",
            "the piece {piece} was changed: it does not have the digest that the descriptor gives; get it again from \
             where it came from";
    }
}

rules! {
    /// What may be found between an image and its parent.
    ChainFinding {
        /// No file stands where the parent should.
        ParentMissing {
            /// What was looked for.
            problem: ParentProblemKind,
        } = "parent-missing", Broken(None), "parent locator", "{problem}";
        /// The file that stands for the parent is another disk, or was changed since.
        ParentMismatch {
            /// What was found.
            problem: ParentProblemKind,
        } = "parent-mismatch", Broken(None), "parent locator", "{problem}";
        /// The chain leads back to itself.
        ParentCycle {
            /// Where.
            problem: ParentProblemKind,
        } = "parent-cycle", Broken(None), "parent locator", "{problem}";
        /// The chain is longer than any sound one.
        Depth {
            /// The limit.
            problem: ParentProblemKind,
        } = "chain-depth", Broken(None), "parent locator", "{problem}";
        /// The parent cannot be opened, or cannot belong to the child.
        ParentUnusable {
            /// Why.
            problem: ParentProblemKind,
        } = "parent-unusable", Broken(None), "parent locator", "{problem}";
        /// The layer has nothing left to do but to be removed, by work that was cut short.
        WaitsForRemoval = "chain-removal", Note, "parent locator",
            "its content is in the result of the work that was cut short; carrying that on removes it";
        /// The disk ends before its parent's does: what the parent has behind that is not seen.
        Smaller {
            /// The child's virtual size in bytes.
            own: u64,
            /// The parent's virtual size in bytes.
            parents: u64,
            /// The parent's path.
            parent: String,
        } = "chain-smaller", Warning(None), "virtual disk size",
            "the disk has {here} here and {there} in its parent {parent}; what lies past its own end is not seen",
            here = format_size(*own), there = format_size(*parents);
        /// The disk goes on behind its parent's end: it was grown since.
        Larger {
            /// The child's virtual size in bytes.
            own: u64,
            /// The parent's virtual size in bytes.
            parents: u64,
            /// The parent's path.
            parent: String,
        } = "chain-larger", Warning(None), "virtual disk size",
            "the disk has {here} here and {there} in its parent {parent}; past the parent's end it reads zeros",
            here = format_size(*own), there = format_size(*parents);
        /// The time that a VHD child recorded of its parent is not the parent's; the identity, which counts, is.
        Time {
            /// The parent's path.
            parent: String,
        } = "chain-time", Warning(Safe), "dynamic header",
            "the time stamp recorded of the parent {parent} is another one";
    }
}

rules! {
    /// What may be found in the companion of an image, which holds its pin and what is known of its children.
    CompanionFinding {
        /// The companion cannot be understood.
        Damaged {
            /// What is wrong with it.
            why: String,
        } = "companion-damaged", Fatal, "companion",
            "it cannot be understood: {why}; whether the image is pinned, and who grew from it, cannot be told: \
             restore it from a copy, or remove it by hand";
        /// The companion is of a version that is not known.
        Version {
            /// The version.
            version: u32,
            /// The newest that is known.
            known: u32,
        } = "companion-version", Unsupported, "companion", "its version is {version}, up to {known} is known";
        /// The digests of a pin contradict each other.
        PinDamaged = "pin-damaged", Fatal, "companion",
            "the digests that it holds do not belong together, so that they prove nothing: restore it from a copy, or \
             pin anew what is known to be right";
        /// A pinned image does not read as it did when it was pinned.
        PinChanged {
            /// The first byte of the disk that is another one.
            offset: u64,
            /// Bytes that may be others, in whole pieces.
            length: u64,
            /// When it was pinned.
            pinned: Timestamp,
        } = "pin-changed", Broken(None), "companion",
            "{size} at byte {offset} of the disk are no longer what was pinned {pinned:.0}; verifying the pin tells \
             which children read them", size = format_size(*length);
        /// A pinned image has another identity than when it was pinned.
        PinIdentity = "pin-identity", Broken(None), "companion",
            "it was pinned under another data identity: it was written to since, or another file took its name";
        /// A pinned image was written to since: until it is verified nobody knows what is read through it.
        PinTouched {
            /// When it was written to.
            changed: Timestamp,
        } = "pin-touched", Broken(None), "companion",
            "it is pinned, and was written to behind its children's back {changed:.0}: verifying the pin tells whether \
             its content changed, where, and who reads it";
    }
}

rules! {
    /// What may be found in a journal, which holds what was begun with several images.
    JournalFinding {
        /// The journal cannot be understood.
        Damaged {
            /// What is wrong with it.
            why: String,
        } = "journal-damaged", Fatal, "journal",
            "{why}; what it was about cannot be told: look at the images beside it, and remove it by hand once they \
             are known to be whole";
        /// The journal is of a version that is not known.
        Version {
            /// The version.
            version: u32,
            /// The one that is known.
            known: u32,
        } = "journal-version", Unsupported, "journal",
            "its version is {version}, only {known} is known: finish what was begun with the program that began it";
        /// What was begun with the image was cut short; everything reads as before.
        CutShort {
            /// What was begun, and when.
            what: String,
        } = "journal-cut-short", Warning(Safe), "journal", "{what}";
    }
}
