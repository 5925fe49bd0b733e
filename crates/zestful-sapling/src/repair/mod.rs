//! What can be mended: work that was cut short is carried on, or given up.

mod resume;

pub use resume::{Abandon, AbandonPlan, Abandoned, OverOutcome, Resume, ResumePlan, Resumed};
