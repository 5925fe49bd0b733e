//! Who depends on whom, and what speaks against a change.
//!
//! A parent's file knows nothing of its children. What is known of them stands in its companion, in the files of its
//! folder, and wherever a search leads; [`children_of`] brings that together. [`Guard`] is what every change asks
//! before it begins: the children, the pin, the work that is under way, whoever has a file open for writing, and
//! second names of a file. It is asked while the files are locked, and the locks are kept until the change is done.
//!
//! A folder at a glance, and its images with what grew from each:
//!
//! ```
//! use zestful_sapling::family::{Family, Node, status_of};
//! # use zestful_sapling::ops::{Derive, Make, Operation, Planned};
//! # use zestful_sapling::progress::Progress;
//!
//! fn tell(node: &Node) {
//!     println!("{}{}: {}", "  ".repeat(node.depth), node.path.display(), node.state);
//!     node.children.iter().for_each(tell);
//! }
//!
//! # fn main() -> zestful_sapling::Result<()> {
//! # let folder = tempfile::tempdir().unwrap();
//! # let (base, child) = (folder.path().join("fen-base.vhdx"), folder.path().join("germination-01.vhdx"));
//! # Make::new(&base, 1 << 30).plan()?.run(&Progress::new())?;
//! # Derive::new(&base, vec![child]).plan()?.run(&Progress::new())?;
//! # let folder = folder.path();
//! let status = status_of(folder)?;
//! println!("{}, {} images", status.state, status.images);
//! status.problems.iter().for_each(|problem| println!("{}", problem.message));
//!
//! let family = Family::of_folder(folder)?;
//! family.roots.iter().for_each(tell);
//! # assert_eq!((status.images, family.roots[0].children.len()), (2, 1));
//! # Ok(())
//! # }
//! ```

mod children;
mod facts;
mod find_parent;
mod folder;
mod folder_report;
mod guard;
mod health;
mod overrides;
mod parents;
mod pinned;
mod place;
mod record;
mod scatter;
mod search;
mod status;
mod survey;
mod totals;
mod tree;
mod unfinished;
mod writable;

pub use crate::sidecar::Work;
pub(crate) use children::children_of_each;
pub use children::{Children, UnknownChild, children_of};
pub use facts::{LogReport, Report, inspect};
pub(crate) use find_parent::find_parent;
pub use folder::Folder;
pub(crate) use folder::{Listing, is_gone};
pub use folder_report::FolderReport;
pub(crate) use folder_report::inspect_listing;
pub use guard::Guard;
pub(crate) use guard::{OpenForWriting, needed_by, parent_beside, refuse_link};
pub use health::{Health, Problem, ProblemKind};
pub use overrides::Override;
pub use parents::{ParentReport, ParentState};
pub(crate) use pinned::PinDoubts;
pub use place::PlaceReport;
pub(crate) use record::{must_record_children, record_children};
pub use scatter::Scatter;
pub use search::Search;
pub(crate) use status::status_with;
pub use status::{CurrentDisk, Held, OldestFrozen, Status, status_of};
pub use totals::Totals;
pub use tree::{Family, Node, Role};
pub(crate) use unfinished::journals_in;
pub use unfinished::{UnderWay, UnderWayState, unfinished_in};
