//! How many columns there are to write in.

use std::io::IsTerminal;
use std::sync::OnceLock;

/// Text reads well in so many columns, however wide a terminal is.
const TEXT: usize = 100;
/// In fewer than these nothing can be told.
const LEAST: usize = 40;

/// Of a terminal its width, or what `COLUMNS` says; nothing where a program reads, which is shown everything.
fn given() -> Option<usize> {
    static GIVEN: OnceLock<Option<usize>> = OnceLock::new();
    *GIVEN.get_or_init(|| {
        let said =
            std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok()).filter(|columns| *columns > 0);
        let is_watched = std::io::stdout().is_terminal();
        let of_terminal = || is_watched.then(terminal_size::terminal_size).flatten();
        said.or_else(|| of_terminal().map(|(width, _)| usize::from(width.0))).map(|columns| columns.max(LEAST))
    })
}

/// For text, which is broken between words.
pub(crate) fn of_text() -> usize {
    given().unwrap_or(TEXT).min(TEXT)
}

/// For tables, of which columns are left out where it is narrow; `None` where nothing has to fit.
pub(crate) fn of_tables() -> Option<usize> {
    given()
}
