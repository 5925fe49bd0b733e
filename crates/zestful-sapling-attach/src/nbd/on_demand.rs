//! Disks that are open, and locked against writers, for as long as somebody reads them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, Weak};

use zestful_sapling::Error;
use zestful_sapling::chain::{Chain, OpenOptions};

use crate::export::{Backing, Export, describe};

/// Those that are open now, by their images.
#[derive(Default)]
pub(super) struct OnDemand(Mutex<HashMap<PathBuf, Weak<Export>>>);

impl OnDemand {
    /// The disk of an image under this name: the one that others read, or else opened.
    pub(super) fn open(&self, name: &str, path: &Path, options: &OpenOptions) -> Result<Arc<Export>, String> {
        let known = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(export) = known().get(path).and_then(Weak::upgrade).filter(|export| export.name() == name) {
            return Ok(export);
        }
        // Whoever wants another image does not wait for this one.
        let open = || {
            let chain = Chain::open(path, options)?;
            Export::new(name, describe(&chain), Backing::ReadOnly(Arc::new(chain))).with_image(path)
        };
        let export = Arc::new(open().map_err(|error: Error| error.with_causes())?);
        let mut open = known();
        open.retain(|_, other| other.strong_count() > 0);
        open.insert(path.to_owned(), Arc::downgrade(&export));
        Ok(export)
    }
}
