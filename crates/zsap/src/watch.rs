//! Long work: a bar after half a second, and an end on request.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use zestful_sapling::error::Refusal;
use zestful_sapling::progress::Progress;
use zestful_sapling::{Error, Result};

use crate::console::Console;
use crate::settings;

const PATIENCE: Duration = Duration::from_millis(500);
const TICK: Duration = Duration::from_millis(100);

/// Whether an interrupt or a polite kill has come.
static ASKED: AtomicBool = AtomicBool::new(false);
/// What it stops.
static CURRENT: OnceLock<Mutex<Arc<Progress>>> = OnceLock::new();
/// What else it ends.
static ENDED: OnceLock<Box<dyn Fn(bool) + Send + Sync>> = OnceLock::new();

/// Has an interrupt or a polite kill end something that is no work with a progress, such as a server. It is told
/// whether that came again; then the program ends when it returns.
pub(crate) fn on_stop(end: impl Fn(bool) + Send + Sync + 'static) {
    _ = ENDED.set(Box::new(end));
    stoppable();
    // One that came just before is not lost.
    if ASKED.load(Ordering::Relaxed)
        && let Some(end) = ENDED.get()
    {
        end(false);
    }
}

/// From now on an interrupt or a polite kill is noted for [`on_stop`], and does not end the program between two steps.
pub(crate) fn note_stops() {
    _ = stoppable();
}

/// Whether an interrupt or a polite kill has come.
pub(crate) fn is_stopped() -> bool {
    ASKED.load(Ordering::Relaxed)
}

/// The progress that an interrupt or a polite kill stops; a second one ends the program at once.
fn stoppable() -> Arc<Progress> {
    let progress = Arc::new(Progress::new());
    let current = CURRENT.get_or_init(|| {
        // Without a handler an interrupt ends the program, which is safe as well.
        _ = ctrlc::set_handler(move || {
            if ASKED.swap(true, Ordering::Relaxed) {
                if let Some(end) = ENDED.get() {
                    end(true);
                }
                std::process::exit(130);
            }
            if let Some(current) = CURRENT.get() {
                current.lock().unwrap_or_else(PoisonError::into_inner).stop();
            }
            if let Some(end) = ENDED.get() {
                end(false);
            }
        });
        Mutex::new(progress.clone())
    });
    *current.lock().unwrap_or_else(PoisonError::into_inner) = progress.clone();
    progress
}

/// Runs `work`, showing how far it is.
pub(crate) fn run<T>(console: &Console, work: impl FnOnce(&Progress) -> Result<T>) -> Result<T> {
    let progress = stoppable();
    if let Some(limit) = console.common().rate_limit.or(settings::current().settings.rate_limit) {
        progress.set_rate_limit(limit);
    }
    if !console.shows_bars() && !console.tells_progress() {
        return work(&progress);
    }
    let finished = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| match console.tells_progress() {
            true => tell(console, &progress, &finished),
            false => show(&progress, &finished),
        });
        let result = work(&progress);
        finished.store(true, Ordering::Relaxed);
        result
    })
}

/// A line for a script whenever something has happened, and one at the end.
fn tell(console: &Console, progress: &Progress, finished: &AtomicBool) {
    let mut told = None;
    loop {
        let is_last = finished.load(Ordering::Relaxed);
        let now = progress.read();
        if !now.what.is_empty() && told.as_ref() != Some(&now) {
            told = Some(now.clone());
            console.advanced(now);
        }
        if is_last {
            return;
        }
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until && !finished.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

fn show(progress: &Progress, finished: &AtomicBool) {
    let started = Instant::now();
    let mut bar: Option<ProgressBar> = None;
    while !finished.load(Ordering::Relaxed) {
        std::thread::sleep(TICK.min(PATIENCE));
        let now = progress.read();
        if started.elapsed() < PATIENCE || now.what.is_empty() {
            continue;
        }
        let bar = bar.get_or_insert_with(|| {
            let bar = ProgressBar::with_draw_target(Some(now.total), ProgressDrawTarget::stderr());
            let with_total =
                "{msg}  [{wide_bar}] {binary_bytes} of {binary_total_bytes}, {binary_bytes_per_sec}, {eta} left";
            let template = match (now.total, now.done) {
                // What is not counted.
                (0, 0) => "{msg}",
                (0, _) => "{msg}  {binary_bytes}, {binary_bytes_per_sec}",
                _ => with_total,
            };
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.progress_chars("=> "));
            }
            bar
        });
        bar.set_message(now.what);
        bar.set_position(now.done);
    }
    if let Some(bar) = bar {
        bar.finish_and_clear();
    }
}

/// Tries again for as long as `--wait` allows while another process holds the image.
pub(crate) fn patiently<T>(console: &Console, mut attempt: impl FnMut() -> Result<T>) -> Result<T> {
    let until = Instant::now() + Duration::from_secs(console.common().wait);
    loop {
        match attempt() {
            Err(Error::Refused(Refusal::InUse { .. }, _)) if is_stopped() => {
                return Err(Error::Cancelled);
            }
            Err(Error::Refused(Refusal::InUse { .. }, _)) if Instant::now() < until => std::thread::sleep(TICK),
            other => return other,
        }
    }
}
