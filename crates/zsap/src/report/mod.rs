//! How answers look.

pub(crate) mod table;
pub(crate) mod text;
