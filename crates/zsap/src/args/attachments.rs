//! `zsap attachments`: its arguments.

use clap::Args as ArgGroup;

/// What is typed after `zsap attachments`.
///
/// Root sees what every user has attached, other users what is theirs.
#[derive(Debug, ArgGroup)]
pub(crate) struct Attachments {}
