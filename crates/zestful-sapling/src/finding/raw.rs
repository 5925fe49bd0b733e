//! What may be found in a raw disk, and in one that is stored in pieces.

use super::rule::Class::{Fatal, Unsupported, Warning};
use super::rule::Repair::None;
use super::rule::rules;

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
        } = "pieces-descriptor", Fatal(None), "descriptor", "{why}";
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
        } = "piece-missing", Fatal(None), "piece", "the piece {piece} is missing; put it back beside the descriptor";
        /// A piece does not have its size.
        Size {
            /// Its name.
            piece: String,
            /// Bytes that it has.
            length: u64,
            /// Bytes that it should have.
            right: u64,
        } = "piece-size", Fatal(None), "piece",
            "the piece {piece} has {length} bytes instead of {right}; get it again from where it came from";
        /// A piece does not have its digest.
        Changed {
            /// Its name.
            piece: String,
        } = "piece-changed", Fatal(None), "piece",
            "the piece {piece} was changed: it does not have the digest that the descriptor gives; get it again from \
             where it came from";
    }
}
