//! What a rule is: the stable name of what may be found, how bad that is, and what can be done about it.

use schemars::JsonSchema;
use serde::Serialize;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Severity {
    /// Worth knowing, nothing is wrong.
    Note,
    /// Unusual or untidy, harmless.
    Warning,
    /// A rule of the format is broken.
    Error,
}

/// Whether a repair could mend it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Repair {
    /// Nothing in the file says what was there.
    None,
    /// Mechanically, without losing anything.
    Safe,
    /// Only by giving something up.
    Lossy,
}

/// What a finding comes to: how bad it is, what can be done, and whether the image can be opened all the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Class {
    /// Nothing can be trusted beyond this point.
    Fatal(Repair),
    /// Well formed as far as seen, but it demands something unknown.
    Unsupported,
    /// A rule is broken; the image opens. Where the repair is safe its content is certain, too.
    Broken(Repair),
    /// Unusual, harmless.
    Warning(Repair),
    /// Worth knowing.
    Note(Repair),
}

/// A rule whose break is a finding, or a state of an image that is worth a finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Rule {
    /// A stable name for scripts.
    pub code: &'static str,
    /// What it means when this is found.
    pub meaning: &'static str,
    pub(crate) class: Class,
}

impl Rule {
    /// How bad the finding is.
    pub fn severity(&self) -> Severity {
        match self.class {
            Class::Fatal(_) | Class::Unsupported | Class::Broken(_) => Severity::Error,
            Class::Warning(_) => Severity::Warning,
            Class::Note(_) => Severity::Note,
        }
    }

    /// Whether a repair could mend it.
    pub fn repair(&self) -> Repair {
        match self.class {
            Class::Unsupported => Repair::None,
            Class::Fatal(repair) | Class::Broken(repair) | Class::Warning(repair) | Class::Note(repair) => repair,
        }
    }

    /// Whether the image cannot be opened because of it.
    pub fn prevents_opening(&self) -> bool {
        matches!(self.class, Class::Fatal(_) | Class::Unsupported)
    }
}

/// A table of rules: an enum with a kind for each, from which code, class, structure, text and documentation come.
///
/// A line reads `Kind { field: type } = code, class, structure, text, more = value;`, where structure and text name the
/// fields, and `more` are further values for the text.
macro_rules! rules {
    (
        $(#[$outer:meta])*
        $name:ident {
            $(
                $(#[doc = $meaning:literal])+
                $kind:ident $({ $( $(#[doc = $about:literal])+ $field:ident: $type:ty ),+ $(,)? })?
                    = $code:literal, $class:expr, $structure:literal, $text:literal $(, $more:ident = $value:expr)*;
            )+
        }
    ) => {
        $(#[$outer])*
        #[derive(Clone, Debug, PartialEq, Eq)]
        #[non_exhaustive]
        pub enum $name {
            $(
                #[doc = concat!("`", $code, "`:", $($meaning),+)]
                $kind $({ $( $(#[doc = $about])+ $field: $type ),+ })?,
            )+
        }

        impl $name {
            /// All rules of this table.
            pub const RULES: &[$crate::finding::Rule] = &[
                $($crate::finding::Rule {
                    code: $code,
                    meaning: concat!($($meaning),+).trim_ascii(),
                    class: $class,
                }),+
            ];

            /// The rule that this is about.
            pub fn rule(&self) -> &'static $crate::finding::Rule {
                match self {
                    $(Self::$kind { .. } => const {
                        &$crate::finding::Rule {
                            code: $code,
                            meaning: concat!($($meaning),+).trim_ascii(),
                            class: $class,
                        }
                    })+
                }
            }

            /// The structure of the file that it is found in, in the words of the format's specification.
            #[allow(unused_variables)]
            pub fn structure(&self) -> String {
                match self {
                    $( Self::$kind $({ $($field),+ })? => format!($structure), )+
                }
            }
        }

        impl std::fmt::Display for $name {
            #[allow(unused_variables)]
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                match self {
                    $( Self::$kind $({ $($field),+ })? => write!(f, $text $(, $more = $value)*), )+
                }
            }
        }
    };
}

pub(crate) use rules;
