//! `zsap detach`.

use std::time::{Duration, Instant};

use zestful_sapling::ops::Plan;
use zestful_sapling_attach::{DetachError, Mode, detach};

use super::attachments::shown;
use crate::args::detach::Detach;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::Detached;
use crate::report::text;

const BETWEEN_TRIES: Duration = Duration::from_millis(500);

pub(super) fn run(console: &Console, typed: &Detach) -> Result<Outcome, Failure> {
    if console.common().plan {
        let step = format!("end what is attached as {}, once nobody uses it", typed.target.display());
        console.show_plan(&Plan::of("detach", vec![step]))?;
        return Ok(Outcome::Done);
    }
    let until = Instant::now() + Duration::from_secs(console.common().wait);
    let ended = loop {
        match detach(&typed.target, !typed.force.is_empty()) {
            Err(DetachError::InUse { .. }) if Instant::now() < until => std::thread::sleep(BETWEEN_TRIES),
            other => break other?,
        }
    };
    let place = ended.place.as_ref().map(shown).unwrap_or_default();
    let told = match ended.mode {
        Some(Mode::Writable) => "all that was written is durable",
        Some(Mode::Throwaway) => "what was written is forgotten",
        Some(Mode::ReadOnly) => "nothing was written",
        None => "its process was gone; what it had made durable is there",
    };
    let lines = [format!("detached {} from {place}: {told}", text::path(&typed.target))];
    console.answer(&Detached { detached: ended }, lines)?;
    Ok(Outcome::Done)
}
