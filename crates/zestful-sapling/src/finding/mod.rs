//! The words of `check`: what may be found in an image and beside it, how bad that is, and whether it can be mended.
//!
//! Each format has one table of its rules, which is an enum with a kind for each; a [`Finding`] is a kind at a place in
//! a file. [`rules`] lists them all.

mod chain;
mod data;
mod fault;
mod list;
mod losses;
mod parent;
mod raw;
mod rule;
mod sidecar;
mod vhd;
mod vhdx;

use std::borrow::Cow;
use std::ops::Range;
use std::path::{Path, PathBuf};

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Serialize, Serializer};

pub use chain::ChainFinding;
pub use data::DataFinding;
pub use fault::Fault;
pub(crate) use list::FindingList;
pub use losses::Losses;
pub use parent::{ParentProblem, ParentProblemKind};
pub use raw::{PiecesFinding, RawFinding};
pub(crate) use rule::Class;
pub use rule::{Repair, Rule, Severity};
pub use sidecar::{CatalogueFinding, CompanionFinding, JournalFinding, UndoFinding};
pub use vhd::VhdFinding;
pub use vhdx::{TableEntry, VhdxFinding};

macro_rules! kinds {
    ($($(#[doc = $about:literal])+ $variant:ident($kind:ident),)+) => {
        /// What was found, with its numbers.
        #[derive(Clone, Debug, PartialEq, Eq)]
        #[non_exhaustive]
        pub enum FindingKind {
            $($(#[doc = $about])+ $variant($kind),)+
        }

        impl FindingKind {
            /// The rule that this is about.
            pub fn rule(&self) -> &'static Rule {
                match self {
                    $(Self::$variant(kind) => kind.rule(),)+
                }
            }

            /// The structure of the file that it is found in, in the words of the format's specification.
            pub fn structure(&self) -> String {
                match self {
                    $(Self::$variant(kind) => kind.structure(),)+
                }
            }
        }

        /// What is wrong, with its numbers.
        impl std::fmt::Display for FindingKind {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                match self {
                    $(Self::$variant(kind) => kind.fmt(f),)+
                }
            }
        }

        $(impl From<$kind> for FindingKind {
            fn from(kind: $kind) -> Self {
                Self::$variant(kind)
            }
        })+

        /// All that may be found, of all formats, in the order in which it is read.
        ///
        /// ```
        /// use zestful_sapling::finding::{Severity, rules};
        /// let rule = rules().find(|rule| rule.code == "vhdx-header").unwrap();
        /// assert_eq!(rule.severity(), Severity::Error);
        /// assert!(!rule.prevents_opening());
        /// ```
        pub fn rules() -> impl Iterator<Item = &'static Rule> {
            [$($kind::RULES),+].into_iter().flatten()
        }
    };
}

kinds! {
    /// In a VHDX image.
    Vhdx(VhdxFinding),
    /// In a VHD image.
    Vhd(VhdFinding),
    /// In a raw disk.
    Raw(RawFinding),
    /// In a disk in pieces.
    Pieces(PiecesFinding),
    /// In the content, when all of it is read.
    Data(DataFinding),
    /// Between an image and its parent.
    Chain(ChainFinding),
    /// In the companion of an image.
    Companion(CompanionFinding),
    /// In a journal.
    Journal(JournalFinding),
    /// In the undo file of a repair.
    Undo(UndoFinding),
    /// In the catalogue of a grove.
    Catalogue(CatalogueFinding),
}

/// One thing that was found wrong, unusual or worth knowing.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Finding {
    /// What was found, with its numbers.
    pub kind: FindingKind,
    /// The file, where known.
    pub path: Option<PathBuf>,
    /// Bytes from the start of the file; zero for what has no place in one.
    pub offset: u64,
    /// Whether more of the same kind were found behind it, which are not listed.
    pub more: bool,
    /// The ranges of the layer's disk that it touches, with those of what is not listed.
    pub content: Box<Losses>,
}

impl Finding {
    pub(crate) fn new(kind: impl Into<FindingKind>, offset: u64) -> Self {
        Self { kind: kind.into(), path: None, offset, more: false, content: Box::default() }
    }

    /// The same; nothing is left of a range of the disk.
    pub(crate) fn losing(mut self, range: Range<u64>) -> Self {
        self.content.lose(range);
        self
    }

    /// The same; nobody can tell whether a range of the disk is right.
    pub(crate) fn doubting(mut self, range: Range<u64>) -> Self {
        self.content.doubt(range);
        self
    }

    /// A stable name for scripts.
    pub fn code(&self) -> &'static str {
        self.kind.rule().code
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        self.kind.rule().severity()
    }

    /// Whether a repair could mend it.
    pub fn repair(&self) -> Repair {
        self.kind.rule().repair()
    }

    /// Whether the image cannot be opened because of it.
    pub fn prevents_opening(&self) -> bool {
        self.kind.rule().prevents_opening()
    }

    /// What is wrong, with its numbers.
    pub fn message(&self) -> String {
        let more = if self.more { " (further findings of this kind are not listed)" } else { "" };
        let content = if self.content.is_empty() { String::new() } else { format!("; {}", self.content) };
        format!("{}{more}{content}", self.kind)
    }

    /// Where in the file, in words; nothing for what has no place, or stands in a small file that is read as a whole.
    pub fn place(&self) -> Option<String> {
        let structure = self.kind.structure();
        self.has_offset().then(|| format!("{structure} at byte {}", self.offset))
    }

    fn has_offset(&self) -> bool {
        matches!(self.kind, FindingKind::Vhdx(_) | FindingKind::Vhd(_) | FindingKind::Raw(_) | FindingKind::Data(_))
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
        if let Some(place) = self.place() {
            write!(f, "{place}: ")?;
        }
        f.write_str(&self.message())?;
        match self.kind.rule().class {
            Class::Fatal(_) => f.write_str("; nothing was changed"),
            Class::Unsupported => f.write_str("; a newer version may know it"),
            Class::Broken(_) | Class::Warning(_) | Class::Note(_) => Ok(()),
        }
    }
}

/// A place in a file.
#[derive(Serialize, JsonSchema)]
struct Place {
    /// The structure, in the words of the format's specification.
    structure: String,
    /// Bytes from the start of the file, where that says anything.
    offset: Option<u64>,
}

/// A finding as plain data.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Finding", description = "One thing that was found wrong, unusual or worth knowing.")]
struct FindingData<'a> {
    /// A stable name for scripts.
    code: &'static str,
    /// How bad it is.
    severity: Severity,
    /// The file, where known.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    path: Option<PathBuf>,
    /// Where in the file.
    #[serde(rename = "where")]
    place: Place,
    /// What is wrong, with its numbers.
    message: &'a str,
    /// Whether more of the same kind were found, which are not listed.
    more: bool,
    /// Whether a repair could mend it.
    repair: Repair,
    /// The ranges of this layer's disk that are lost, or of which nobody can tell whether they are right.
    content: &'a Losses,
}

impl Serialize for Finding {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let data = FindingData {
            code: self.code(),
            severity: self.severity(),
            path: self.path.clone(),
            place: Place { structure: self.kind.structure(), offset: self.has_offset().then_some(self.offset) },
            message: &self.message(),
            more: self.more,
            repair: self.repair(),
            content: &self.content,
        };
        data.serialize(serializer)
    }
}

impl JsonSchema for Finding {
    fn schema_name() -> Cow<'static, str> {
        FindingData::schema_name()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        FindingData::json_schema(generator)
    }
}
