//! What may be found between an image and its parent.

use super::parent::ParentProblemKind;
use super::rule::Class::{Fatal, Note, Warning};
use super::rule::Repair::{Lossy, None, Safe};
use super::rule::rules;
use crate::size::exact_size;

rules! {
    /// What may be found between an image and its parent.
    ChainFinding {
        /// No file stands where the parent should.
        ParentMissing {
            /// What was looked for.
            problem: Box<ParentProblemKind>,
        } = "parent-missing", Fatal(Safe), "parent locator", "{problem}";
        /// The file that stands for the parent is another disk, or was changed since.
        ParentMismatch {
            /// What was found.
            problem: Box<ParentProblemKind>,
        } = "parent-mismatch", Fatal(Lossy), "parent locator", "{problem}";
        /// The chain leads back to itself.
        ParentCycle {
            /// Where.
            problem: Box<ParentProblemKind>,
        } = "parent-cycle", Fatal(None), "parent locator", "{problem}";
        /// The chain is longer than any sound one.
        Depth {
            /// The limit.
            problem: Box<ParentProblemKind>,
        } = "chain-depth", Fatal(None), "parent locator", "{problem}";
        /// The parent cannot be opened, or cannot belong to the child.
        ParentUnusable {
            /// Why.
            problem: Box<ParentProblemKind>,
        } = "parent-unusable", Fatal(None), "parent locator", "{problem}";
        /// The layer has nothing left to do but to be removed, by work that was cut short.
        WaitsForRemoval = "chain-removal", Note(None), "parent locator",
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
            here = exact_size(*own), there = exact_size(*parents);
        /// The disk goes on behind its parent's end: it was grown since.
        Larger {
            /// The child's virtual size in bytes.
            own: u64,
            /// The parent's virtual size in bytes.
            parents: u64,
            /// The parent's path.
            parent: String,
        } = "chain-larger", Note(None), "virtual disk size",
            "the disk has {here} here and {there} in its parent {parent}; past the parent's end it reads zeros",
            here = exact_size(*own), there = exact_size(*parents);
        /// The time that a VHD child recorded of its parent is not the parent's; the identity, which counts, is.
        Time {
            /// The parent's path.
            parent: String,
        } = "chain-time", Warning(Safe), "dynamic header",
            "the time stamp recorded of the parent {parent} is another one";
    }
}
