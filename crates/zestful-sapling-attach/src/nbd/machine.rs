//! The disks of a machine, each under its label, and as they were at its checkpoints.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::OpenOptions;
use zestful_sapling::grove::Grove;
use zestful_sapling::size::format_size;

use super::on_demand::OnDemand;
use crate::export::{Catalogue, Export};

/// The disks of a machine: `LABEL` as it is now, `LABEL@NAME` as it was at a checkpoint. What is not open for writing
/// is opened for reading, for as long as somebody reads it; checkpoints that are taken meanwhile are there at once.
pub struct MachineCatalogue {
    folder: PathBuf,
    writable: Vec<Arc<Export>>,
    open: OnDemand,
}

impl MachineCatalogue {
    /// Of the machine in this folder; these disks of it, under their labels, are open already.
    pub fn new(folder: impl Into<PathBuf>, writable: Vec<Arc<Export>>) -> Self {
        Self { folder: folder.into(), writable, open: OnDemand::default() }
    }

    fn open_label(&self, label: &str) -> Option<Arc<Export>> {
        self.writable.iter().find(|export| export.name() == label).cloned()
    }
}

impl Catalogue for MachineCatalogue {
    fn list(&self) -> Vec<(String, String)> {
        // One whose catalogue cannot be read has no checkpoints to offer, and goes on with what is open.
        let Ok(grove) = Grove::open(&self.folder) else {
            let told = |export: &Arc<Export>| (export.name().to_owned(), export.description().to_owned());
            return self.writable.iter().map(told).collect();
        };
        let catalogue = grove.catalogue();
        let present = catalogue.disks.iter().map(|disk| {
            let export = self.open_label(&disk.label);
            let told = export.map_or_else(|| disk.format.to_string(), |export| export.description().to_owned());
            (disk.label.clone(), told)
        });
        let past = catalogue.checkpoints.iter().filter_map(|one| one.name.as_ref().map(|name| (one, name)));
        let past = past.flat_map(|(one, name)| {
            one.disks.iter().map(move |layer| {
                let told = format!("{}, {}, as at {:.0}", format_size(layer.virtual_size), layer.format, one.taken);
                (format!("{}@{name}", layer.label), told)
            })
        });
        present.chain(past).collect()
    }

    fn open(&self, name: &str) -> Result<Arc<Export>, String> {
        let told = |error: zestful_sapling::Error| error.with_causes();
        if let Some(export) = self.open_label(name) {
            return Ok(export);
        }
        let grove = Grove::open(&self.folder).map_err(told)?;
        let (label, checkpoint) = name.split_once('@').map_or((name, None), |(label, name)| (label, Some(name)));
        let label = Some(label).filter(|label| !label.is_empty());
        let place = grove.place(label, checkpoint).map_err(told)?;
        if let (None, Some(export)) = (checkpoint, self.open_label(&place.label)) {
            return Ok(export);
        }
        let name = checkpoint.map_or_else(|| place.label.clone(), |checkpoint| format!("{}@{checkpoint}", place.label));
        let path: &Path = &place.path;
        self.open.open(&name, path, &OpenOptions::new().with_format(place.format))
    }
}
