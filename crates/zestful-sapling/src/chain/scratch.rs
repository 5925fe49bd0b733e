//! Changes that are forgotten in the end.

use std::path::Path;

use uuid::Uuid;

use super::{Chain, ChainMut, Disk};
use crate::error::Result;
use crate::image::vhdx::{CreateOptions, VhdxMut};
use crate::image::{ParentReference, RecordedPath};
use crate::storage::scratch_in;

impl ChainMut {
    /// A disk that can be written to over images that are only read, of whatever format: what is written goes into a
    /// file in `folder` that has no name, and is gone with the handle, however the program ends. The images know
    /// nothing of it: nothing is recorded or frozen for it, and it is no child of anything.
    ///
    /// Flushing does nothing, since nothing is to be kept.
    ///
    /// # Errors
    /// `Io` when the folder is missing or has no room; `Usage` when the disk is larger than 64 TiB.
    pub fn over_scratch(chain: Chain, folder: &Path) -> Result<Self> {
        let info = chain.info();
        // It is never looked for: the images below are those that are open.
        let path = RecordedPath { key: "relative_path", text: ".\\under-scratch".to_owned() };
        let parent = ParentReference { accepted: vec![Uuid::new_v4()], paths: vec![path], time_stamp: None };
        let storage = scratch_in(folder)?;
        CreateOptions::new(info.virtual_size)
            .with_sectors(info.logical_sector, info.physical_sector.max(info.logical_sector))
            .with_parent(parent)
            .create_in(&*storage)?;
        let current = VhdxMut::open(storage)?;
        Ok(Self::from_parts(Box::new(current), chain.into_layers()))
    }
}
