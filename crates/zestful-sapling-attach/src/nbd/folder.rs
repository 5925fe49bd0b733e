//! All images of a folder, read-only, each under its file name.

use std::path::PathBuf;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::image::format_of_name;

use super::on_demand::OnDemand;
use crate::export::{Catalogue, Export, describe};

/// The images of a folder. Each is opened, and locked against writers, for as long as somebody uses it; so one that is
/// broken, or that is being written to, keeps nobody from the others.
pub struct FolderCatalogue {
    folder: PathBuf,
    open: OnDemand,
}

impl FolderCatalogue {
    /// The images that stand in this folder when they are asked for.
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into(), open: OnDemand::default() }
    }

    /// The file names of all of them, sorted. Names that are no Unicode cannot be asked for, and are left out.
    pub fn names(&self) -> Vec<String> {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let is_image = |path: &PathBuf| path.is_file() && format_of_name(path).is_some();
        let images = entries.map(|entry| entry.path()).filter(is_image);
        let mut names: Vec<String> =
            images.filter_map(|path| path.file_name().and_then(|name| name.to_str()).map(str::to_owned)).collect();
        names.sort();
        names
    }
}

impl Catalogue for FolderCatalogue {
    fn list(&self) -> Vec<(String, String)> {
        let described = |name: String| {
            let chain = Chain::open(&self.folder.join(&name), &OpenOptions::new().without_locks());
            let description = chain.map_or_else(|error| error.to_string(), |chain| describe(&chain));
            (name, description)
        };
        self.names().into_iter().map(described).collect()
    }

    fn open(&self, name: &str) -> Result<Arc<Export>, String> {
        if !self.names().iter().any(|known| known == name) {
            return Err(format!("no image of the name {name:?} is served"));
        }
        self.open.open(name, &self.folder.join(name), &OpenOptions::new())
    }
}
