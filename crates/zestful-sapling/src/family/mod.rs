//! Who depends on whom, and what speaks against a change.
//!
//! A parent's file knows nothing of its children. What is known of them stands in its companion, in the files of its
//! folder, and wherever a search leads; [`children_of`] brings that together. [`Guard`] is what every change asks
//! before it begins: the children, the pin, the work that is under way, whoever has a file open for writing, and
//! second names of a file. It is asked while the files are locked, and the locks are kept until the change is done.

mod children;
mod facts;
mod guard;
mod health;
mod overrides;
mod record;
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
pub(crate) use facts::pin_state;
pub use facts::{LogReport, ParentReport, ParentState, PlaceReport, Report, inspect, inspect_folder};
pub use guard::Guard;
pub(crate) use guard::{OpenForWriting, needed_by, parent_beside, refuse_link};
pub use health::{Health, Problem, ProblemKind};
pub use overrides::Override;
pub(crate) use record::record_children;
pub use search::Search;
pub(crate) use search::with_identity;
pub use status::{CurrentDisk, Held, OldestFrozen, Status, status_of};
pub use totals::Totals;
pub use tree::{Family, Node, Role};
pub(crate) use unfinished::journals_in;
pub use unfinished::{UnderWay, UnderWayState, unfinished_in};
