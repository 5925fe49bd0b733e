//! What images are called, where they stand, and what they are known by.

mod identity;
mod move_image;
mod moving;
mod relink;
mod remove;
mod unfreeze;

pub use identity::{FreshIdentity, FreshIdentityOutcome, FreshIdentityPlan};
pub use move_image::{MoveImage, MovePlan};
pub use moving::MoveOutcome;
pub(crate) use moving::{carry_on as carry_on_move, give_up as give_up_move};
pub use relink::{Relink, RelinkOutcome, RelinkPlan};
pub use remove::{Remove, RemoveOutcome, RemovePlan};
pub use unfreeze::{Unfreeze, UnfreezeOutcome, UnfreezePlan};
