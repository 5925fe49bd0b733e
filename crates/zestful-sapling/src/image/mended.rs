//! What was mended in an image.

use crate::finding::Losses;

/// One kind of damage of an image, put right wherever it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mended {
    /// What was found.
    pub(crate) code: &'static str,
    /// What was done, and why so.
    pub(crate) what: String,
    /// What that means for the content.
    pub(crate) content: Losses,
}

impl Mended {
    pub(crate) fn new(code: &'static str, what: impl Into<String>) -> Self {
        Self { code, what: what.into(), content: Losses::default() }
    }

    pub(crate) fn touching(self, content: Losses) -> Self {
        Self { content, ..self }
    }
}

/// So many things, in words.
pub(crate) fn counted(count: usize, one: &str, many: &str) -> String {
    if count == 1 { format!("one {one}") } else { format!("{count} {many}") }
}
