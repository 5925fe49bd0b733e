//! Two disks that are compared: two images, or a disk of a machine at two moments.

use std::path::PathBuf;

use clap::Args as ArgGroup;
use zestful_sapling::Error;

use super::disk::image;

#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct TwoDisks {
    /// One image; or the folder of a machine, of which a disk is compared with itself at a checkpoint
    pub(crate) one: PathBuf,
    /// The other
    #[arg(required_unless_present = "checkpoint", conflicts_with = "checkpoint")]
    pub(crate) other: Option<PathBuf>,
    /// Of the machine in that folder, the disk with this label; the only one need not be named
    #[arg(long, value_name = "LABEL")]
    pub(crate) disk: Option<String>,
    /// The disk at this checkpoint, against another checkpoint or the present; may be given twice
    #[arg(long, value_name = "NAME")]
    pub(crate) checkpoint: Vec<String>,
}

impl TwoDisks {
    /// The images that are meant, the older one first where both are of a machine.
    pub(crate) fn images(&self) -> Result<(PathBuf, PathBuf), Error> {
        let disk = self.disk.as_deref();
        let at = |checkpoint: Option<&String>| image(&self.one, disk, checkpoint.map(String::as_str));
        match (&self.other, &*self.checkpoint) {
            (Some(other), _) => {
                // An image may be set beside a disk of a machine.
                let none_is_folder = !self.one.is_dir() && !other.is_dir();
                let of = |path: &PathBuf| match path.is_dir() || none_is_folder {
                    true => image(path, disk, None),
                    false => Ok(path.clone()),
                };
                Ok((of(&self.one)?, of(other)?))
            }
            (None, [one]) => Ok((at(Some(one))?, at(None)?)),
            (None, [one, other]) => Ok((at(Some(one))?, at(Some(other))?)),
            (None, _) => Err(Error::usage("a disk is compared at one or two checkpoints", "leave the others out")),
        }
    }
}
