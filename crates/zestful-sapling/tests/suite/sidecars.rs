//! The small files beside an image, as anybody reads them: their names and their JSON.

use std::path::{Path, PathBuf};

use serde_json::Value;
use zestful_sapling::family::UnderWay;

/// Where the journal of an image stands while something is under way with it.
pub fn journal_of(image: &Path) -> PathBuf {
    beside(image, ".zsap.journal")
}

/// Where the companion of an image stands.
pub fn companion_of(image: &Path) -> PathBuf {
    beside(image, ".zsap.json")
}

fn beside(image: &Path, ending: &str) -> PathBuf {
    let mut name = image.as_os_str().to_owned();
    name.push(ending);
    name.into()
}

/// What the companion of an image says.
pub fn companion(image: &Path) -> Value {
    serde_json::from_slice(&std::fs::read(companion_of(image)).unwrap()).unwrap()
}

/// The children that the companion of an image records.
pub fn recorded_children(image: &Path) -> Vec<PathBuf> {
    let children = companion(image)["children"].as_array().cloned().unwrap_or_default();
    let path = |child: &Value| image.parent().unwrap().join(child["path"].as_str().unwrap());
    children.iter().map(|child| path(child).components().collect()).collect()
}

pub fn under_way(image: &Path) -> Option<UnderWay> {
    UnderWay::of_image(image).unwrap()
}
