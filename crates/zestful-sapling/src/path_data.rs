//! Paths in plain data: where a file is, how it was named, and, where a name is no Unicode, its very bytes.

use std::ffi::OsString;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A path as scripts read it: everything here that is written as plain data tells its paths so.
///
/// ```
/// use std::path::Path;
/// use zestful_sapling::path_data::PathData;
/// let told = serde_json::to_value(PathData::from(Path::new("/srv/fen-base.vhdx"))).unwrap();
/// assert_eq!(told["absolute"], "/srv/fen-base.vhdx");
/// assert!(told["bytes"].is_null());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Path", description = "A path.")]
pub struct PathData {
    /// From the root; links on the way stay. What is no Unicode in it is shown as `\u{FFFD}`.
    absolute: String,
    /// As it was given, or found in a folder that was given.
    typed: String,
    /// The bytes of the absolute path as hexadecimal digits, where it is no Unicode.
    bytes: Option<String>,
}

impl From<&Path> for PathData {
    fn from(path: &Path) -> Self {
        let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let hex = || absolute.as_os_str().as_bytes().iter().map(|byte| format!("{byte:02x}")).collect();
        Self {
            typed: path.to_string_lossy().into_owned(),
            bytes: absolute.to_str().is_none().then(hex),
            absolute: absolute.to_string_lossy().into_owned(),
        }
    }
}

impl PathData {
    /// The absolute path, as the host knows it.
    pub fn to_path(&self) -> PathBuf {
        let byte = |at: usize| u8::from_str_radix(self.bytes.as_ref()?.get(at..at + 2)?, 16).ok();
        let bytes: Option<Vec<u8>> =
            self.bytes.as_ref().and_then(|digits| (0..digits.len()).step_by(2).map(byte).collect());
        bytes.map_or_else(|| PathBuf::from(&self.absolute), |bytes| PathBuf::from(OsString::from_vec(bytes)))
    }
}

/// For `#[serde(serialize_with)]` on whatever holds paths.
pub(crate) fn plain<T: HoldsPaths, S: Serializer>(value: &T, serializer: S) -> Result<S::Ok, S::Error> {
    value.data().serialize(serializer)
}

/// For `#[serde(deserialize_with)]` on a path that another process of ours has told.
pub(crate) fn read<'de, D: Deserializer<'de>>(deserializer: D) -> Result<PathBuf, D::Error> {
    PathData::deserialize(deserializer).map(|told| told.to_path())
}

/// One path, several, or none.
pub(crate) trait HoldsPaths {
    /// How it is told.
    type Data: Serialize;

    fn data(&self) -> Self::Data;
}

impl HoldsPaths for PathBuf {
    type Data = PathData;

    fn data(&self) -> Self::Data {
        PathData::from(self.as_path())
    }
}

impl<T: HoldsPaths> HoldsPaths for Vec<T> {
    type Data = Vec<T::Data>;

    fn data(&self) -> Self::Data {
        self.iter().map(HoldsPaths::data).collect()
    }
}

impl<T: HoldsPaths> HoldsPaths for Option<T> {
    type Data = Option<T::Data>;

    fn data(&self) -> Self::Data {
        self.as_ref().map(HoldsPaths::data)
    }
}
