//! Many images at once, and all of a folder.

use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use super::chain;
use super::file::Files;
use super::report::CheckReport;
use crate::error::{Error, Result};
use crate::family::{Folder, PinDoubts};
use crate::image::Format;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;

/// Threads that check at the same time: more wait for one disk.
const MOST_WORKERS: usize = 8;

/// Images, and folders whose images are meant, to be verified at once. A file that several read through is looked at
/// once. One that cannot be read does not take the others with it.
#[derive(Clone, Debug, Default)]
pub struct CheckAll {
    paths: Vec<PathBuf>,
    below: bool,
    data: bool,
    format: Option<Format>,
}

impl CheckAll {
    /// These images, and the images in these folders.
    pub fn new(paths: Vec<PathBuf>) -> Self {
        Self { paths, ..Self::default() }
    }

    /// Also the images in all folders below the folders.
    pub fn with_folders_below(mut self, below: bool) -> Self {
        self.below = below;
        self
    }

    /// Also reads all content, as [`Check`](super::Check) does.
    pub fn with_data(mut self, data: bool) -> Self {
        self.data = data;
        self
    }

    /// The format of the images that are named, whatever their signatures say.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

impl Operation for CheckAll {
    type Planned = CheckAllPlan;

    /// What verifying would read.
    ///
    /// # Errors
    /// `Io` when a folder cannot be read.
    fn plan(self) -> Result<Self::Planned> {
        let mut plan = Plan { operation: "check", ..Plan::default() };
        let mut images = Vec::new();
        for path in &self.paths {
            match path.is_dir() {
                true => {
                    let listing = Folder::from(path).with_folders_below(self.below).list()?;
                    images.extend(listing.images.into_iter().map(|image| (image, None)));
                }
                false => images.push((path.clone(), self.format)),
            }
        }
        let step = |image: &PathBuf| format!("verify {} and all that it reads through", image.display());
        plan.steps.extend(images.iter().map(|(image, _)| step(image)));
        Ok(CheckAllPlan { plan, images, data: self.data })
    }
}

/// A plan to verify many images.
pub struct CheckAllPlan {
    plan: Plan,
    images: Vec<(PathBuf, Option<Format>)>,
    data: bool,
}

/// What became of each image, in the order in which they were named.
#[derive(Debug)]
#[non_exhaustive]
pub struct CheckedAll {
    /// What was found.
    pub checked: Vec<CheckReport>,
    /// Images that could not be checked, and why.
    pub failed: Vec<(PathBuf, Error)>,
}

impl Planned for CheckAllPlan {
    type Outcome = CheckedAll;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Verifies all of them. Damage is a finding, and an image that cannot be read one of those that failed.
    ///
    /// # Errors
    /// `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let files = Files::new(self.data);
        if let [(image, format)] = &self.images[..] {
            let one = chain::check(image, *format, &files, &mut PinDoubts::default(), progress);
            return self.sorted(vec![(0, one)]);
        }
        let len_of = |image: &PathBuf| std::fs::metadata(image).map_or(0, |found| found.len());
        let total = self.images.iter().map(|(image, _)| len_of(image)).sum();
        progress.begin(format!("checking {} images", self.images.len()), total);
        let workers =
            std::thread::available_parallelism().map_or(1, usize::from).min(MOST_WORKERS).min(self.images.len());
        let (next, found) = (AtomicUsize::new(0), Mutex::new(Vec::new()));
        let work = || {
            // How far one image is says nothing beside the others.
            let (own, mut doubts) = (progress.part(workers as u64), PinDoubts::default());
            while progress.check().is_ok() {
                let number = next.fetch_add(1, Ordering::Relaxed);
                let Some((image, format)) = self.images.get(number) else { break };
                let one = chain::check(image, *format, &files, &mut doubts, &own);
                found.lock().unwrap_or_else(PoisonError::into_inner).push((number, one));
                progress.advance(len_of(image));
            }
        };
        std::thread::scope(|scope| {
            (0..workers).for_each(|_| _ = scope.spawn(work));
        });
        progress.check()?;
        self.sorted(found.into_inner().unwrap_or_else(PoisonError::into_inner))
    }
}

impl CheckAllPlan {
    fn sorted(&self, mut found: Vec<(usize, Result<CheckReport>)>) -> Result<CheckedAll> {
        found.sort_by_key(|(number, _)| *number);
        let mut all = CheckedAll { checked: Vec::new(), failed: Vec::new() };
        for (number, one) in found {
            match one {
                Ok(report) => all.checked.push(report),
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(error) => all.failed.push((self.images[number].0.clone(), error)),
            }
        }
        Ok(all)
    }
}
