//! How answers look.

pub(crate) mod compact;
pub(crate) mod events;
pub(crate) mod files;
pub(crate) mod findings;
pub(crate) mod impact;
pub(crate) mod json;
pub(crate) mod learning;
pub(crate) mod problems;
pub(crate) mod resize;
#[cfg(test)]
mod schema;
pub(crate) mod several;
pub(crate) mod stream;
pub(crate) mod table;
pub(crate) mod text;
pub(crate) mod volumes;
mod width;
