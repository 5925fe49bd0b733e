//! What may be found when all content is read.

use super::rule::Class::Broken;
use super::rule::Repair::None;
use super::rule::rules;
use crate::size::format_size;

rules! {
    /// What may be found when all content is read.
    DataFinding {
        /// The host cannot read a part of the file: its disk fails, or what it stands on.
        Unreadable {
            /// How many bytes.
            bytes: u64,
            /// What the host said.
            reason: String,
        } = "data-unreadable", Broken(None), "data", "{size} cannot be read: {reason}", size = format_size(*bytes);
    }
}
