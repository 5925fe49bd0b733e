//! Paths in plain data: names that are no Unicode are told as far as they are, instead of taking all the rest with
//! them.

use std::path::{Path, PathBuf};

use serde::{Serialize, Serializer};

/// For `#[serde(serialize_with)]` on whatever holds paths.
pub(crate) fn text<T: Lossy, S: Serializer>(value: &T, serializer: S) -> Result<S::Ok, S::Error> {
    value.lossy().serialize(serializer)
}

/// What holds paths.
pub(crate) trait Lossy {
    type Text<'a>: Serialize
    where
        Self: 'a;

    fn lossy(&self) -> Self::Text<'_>;
}

impl Lossy for PathBuf {
    type Text<'a> = std::borrow::Cow<'a, str>;

    fn lossy(&self) -> Self::Text<'_> {
        Path::to_string_lossy(self)
    }
}

impl<T: Lossy> Lossy for Vec<T> {
    type Text<'a>
        = Vec<T::Text<'a>>
    where
        Self: 'a;

    fn lossy(&self) -> Self::Text<'_> {
        self.iter().map(Lossy::lossy).collect()
    }
}

impl<T: Lossy> Lossy for Option<T> {
    type Text<'a>
        = Option<T::Text<'a>>
    where
        Self: 'a;

    fn lossy(&self) -> Self::Text<'_> {
        self.as_ref().map(Lossy::lossy)
    }
}

impl<T: Lossy, U: Lossy> Lossy for (T, U) {
    type Text<'a>
        = (T::Text<'a>, U::Text<'a>)
    where
        Self: 'a;

    fn lossy(&self) -> Self::Text<'_> {
        (self.0.lossy(), self.1.lossy())
    }
}

impl Lossy for jiff::Timestamp {
    type Text<'a> = Self;

    fn lossy(&self) -> Self::Text<'_> {
        *self
    }
}
