//! What may be found in the small files beside images: a companion, a journal, the catalogue of a grove.

use jiff::Timestamp;

use super::rule::Class::{Broken, Fatal, Unsupported, Warning};
use super::rule::Repair::{None, Safe};
use super::rule::rules;
use crate::size::format_size;

rules! {
    /// What may be found in the companion of an image, which holds its pin and what is known of its children.
    CompanionFinding {
        /// The companion cannot be understood.
        Damaged {
            /// What is wrong with it.
            why: String,
        } = "companion-damaged", Fatal(None), "companion",
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
        PinDamaged = "pin-damaged", Fatal(None), "companion",
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
        } = "journal-damaged", Fatal(None), "journal",
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

rules! {
    /// What may be found in an undo file, which holds what a repair overwrote.
    UndoFinding {
        /// The undo file cannot be understood.
        Damaged {
            /// What is wrong with it.
            why: String,
        } = "undo-damaged", Fatal(None), "undo file",
            "{why}; the repair cannot be taken back: what the image holds now stays, and the file can be removed";
        /// The undo file is of a version that is not known.
        Version {
            /// The version.
            version: u32,
            /// The newest that is known.
            known: u32,
        } = "undo-version", Unsupported, "undo file", "its version is {version}, up to {known} is known";
    }
}

rules! {
    /// What may be found in the catalogue of a grove, or in the record of one of its checkpoints.
    CatalogueFinding {
        /// The catalogue cannot be understood.
        Damaged {
            /// What is wrong with it.
            why: String,
        } = "catalogue-damaged", Fatal(None), "catalogue",
            "it cannot be understood: {why}; the machine's disks are whole without it: restore it from a copy, or have \
             it made anew from the files";
        /// The catalogue is of a version that is not known.
        Version {
            /// The version.
            version: u32,
            /// The newest that is known.
            known: u32,
        } = "catalogue-version", Unsupported, "catalogue", "its version is {version}, up to {known} is known";
    }
}
