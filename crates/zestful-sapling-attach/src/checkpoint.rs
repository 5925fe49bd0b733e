//! A checkpoint of a machine is taken under those who use its disks.

use std::sync::Arc;
use std::time::Duration;

use zestful_sapling::chain::SharedDisk;
use zestful_sapling::grove::TakeCheckpoint;
use zestful_sapling::ops::{Operation, Planned};
use zestful_sapling::path_data::PathData;
use zestful_sapling::progress::Progress;
use zestful_sapling::{Error, Refusal};

use crate::control::{Answer, TakePlanned, TakeRequest};
use crate::event::Event;
use crate::opening::Opened;

/// Takes it, or tells what that would do.
pub(crate) fn answer(
    opened: &[Arc<Opened>],
    request: &TakeRequest,
    plan_only: bool,
    events: &(dyn Fn(Event) + Sync),
) -> Answer {
    let disks: Vec<Arc<SharedDisk>> = opened.iter().filter_map(|opened| opened.kept().cloned()).collect();
    let take = TakeCheckpoint::new(request.folder.to_path(), &request.name).with_note(&request.note).of_running(disks);
    let take = take.with_pause_at_most(Duration::from_millis(request.pause_at_most));
    let plan = match request.overrides.iter().copied().fold(take, Operation::with_override).plan() {
        Ok(plan) => plan,
        Err(error) => return not_taken(&error),
    };
    if plan_only {
        return Answer::Planned { plan: told(plan.summary()) };
    }
    let taken = plan.run(&Progress::new());
    // Where it failed half-way some of them may stand in new images as well.
    opened.iter().filter(|opened| opened.kept().is_some()).for_each(|opened| opened.has_switched());
    match taken {
        Ok(outcome) => {
            let (name, paused_milliseconds) = (outcome.name.clone(), outcome.paused_milliseconds);
            events(Event::CheckpointTaken { name, paused_milliseconds });
            Answer::Taken { outcome: Box::new(outcome) }
        }
        Err(error) => not_taken(&error),
    }
}

fn told(plan: &zestful_sapling::ops::Plan) -> TakePlanned {
    let paths = |paths: &[std::path::PathBuf]| paths.iter().map(|path| PathData::from(path.as_path())).collect();
    TakePlanned {
        steps: plan.steps.clone(),
        create: paths(&plan.files.create),
        change: paths(&plan.files.change),
        space: plan.peak_extra_space,
        warnings: plan.warnings.clone(),
    }
}

fn not_taken(error: &Error) -> Answer {
    let is_busy = matches!(error, Error::Refused(Refusal::InUse { .. }, _));
    Answer::NotTaken { family: error.family(), message: error.with_causes(), is_busy }
}
