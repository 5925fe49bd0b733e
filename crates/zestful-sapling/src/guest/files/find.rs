//! Which files are wanted.

use globset::{GlobBuilder, GlobMatcher};
use jiff::Timestamp;

use super::path::InnerPath;
use super::tree::FileTree;
use super::walk::{Entry, Walked};
use crate::error::{Error, Result};

/// What is looked for in a volume.
///
/// A pattern has `*` and `?` for what a name may hold, `[a-f]`, `{conf,cfg}`, and, where it holds a slash, is compared
/// with the whole path, in which `**` stands for any folders. The case of letters counts where it counts in the volume.
#[derive(Clone, Debug)]
pub struct Wanted {
    pattern: String,
    newer: Option<Timestamp>,
    larger: Option<u64>,
}

impl Wanted {
    /// Everything whose name, or path, is of this pattern.
    ///
    /// # Errors
    /// `Usage` when it is none.
    pub fn parse(pattern: &str) -> Result<Self> {
        let wanted = Self { pattern: pattern.to_owned(), newer: None, larger: None };
        wanted.matcher(false)?;
        Ok(wanted)
    }

    /// Only what was changed after this moment.
    pub fn with_newer(mut self, than: Timestamp) -> Self {
        self.newer = Some(than);
        self
    }

    /// Only files of more bytes.
    pub fn with_larger(mut self, than: u64) -> Self {
        self.larger = Some(than);
        self
    }

    fn is_of_path(&self) -> bool {
        self.pattern.contains('/')
    }

    fn matcher(&self, ignore_case: bool) -> Result<GlobMatcher> {
        let mut builder = GlobBuilder::new(&self.pattern);
        let glob = builder.literal_separator(true).case_insensitive(ignore_case).build();
        glob.map(|glob| glob.compile_matcher()).map_err(|error| {
            Error::usage(
                format!("{} is no pattern: {}", self.pattern, error.kind()),
                "such as *.conf, or /etc/**/*.conf",
            )
        })
    }

    fn fits(&self, matcher: &GlobMatcher, entry: &Entry) -> bool {
        use std::ffi::OsStr;
        use std::os::unix::ffi::OsStrExt;
        let text = if self.is_of_path() { Some(entry.path.as_bytes()) } else { entry.path.name() };
        text.is_some_and(|text| matcher.is_match(OsStr::from_bytes(text)))
            && self.newer.is_none_or(|than| entry.modified.is_some_and(|modified| modified > than))
            && self.larger.is_none_or(|than| entry.size.is_some_and(|size| size > than))
    }
}

impl FileTree {
    /// Goes over all that is wanted in the volume, as [`FileTree::list`] does.
    ///
    /// # Errors
    /// As [`FileTree::list`].
    pub fn find(&mut self, wanted: &Wanted, visit: &mut dyn FnMut(&Entry) -> Result<bool>) -> Result<Walked> {
        let matcher = wanted.matcher(self.system().ignores_case())?;
        self.list(&InnerPath::root(), true, &mut |entry| {
            if wanted.fits(&matcher, entry) { visit(entry) } else { Ok(true) }
        })
    }
}
