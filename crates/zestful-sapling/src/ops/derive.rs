//! Differencing images, grown from a base.

use std::path::PathBuf;

use super::Plan;
use super::sapling::Sapling;
use crate::chain::{Chain, Companion, Disk, OpenOptions, identity_of, record_of, refuse_under_way};
use crate::error::{Error, Result};
use crate::image::format_of_name;
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::{StagedFile, is_marked_read_only, mark_read_only, refuse_existing};

/// Children to be grown from one base.
#[derive(Clone, Debug)]
pub struct Derive {
    base: PathBuf,
    children: Vec<PathBuf>,
    absolute: bool,
    block_size: Option<u64>,
}

impl Derive {
    /// These children of that base (any image that has an identity, itself a child or not).
    pub fn new(base: impl Into<PathBuf>, children: Vec<PathBuf>) -> Self {
        Self { base: base.into(), children, absolute: false, block_size: None }
    }

    /// Record the base's absolute path on this host as well; the relative one is always recorded.
    pub fn with_absolute(mut self, absolute: bool) -> Self {
        self.absolute = absolute;
        self
    }

    /// Another block size than the default.
    pub fn with_block_size(mut self, bytes: Option<u64>) -> Self {
        self.block_size = bytes;
        self
    }

    /// What growing them would do. The base is opened with its whole chain, so that no child is grown from a broken
    /// one, and stays locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the base is raw (it has no identity) or a name cannot be used; `Refused` when a child's file
    /// exists or the base is being written to; otherwise as [`Chain::open`].
    pub fn plan(self) -> Result<DerivePlan> {
        refuse_under_way(&self.base)?;
        let base = Chain::open(&self.base, &OpenOptions::new())?;
        let info = base.info().clone();
        identity_of(&self.base, &info)?;
        if self.children.is_empty() {
            return Err(Error::usage("no child was named", "name one file for each child"));
        }
        let mut plan = Plan { operation: "derive", ..Plan::default() };
        let already = is_marked_read_only(&self.base)?;
        if !already {
            plan.steps.push(format!("mark {} read-only on this host", self.base.display()));
            plan.files.change.push(self.base.clone());
        }
        let mut children = Vec::new();
        for child in &self.children {
            refuse_existing(child)?;
            if self.children.iter().filter(|other| *other == child).count() > 1 {
                return Err(Error::usage(
                    format!("{} is named twice", child.display()),
                    "give each child its own name",
                ));
            }
            if format_of_name(child) != Some(info.format) {
                return Err(Error::usage(
                    format!("{} does not end in .{}", child.display(), info.format),
                    format!("a child of a {0} image is a {0} image: name it so", info.format),
                ));
            }
            let record = record_of(child, &self.base, &info, self.absolute)?;
            let sapling = Sapling::new(info.format, &info, record, self.block_size)?;
            plan.steps.push(format!(
                "make {}: {}, differencing, {}, a child of {}",
                child.display(),
                info.format,
                format_size(info.virtual_size),
                self.base.display()
            ));
            plan.files.create.push(child.clone());
            plan.peak_extra_space += sapling.metadata_len()?;
            children.push((child.clone(), sapling));
        }
        plan.bytes_written = plan.peak_extra_space;
        plan.warn_of_growth(&self.children[0], info.virtual_size)?;
        Ok(DerivePlan { plan, base: self.base, children, _held: base })
    }
}

/// A checked plan to grow children.
pub struct DerivePlan {
    plan: Plan,
    base: PathBuf,
    children: Vec<(PathBuf, Sapling)>,
    /// Keeps the base and its parents locked against writers until the children are there.
    _held: Chain,
}

impl DerivePlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Marks the base read-only, makes the children, and notes them in the base's companion where that can be written. Each child appears whole and durable under its name or not at
    /// all; all of them are laid out before the first appears.
    ///
    /// # Errors
    /// `Refused` when something appeared at a child's place since, or too little space is left; `Io`, `Cancelled`.
    pub fn run(&self, progress: &Progress) -> Result<()> {
        Plan::require_space(&self.children[0].0, self.plan.peak_extra_space)?;
        let mut staged = Vec::new();
        for (child, sapling) in &self.children {
            progress.check()?;
            let file = StagedFile::create(child)?;
            sapling.create_in(&*file.storage())?;
            staged.push(file);
        }
        mark_read_only(&self.base)?;
        staged.into_iter().try_for_each(StagedFile::publish)?;
        let children: Vec<PathBuf> = self.children.iter().map(|(child, _)| child.clone()).collect();
        // Best effort: the children are there, whoever keeps count of them.
        _ = Companion::change_children(&self.base, &[], &children);
        Ok(())
    }
}
