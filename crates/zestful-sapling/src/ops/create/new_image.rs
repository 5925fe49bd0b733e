//! What a new image is to be, as it is asked for.

use crate::image::{Format, Kind, Space};

/// What a new image is to be; what is left out is chosen by its name, its size and its source.
///
/// ```
/// use zestful_sapling::image::Kind;
/// use zestful_sapling::image::Space;
/// use zestful_sapling::ops::NewImage;
/// let image = NewImage::new().with_kind(Kind::Fixed).with_space(Space::Sparse);
/// # _ = image;
/// ```
#[derive(Clone, Debug, Default)]
pub struct NewImage {
    pub(in crate::ops) format: Option<Format>,
    pub(in crate::ops) kind: Option<Kind>,
    pub(in crate::ops) block_size: Option<u64>,
    pub(in crate::ops) sectors: Option<(u32, u32)>,
    pub(in crate::ops) space: Option<Space>,
    pub(in crate::ops) piece_size: Option<u64>,
}

impl NewImage {
    /// Everything is left to name, size and source.
    pub fn new() -> Self {
        Self::default()
    }

    /// The format that is asked for, if one is.
    pub(crate) fn format(&self) -> Option<Format> {
        self.format
    }

    /// The format; one that the name contradicts needs [`Ending`](crate::family::Override::Ending).
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Fixed or dynamic; dynamic where the format has that, unless something else is asked for.
    pub fn with_kind(mut self, kind: Kind) -> Self {
        self.kind = Some(kind);
        self
    }

    /// Another block size in bytes than the default for the size.
    pub fn with_block_size(mut self, bytes: u64) -> Self {
        self.block_size = Some(bytes);
        self
    }

    /// Logical and physical sector size in bytes; those of the source, where there is one and the format has them.
    pub fn with_sectors(mut self, sectors: (u32, u32)) -> Self {
        self.sectors = Some(sectors);
        self
    }

    /// How a fixed disk takes its space: reserved, and a raw copy sparse, unless something else is asked for.
    pub fn with_space(mut self, space: Space) -> Self {
        self.space = Some(space);
        self
    }

    /// A raw disk in files of so many bytes each, and a descriptor that puts them together
    /// ([`crate::image::pieces`]).
    pub fn with_piece_size(mut self, bytes: u64) -> Self {
        self.piece_size = Some(bytes);
        self
    }
}
