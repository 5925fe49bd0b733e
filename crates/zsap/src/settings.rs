//! What an administrator says once, for all commands: in `/etc/zsap.toml` for the host, and in `zsap.toml` in the
//! user's folder for configuration, which wins. What is typed wins over both.
//!
//! No folder that somebody works in is ever looked into, and nothing that goes over a refusal or answers a question can
//! be set: what a command does is seen in what was typed.

use std::io::ErrorKind::{NotADirectory, NotFound, PermissionDenied};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use jiff::SignedDuration;
use serde::{Deserialize, Deserializer};
use zestful_sapling::grove::Limits;

use crate::args::Color;
use crate::args::values::{FormatName, KindName, rate, span};

const HOST_WIDE: &str = "/etc/zsap.toml";
/// No file of settings is longer, in bytes.
const MOST: u64 = 64 << 10;

/// What a file sets.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Settings {
    /// Folders that are looked into for relatives, as if each command were told.
    #[serde(default, deserialize_with = "folders")]
    pub(crate) search: Option<Vec<PathBuf>>,
    /// Bytes a second that bulk work is held to.
    #[serde(default, deserialize_with = "limit")]
    pub(crate) rate_limit: Option<u64>,
    /// Colour in the output.
    #[serde(default)]
    pub(crate) color: Option<Color>,
    #[serde(default)]
    pub(crate) new_disks: NewDisks,
    #[serde(default)]
    pub(crate) attention: Attention,
}

/// What new disks are.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct NewDisks {
    /// The format of one whose name does not end in a format.
    pub(crate) format: Option<FormatName>,
    /// Whether its space is laid out at once.
    pub(crate) kind: Option<KindName>,
}

/// From where on `status` wants something to be looked at.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Attention {
    /// Checkpoints that are older.
    #[serde(default, deserialize_with = "age")]
    pub(crate) checkpoint_age: Option<SignedDuration>,
    /// Checkpoints that hold more of a disk, in percent of its size.
    pub(crate) checkpoint_share: Option<u64>,
    /// Disks with more layers.
    pub(crate) layers: Option<usize>,
}

fn folders<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Vec<PathBuf>>, D::Error> {
    let folders = Vec::<PathBuf>::deserialize(from)?;
    match folders.iter().find(|folder| !folder.has_root()) {
        Some(folder) => Err(serde::de::Error::custom(format!(
            "{} does not begin at the root: it would be another folder wherever a command is run",
            folder.display()
        ))),
        None => Ok(Some(folders)),
    }
}

fn limit<'de, D: Deserializer<'de>>(from: D) -> Result<Option<u64>, D::Error> {
    rate(&String::deserialize(from)?).map(Some).map_err(serde::de::Error::custom)
}

fn age<'de, D: Deserializer<'de>>(from: D) -> Result<Option<SignedDuration>, D::Error> {
    span(&String::deserialize(from)?).map(Some).map_err(serde::de::Error::custom)
}

impl Settings {
    /// These, and where they are silent the others.
    fn over(self, other: &Self) -> Self {
        Self {
            search: self.search.or_else(|| other.search.clone()),
            rate_limit: self.rate_limit.or(other.rate_limit),
            color: self.color.or(other.color),
            new_disks: NewDisks {
                format: self.new_disks.format.or(other.new_disks.format),
                kind: self.new_disks.kind.or(other.new_disks.kind),
            },
            attention: Attention {
                checkpoint_age: self.attention.checkpoint_age.or(other.attention.checkpoint_age),
                checkpoint_share: self.attention.checkpoint_share.or(other.attention.checkpoint_share),
                layers: self.attention.layers.or(other.attention.layers),
            },
        }
    }

    /// From where on something wants a look.
    pub(crate) fn limits(&self) -> Limits {
        let (mut limits, set) = (Limits::default(), &self.attention);
        limits.age = set.checkpoint_age.unwrap_or(limits.age);
        limits.share = set.checkpoint_share.unwrap_or(limits.share);
        limits.layers = set.layers.unwrap_or(limits.layers);
        limits
    }
}

/// A file that may hold settings.
pub(crate) struct Source {
    pub(crate) path: PathBuf,
    /// What it sets; none where it is not there, or is left out for a reason.
    pub(crate) read: Result<Option<Settings>, String>,
}

/// All that is set on this host for this user.
pub(crate) struct Loaded {
    /// The host's file first.
    pub(crate) sources: Vec<Source>,
    /// What they set together.
    pub(crate) settings: Settings,
}

/// What is set, looked up once.
pub(crate) fn current() -> &'static Loaded {
    static LOADED: OnceLock<Loaded> = OnceLock::new();
    LOADED.get_or_init(|| {
        let places = [Some(PathBuf::from(HOST_WIDE)), of_user()];
        let sources: Vec<Source> =
            places.into_iter().flatten().map(|path| Source { read: read(&path), path }).collect();
        let read = sources.iter().filter_map(|source| source.read.as_ref().ok()?.clone());
        let settings = read.fold(Settings::default(), |before, own| own.over(&before));
        Loaded { sources, settings }
    })
}

/// `$XDG_CONFIG_HOME/zsap.toml`, or `~/.config/zsap.toml`; nothing below the folder that somebody is in.
fn of_user() -> Option<PathBuf> {
    let folder = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|folder| folder.has_root());
    let folder = folder("XDG_CONFIG_HOME").or_else(|| folder("HOME").map(|home| home.join(".config")))?;
    Some(folder.join("zsap.toml"))
}

fn read(path: &Path) -> Result<Option<Settings>, String> {
    let found = match std::fs::metadata(path) {
        Ok(found) => found,
        // A user whose folder cannot be entered has set nothing.
        Err(error) if matches!(error.kind(), NotFound | NotADirectory | PermissionDenied) => return Ok(None),
        Err(error) => return Err(error.to_string()),
    };
    if !found.is_file() || found.len() > MOST {
        return Err("it is no file of a page or two".to_owned());
    }
    // Whoever runs a command for another user, such as root, does not go by what that user, or anybody, may write.
    let own = rustix::process::geteuid().as_raw();
    if found.uid() != own && found.uid() != 0 || found.mode() & 0o002 != 0 {
        return Err("it belongs to another user, or others may write to it".to_owned());
    }
    let text = std::fs::read_to_string(path).map_err(|error| error.to_string())?;
    toml::from_str(&text).map(Some).map_err(|error| {
        let line =
            error.span().map_or(1, |span| text.bytes().take(span.start).filter(|byte| *byte == b'\n').count() + 1);
        format!("line {line}: {}", error.message())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_read_and_the_nearer_one_wins() {
        let folder = tempfile::tempdir().unwrap();
        let file = |text: &str| {
            let path = folder.path().join("zsap.toml");
            std::fs::write(&path, text).unwrap();
            read(&path)
        };
        let host = "search = [\"/srv\"]\ncolor = \"never\"\n[attention]\nlayers = 3\ncheckpoint-age = \"2d\"\n";
        let host = file(host).unwrap().unwrap();
        let user = file("rate-limit = \"5m\"\ncolor = \"always\"\n[new-disks]\nkind = \"fixed\"\n").unwrap().unwrap();
        let both = user.over(&host);
        assert_eq!((both.rate_limit, both.color), (Some(5 << 20), Some(Color::Always)));
        assert_eq!((both.search.as_deref(), both.limits().layers), (Some(&[PathBuf::from("/srv")][..]), 3));
        assert_eq!(both.limits().age, SignedDuration::from_hours(48));
        for (text, why) in [
            ("\nforce = [\"in-use\"]\n", "line 2: unknown field `force`"),
            ("yes = true\n", "line 1: unknown field `yes`"),
            ("search = [\"bases\"]\n", "bases does not begin at the root"),
            ("rate-limit = \"0\"\n", "nothing would ever be done"),
            ("[attention]\nlayers = -1\n", "line 2"),
            ("color = \"green\"\n", "unknown variant"),
            ("search =\n", "line 1"),
        ] {
            let told = file(text).unwrap_err();
            assert!(told.contains(why), "{text}: {told}");
        }
        assert!(read(folder.path()).unwrap_err().contains("no file"));
        let path = folder.path().join("zsap.toml");
        std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o666)).unwrap();
        assert!(read(&path).unwrap_err().contains("others may write"));
        assert_eq!(read(&folder.path().join("nothing")), Ok(None));
    }
}
