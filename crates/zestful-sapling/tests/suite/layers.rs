//! The folder listing shows the architecture: a module uses only layers below its own.

use std::path::{Path, PathBuf};

/// Lowest first; modules of one layer do not know each other.
const LAYERS: [&[&str]; 9] = [
    &["bounded", "lossy"],
    &["error", "finding", "size", "bytes", "progress"],
    &["storage"],
    &["image"],
    &["chain"],
    &["guest"],
    &["family"],
    &["check", "ops"],
    &["lib"],
];

fn layer_of(module: &str) -> usize {
    let found = LAYERS.iter().position(|layer| layer.contains(&module));
    found.unwrap_or_else(|| panic!("the module `{module}` has no layer; redraw the picture first"))
}

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else {
            found.push(path);
        }
    }
}

#[test]
fn modules_use_only_layers_below() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut files = Vec::new();
    sources(&root, &mut files);
    let mut arrows = 0;
    for file in files {
        let place = file.strip_prefix(&root).unwrap();
        let module = place.iter().next().unwrap().to_str().unwrap().trim_end_matches(".rs").to_owned();
        let text = std::fs::read_to_string(&file).unwrap();
        for (number, line) in text.lines().enumerate() {
            for used in line.split("crate::").skip(1) {
                let used: String = used.chars().take_while(|c| c.is_ascii_lowercase() || *c == '_').collect();
                // `crate::{Error, Result}` names the two that everything shares.
                if used.is_empty() || used == module || module == "lib" || line.trim_start().starts_with("//") {
                    continue;
                }
                arrows += 1;
                let downward = layer_of(&used) < layer_of(&module)
                    || (layer_of(&module) == 1 && ["error", "finding"].contains(&used.as_str()));
                assert!(downward, "{}:{}: {module} uses {used}", place.display(), number + 1);
            }
        }
    }
    assert!(arrows > 50, "only {arrows} uses were seen");
}
