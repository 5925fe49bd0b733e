//! Who is at work at places of an image's file that may be given back meanwhile.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Readers and writers that have asked where something stands, and are there now.
///
/// Whoever gives a place back makes it unknown first, and then begins a new generation: once all visitors of the older
/// ones have left, nobody can be at the place any more.
#[derive(Debug, Default)]
pub(super) struct Visitors {
    generations: Mutex<Generations>,
}

#[derive(Debug, Default)]
struct Generations {
    /// The number of the first one that is counted.
    first: u64,
    /// Visitors of each, the present one last; there is at least one once somebody came.
    inside: VecDeque<usize>,
}

/// A visit, until it is dropped: no place that an image named meanwhile is used for anything else.
#[derive(Debug)]
pub struct Visit<'a> {
    of: Option<(&'a Visitors, u64)>,
}

impl Visit<'_> {
    /// Of an image that gives no place back.
    pub(crate) fn free() -> Self {
        Self { of: None }
    }
}

impl Visitors {
    fn lock(&self) -> MutexGuard<'_, Generations> {
        self.generations.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn enter(&self) -> Visit<'_> {
        let mut all = self.lock();
        let number = all.present();
        if let Some(count) = all.inside.back_mut() {
            *count = count.saturating_add(1);
        }
        Visit { of: Some((self, number)) }
    }

    /// Begins a new generation; returns the number of the one before.
    pub(super) fn turn_over(&self) -> u64 {
        let mut all = self.lock();
        let number = all.present();
        all.inside.push_back(0);
        all.tidy();
        number
    }

    /// Whether all visitors up to this generation have left.
    pub(super) fn have_left(&self, upto: u64) -> bool {
        self.lock().first > upto
    }
}

impl Generations {
    fn present(&mut self) -> u64 {
        if self.inside.is_empty() {
            self.inside.push_back(0);
        }
        self.first.saturating_add(crate::bytes::wide(self.inside.len())).saturating_sub(1)
    }

    /// Forgets the generations that nobody is of any more, but for the present one.
    fn tidy(&mut self) {
        while self.inside.len() > 1 && self.inside.front() == Some(&0) {
            self.inside.pop_front();
            self.first = self.first.saturating_add(1);
        }
    }
}

impl Drop for Visit<'_> {
    fn drop(&mut self) {
        let Some((visitors, number)) = self.of else { return };
        let mut all = visitors.lock();
        let place = crate::bytes::index(number.saturating_sub(all.first));
        if let Some(count) = all.inside.get_mut(place) {
            *count = count.saturating_sub(1);
        }
        all.tidy();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_generation_is_gone_when_its_last_visitor_is() {
        let visitors = Visitors::default();
        let first = visitors.enter();
        let second = visitors.enter();
        let old = visitors.turn_over();
        let later = visitors.enter();
        drop(first);
        assert!(!visitors.have_left(old));
        let middle = visitors.turn_over();
        drop(later);
        assert!(!visitors.have_left(old), "one of the first generation is still there");
        assert!(!visitors.have_left(middle), "a later one waits for those before");
        drop(second);
        assert!(visitors.have_left(middle));
        let empty = visitors.turn_over();
        assert!(visitors.have_left(empty), "nobody was there");
        assert!(!visitors.have_left(empty + 1), "the present one goes on");
    }
}
