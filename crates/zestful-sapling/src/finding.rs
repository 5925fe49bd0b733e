//! The words of `check`: what was found, how bad it is, and whether it can be mended.

use std::path::{Path, PathBuf};

use serde::Serialize;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing, nothing is wrong.
    Note,
    /// Unusual or untidy, harmless.
    Warning,
    /// A rule of the format is broken.
    Error,
}

/// Whether a repair could mend it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Repair {
    /// Nothing in the file says what was there.
    None,
    /// Mechanically, without losing anything.
    Safe,
    /// Only by giving something up.
    Lossy,
}

/// What a finding means for opening the image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Effect {
    Readable,
    Fatal,
    NotSupported,
}

/// A place in a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Place {
    /// The structure, in the words of the format's specification.
    pub structure: String,
    /// Bytes from the start of the file.
    pub offset: u64,
}

/// One thing that was found wrong, unusual or worth knowing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Finding {
    /// A stable name for scripts.
    pub code: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// The file, where known.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: Option<PathBuf>,
    /// Where in the file.
    #[serde(rename = "where")]
    pub place: Place,
    /// What is wrong, with its numbers.
    pub message: String,
    /// Whether a repair could mend it.
    pub repair: Repair,
    #[serde(skip)]
    pub(crate) effect: Effect,
}

impl Finding {
    /// Nothing can be trusted beyond this point.
    pub(crate) fn fatal(code: &'static str, structure: &str, offset: u64, message: impl Into<String>) -> Self {
        Self::new(code, Severity::Error, structure, offset, message, Repair::None, Effect::Fatal)
    }

    /// Well formed as far as seen, but it demands something unknown.
    pub(crate) fn unsupported(code: &'static str, structure: &str, offset: u64, message: impl Into<String>) -> Self {
        Self::new(code, Severity::Error, structure, offset, message, Repair::None, Effect::NotSupported)
    }

    /// A rule is broken, but the content is still certain.
    pub(crate) fn broken(
        code: &'static str,
        structure: &str,
        offset: u64,
        message: impl Into<String>,
        repair: Repair,
    ) -> Self {
        Self::new(code, Severity::Error, structure, offset, message, repair, Effect::Readable)
    }

    /// Unusual, harmless.
    pub(crate) fn warning(
        code: &'static str,
        structure: &str,
        offset: u64,
        message: impl Into<String>,
        repair: Repair,
    ) -> Self {
        Self::new(code, Severity::Warning, structure, offset, message, repair, Effect::Readable)
    }

    /// Worth knowing.
    pub(crate) fn note(code: &'static str, structure: &str, offset: u64, message: impl Into<String>) -> Self {
        Self::new(code, Severity::Note, structure, offset, message, Repair::None, Effect::Readable)
    }

    fn new(
        code: &'static str,
        severity: Severity,
        structure: &str,
        offset: u64,
        message: impl Into<String>,
        repair: Repair,
        effect: Effect,
    ) -> Self {
        let place = Place { structure: structure.to_owned(), offset };
        Self { code, severity, path: None, place, message: message.into(), repair, effect }
    }

    /// Whether the image cannot be opened because of it.
    pub fn prevents_opening(&self) -> bool {
        self.effect != Effect::Readable
    }

    pub(crate) fn at(mut self, path: &Path) -> Self {
        self.path.get_or_insert_with(|| path.to_owned());
        self
    }
}

impl std::fmt::Display for Finding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if let Some(path) = &self.path {
            write!(f, "{}: ", path.display())?;
        }
        write!(f, "{} at byte {}: {}", self.place.structure, self.place.offset, self.message)?;
        match self.effect {
            Effect::Readable => Ok(()),
            Effect::Fatal => f.write_str("; nothing was changed"),
            Effect::NotSupported => f.write_str("; a newer version may know it"),
        }
    }
}
