//! From the path that a child recorded to the files that may be its parent.

use std::path::{Path, PathBuf};

use uuid::Uuid;

use crate::error::{Error, Result};
use crate::image::{ImageInfo, ParentRecord, ParentReference};
use crate::storage::{folder_of, real, relative_path, tidy};

/// The files that may be the parent, in the order in which they are to be tried: the recorded paths in the
/// specification's order, then the recorded file names in the child's own folder.
pub(crate) fn candidates(child: &Path, parent: &ParentReference) -> Vec<PathBuf> {
    // Behind a link the real file's folder counts: that is where the path was recorded from.
    let real = std::fs::canonicalize(child).unwrap_or_else(|_| child.to_owned());
    let folder = folder_of(&real);
    let followed = parent.paths.iter().filter_map(|recorded| follow(&recorded.text));
    let beside = parent.paths.iter().filter_map(|recorded| {
        let name = recorded.text.rsplit(['\\', '/']).next()?;
        (!name.is_empty() && name != "." && name != "..").then(|| PathBuf::from(name))
    });
    let mut tried: Vec<PathBuf> = Vec::new();
    for path in followed.chain(beside) {
        let path = tidy(&folder.join(path));
        if !tried.contains(&path) {
            tried.push(path);
        }
    }
    tried
}

/// A recorded path as one of this host; `None` for what only another host can follow (drive letters, volumes).
fn follow(recorded: &str) -> Option<PathBuf> {
    let path = recorded.replace('\\', "/");
    let path = path.strip_prefix("//?/").unwrap_or(&path);
    let mut start = path.chars();
    let drive = start.next().is_some_and(|c| c.is_ascii_alphabetic()) && start.next() == Some(':');
    let foreign = drive || path.starts_with("Volume{") || path.starts_with("//") || path.is_empty();
    (!foreign && !path.contains('\0')).then(|| PathBuf::from(path))
}

/// How a child in `folder` records the parent at `parent`, relative to itself; both canonical.
///
/// # Errors
/// `Usage` when a name on the way cannot be written in the format's paths.
pub(crate) fn record_relative(folder: &Path, parent: &Path) -> Result<String> {
    let unwritable = || {
        Error::usage(
            format!("the path {} cannot be recorded in a child", parent.display()),
            "names on the way must be valid Unicode and hold no backslash",
        )
    };
    let relative = relative_path(folder, parent);
    let parts = relative.iter().map(|part| part.to_str().filter(|s| !s.contains('\\')));
    let parts: Option<Vec<&str>> = parts.collect();
    parts.map(|parts| parts.join("\\")).ok_or_else(unwritable)
}

/// What children know an image by.
///
/// # Errors
/// `Usage` when its format has no identity.
pub(crate) fn identity_of(image: &Path, info: &ImageInfo) -> Result<Uuid> {
    info.data_identity.ok_or_else(|| {
        Error::usage(
            format!("{} is a {} disk, which has no identity that a child could record", image.display(), info.format),
            "copy it into a vhdx image first, and grow the children from that",
        )
    })
}

/// What a child at `child` records of `parent`; its absolute path too, when asked for.
///
/// # Errors
/// `Usage` when the parent has no identity, or a name on the way cannot be recorded; `Io` when a path is not there.
pub(crate) fn record_of(child: &Path, parent: &Path, info: &ImageInfo, absolute: bool) -> Result<ParentRecord> {
    let real_parent = real(parent)?;
    let folder = real(&folder_of(child))?;
    Ok(ParentRecord {
        identity: identity_of(parent, info)?,
        also: None,
        time_stamp: info.time_stamp,
        name: real_parent.file_name().unwrap_or_default().to_string_lossy().into_owned(),
        relative: record_relative(&folder, &real_parent)?,
        absolute: absolute.then(|| real_parent.to_string_lossy().replace('/', "\\")),
    })
}

/// Whether a child records the absolute path of its parent.
pub(crate) fn records_absolute(reference: Option<&ParentReference>) -> bool {
    reference
        .is_some_and(|reference| reference.paths.iter().any(|path| ["absolute_win32_path", "W2ku"].contains(&path.key)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::RecordedPath;

    #[test]
    fn recorded_paths_become_paths_of_this_host() {
        let table = [
            (".\\fen-base.vhdx", Some("./fen-base.vhdx")),
            ("..\\bases\\fen-base.vhdx", Some("../bases/fen-base.vhdx")),
            ("\\srv\\fen-base.vhdx", Some("/srv/fen-base.vhdx")),
            ("\\\\?\\C:\\disks\\fen-base.vhdx", None),
            ("c:\\fen-base.vhdx", None),
            ("\\\\?\\Volume{26a2}\\fen-base.vhdx", None),
            ("\\\\server\\share\\fen-base.vhdx", None),
            ("", None),
        ];
        for (recorded, expected) in table {
            assert_eq!(follow(recorded), expected.map(PathBuf::from), "{recorded}");
        }
    }

    #[test]
    fn relative_records_lead_back() {
        let table = [
            ("/srv/a", "/srv/a/base.vhdx", ".\\base.vhdx"),
            ("/srv/a", "/srv/base.vhdx", "..\\base.vhdx"),
            ("/srv/a/b", "/srv/c/base.vhdx", "..\\..\\c\\base.vhdx"),
        ];
        for (folder, parent, recorded) in table {
            assert_eq!(record_relative(Path::new(folder), Path::new(parent)).unwrap(), recorded);
            let reference = ParentReference {
                accepted: vec![],
                paths: vec![RecordedPath { key: "relative_path", text: recorded.into() }],
                time_stamp: None,
            };
            assert_eq!(candidates(&Path::new(folder).join("child.vhdx"), &reference)[0], Path::new(parent));
        }
        assert!(record_relative(Path::new("/srv"), Path::new("/srv/a\\b.vhdx")).is_err());
    }
}
