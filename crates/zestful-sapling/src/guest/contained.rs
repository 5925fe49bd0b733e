//! The crates that read file systems meet bytes that anybody may have made, and some of them panic on a few. Such a
//! panic ends here.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

thread_local! {
    static DEPTH: Cell<u32> = const { Cell::new(0) };
}

/// Whether this thread is inside of a call whose panic is caught and told as an error. For the panic hook of a program,
/// which need not print what its user will read elsewhere.
///
/// ```
/// let usual = std::panic::take_hook();
/// std::panic::set_hook(Box::new(move |panic| {
///     if !zestful_sapling::guest::catches_panics() {
///         usual(panic);
///     }
/// }));
/// ```
pub fn catches_panics() -> bool {
    DEPTH.get() > 0
}

/// Calls into a crate; what it says when it panics becomes the error. Whatever the call had in hand must not be used
/// after that.
pub(crate) fn contained<T>(call: impl FnOnce() -> T) -> Result<T, String> {
    DEPTH.set(DEPTH.get().saturating_add(1));
    let outcome = catch_unwind(AssertUnwindSafe(call));
    DEPTH.set(DEPTH.get().saturating_sub(1));
    outcome.map_err(|panic| {
        let text = panic.downcast_ref::<String>().cloned();
        text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_owned())).unwrap_or_default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[allow(clippy::panic, reason = "it is what is tested")]
    fn a_panic_becomes_an_error() {
        assert!(!catches_panics());
        assert_eq!(contained(|| assert!(catches_panics())), Ok(()));
        assert_eq!(contained(|| -> u8 { panic!("entry {} of 2", 3) }), Err("entry 3 of 2".to_owned()));
        assert!(!catches_panics());
    }
}
