//! Paths inside a volume.

use std::fmt;

use crate::error::{Error, Result};

/// A path inside a volume: names between slashes, from its root on. Names are bytes; what guests write need not be
/// Unicode.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct InnerPath(Vec<u8>);

impl InnerPath {
    /// The root of a volume.
    pub fn root() -> Self {
        Self(b"/".to_vec())
    }

    /// A path as somebody types it. Slashes that say nothing are left out.
    ///
    /// # Errors
    /// `Usage` when it does not begin with a slash, or has a name that no file has: `.`, `..`, or one with a zero byte.
    pub fn parse(typed: &[u8]) -> Result<Self> {
        let wrong = |why: &str| {
            let typed = String::from_utf8_lossy(typed);
            Err(Error::usage(format!("{typed} is no path inside a volume: {why}"), "begin with /, such as /etc/hosts"))
        };
        if !typed.starts_with(b"/") {
            return wrong("it does not begin with a slash");
        }
        let mut path = Self::root();
        for name in typed.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            if !is_name(name) {
                return wrong("no file has such a name");
            }
            path = path.join(name);
        }
        Ok(path)
    }

    /// What has this name in the folder of this path.
    pub(super) fn join(&self, name: &[u8]) -> Self {
        let mut path = self.0.clone();
        if path != b"/" {
            path.push(b'/');
        }
        path.extend(name);
        Self(path)
    }

    /// Its names, from the root on.
    pub fn names(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        self.0.split(|byte| *byte == b'/').filter(|name| !name.is_empty())
    }

    /// Its last name; none of the root.
    pub fn name(&self) -> Option<&[u8]> {
        self.names().next_back()
    }

    /// The folder that it lies in; the root of the root.
    pub fn parent(&self) -> Self {
        let mut names = self.names();
        names.next_back();
        names.fold(Self::root(), |path, name| path.join(name))
    }

    /// The names that lead from `above` to it; none when it does not lie there.
    pub fn below<'a>(&'a self, above: &Self) -> Option<impl Iterator<Item = &'a [u8]>> {
        let rest = self.0.strip_prefix(&above.0[..])?;
        let is_below = rest.is_empty() || rest.starts_with(b"/") || above.0 == b"/";
        is_below.then(|| rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()))
    }

    /// Its bytes.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Display for InnerPath {
    /// What is no Unicode in it is shown as `\u{FFFD}`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&String::from_utf8_lossy(&self.0))
    }
}

/// Whether a file can have this name.
pub(super) fn is_name(name: &[u8]) -> bool {
    !name.is_empty() && name != b"." && name != b".." && !name.contains(&b'/') && !name.contains(&0)
}
