//! What can be mended: a damaged image is put right, a repair taken back, and what can be read saved; work that was cut
//! short is carried on, or given up.

mod apply;
mod draft;
mod impact;
mod lenient;
mod mend;
mod parents;
mod resume;
mod salvage;
mod undo;

pub use draft::RepairStep;
pub use impact::{LossImpact, impact_of_losses};
pub use mend::{Repair, RepairOutcome, RepairPlan};
pub use resume::{Abandon, AbandonPlan, Abandoned, OverOutcome, RepairOver, Resume, ResumePlan, Resumed};
pub use salvage::{Salvage, SalvageOutcome, SalvagePlan, SalvagedLayer};
pub use undo::{UndoRepair, UndoRepairOutcome, UndoRepairPlan};
