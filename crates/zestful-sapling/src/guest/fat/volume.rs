//! A FAT volume: its table, its chains of clusters.

use std::ops::Range;

use super::boot::{Layout, Root, entry};
use crate::guest::row::Row;
use crate::guest::trouble::Trouble;
use crate::guest::window::Window;

/// Of a table so much is looked at at once: whole entries of every length.
const PIECE: u64 = 48 << 10;

/// What the table says of a cluster.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::guest) enum Link {
    Free,
    Next(u64),
    End,
    /// Not to be used.
    Bad,
    /// Nothing that there is.
    Astray(u64),
}

/// A volume, opened.
pub(in crate::guest) struct FatVolume {
    pub(super) window: Window,
    layout: Layout,
}

/// Takes clusters that follow each other: the first, counted in the file; the first, counted on the volume; how many.
pub(in crate::guest) type TakeClusters<'a> = dyn FnMut(&mut FatVolume, u64, Range<u64>) -> Result<bool, Trouble> + 'a;

impl FatVolume {
    pub(in crate::guest) fn open(mut window: Window) -> Result<Self, Trouble> {
        let damaged = |what: &str| Trouble::Damaged(what.to_owned());
        let head = window.bytes(0, 512)?;
        let layout = Layout::of(&head).ok_or_else(|| damaged("the boot sector contradicts itself"))?;
        if layout.clusters == 0 || layout.used_table() > layout.table_len || layout.place(2) > window.len() {
            return Err(damaged("the boot sector says that there is less room than clusters"));
        }
        Ok(Self { window, layout })
    }

    pub(in crate::guest) fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The first byte behind the last cluster.
    pub(in crate::guest) fn end(&self) -> u64 {
        self.layout.place(self.layout.clusters + 2)
    }

    /// Bytes of the volume, which all lie inside.
    pub(in crate::guest) fn read_at(&mut self, buffer: &mut [u8], at: u64) -> Result<(), Trouble> {
        self.window.read_at(buffer, at)
    }

    /// The same of what a file holds, of which there is as much as its entry says: whoever asked for it gets it all.
    pub(in crate::guest) fn content_at(&mut self, buffer: &mut [u8], at: u64) -> Result<(), Trouble> {
        self.window.patience().renew();
        self.window.read_at(buffer, at)
    }

    fn link(&mut self, number: u64) -> Result<Link, Trouble> {
        let bits = self.layout.bits();
        let first = if bits == 12 { number / 2 * 3 } else { number * bits / 8 };
        let len = if bits == 12 { 3 } else { bits / 8 };
        let bytes = self.window.bytes(self.layout.table + first, len)?;
        Ok(self.told(entry(&bytes, if bits == 12 { number % 2 } else { 0 }, bits)))
    }

    fn told(&self, value: u32) -> Link {
        // The upper values mean the same in each length.
        let most = u32::MAX >> (32 - self.layout.bits().min(28));
        match value {
            0 => Link::Free,
            value if value >= most - 7 => Link::End,
            value if value == most - 8 => Link::Bad,
            value if self.layout.numbers().contains(&u64::from(value)) => Link::Next(u64::from(value)),
            value => Link::Astray(u64::from(value)),
        }
    }

    /// The clusters of a chain, run by run, until it ends or `take` has enough. A chain that leads to a cluster that is
    /// free, bad or none, or that comes back to itself, ends with that, after what came before it.
    pub(in crate::guest) fn chain(&mut self, first: u64, take: &mut TakeClusters<'_>) -> Result<(), Trouble> {
        let damaged = |what: String| Err(Trouble::Damaged(what));
        if !self.layout.numbers().contains(&first) {
            return damaged(format!("a chain of clusters would begin with cluster {first}"));
        }
        let patience = self.window.patience();
        let (mut run, mut within, mut left) = (first..first + 1, 0, self.layout.clusters);
        loop {
            patience.renew();
            let link = self.link(run.end - 1)?;
            left = left.saturating_sub(1);
            match link {
                Link::Next(next) if next == run.end && left > 0 => run.end += 1,
                Link::Next(next) if left > 0 => {
                    let len = run.end - run.start;
                    if !take(self, within, run)? {
                        return Ok(());
                    }
                    (run, within) = (next..next + 1, within + len);
                }
                other => {
                    let last = run.end - 1;
                    if !take(self, within, run)? {
                        return Ok(());
                    }
                    return match other {
                        Link::End => Ok(()),
                        Link::Free => damaged(format!("cluster {last} of a chain leads to none: the table says free")),
                        Link::Bad => damaged(format!("cluster {last} of a chain is marked as bad")),
                        Link::Astray(to) => damaged(format!("cluster {last} of a chain leads to cluster {to}")),
                        Link::Next(_) => damaged("a chain of clusters comes back to itself".to_owned()),
                    };
                }
            }
        }
    }

    /// Calls `take` with what the table marks so of a range of clusters, upwards.
    pub(in crate::guest) fn marked(
        &mut self,
        wanted: Link,
        within: Range<u64>,
        take: &mut dyn FnMut(Range<u64>),
    ) -> Result<(), Trouble> {
        let bits = self.layout.bits();
        let per_piece = PIECE * 8 / bits;
        let numbers = self.layout.numbers();
        let (mut at, end) = (within.start.max(numbers.start), within.end.min(numbers.end));
        let (patience, mut row) = (self.window.patience(), Row::default());
        while at < end {
            let first = at / per_piece * per_piece;
            let stop = (first + per_piece).min(end);
            patience.renew();
            // Only the entries that are wanted, from an even one on: two share three bytes at most.
            let even = at & !1;
            let from = even * bits / 8;
            let bytes = self.window.bytes(self.layout.table + from, (stop * bits).div_ceil(8) - from)?;
            for number in at..stop {
                let is_so = self.told(entry(&bytes, number - even, bits)) == wanted;
                row.see(number..number + 1, is_so, take);
            }
            at = stop;
        }
        row.end(take);
        Ok(())
    }

    /// Refuses tables of which the second says something else.
    pub(in crate::guest) fn refuse_other_tables(&mut self) -> Result<(), Trouble> {
        let Layout { table, table_len, tables, .. } = self.layout;
        let (used, patience) = (self.layout.used_table(), self.window.patience());
        for at in (0..used).step_by(PIECE as usize) {
            patience.renew();
            let len = PIECE.min(used - at);
            let one = self.window.bytes(table + at, len)?;
            if tables == 2 && one != self.window.bytes(table + table_len + at, len)? {
                return Err(Trouble::Damaged("the two tables of clusters differ".to_owned()));
            }
        }
        Ok(())
    }

    /// Where the pieces of a folder are, in bytes.
    pub(super) fn folder_places(&mut self, folder: u64, most: u64) -> Result<Places, Trouble> {
        let first = match (folder, &self.layout.root) {
            (0, Root::Fixed(place)) => return Ok((vec![place.clone()], None)),
            (0, Root::Chain(first)) => u64::from(*first),
            (first, _) => first,
        };
        let (mut places, mut len) = (Vec::new(), 0);
        let walked = self.chain(first, &mut |volume, _, run| {
            let layout = &volume.layout;
            places.push(layout.place(run.start)..layout.place(run.start) + (run.end - run.start) * layout.cluster);
            len += (run.end - run.start) * layout.cluster;
            Ok(len < most)
        });
        match walked {
            Err(Trouble::Failed(error)) => Err(Trouble::Failed(error)),
            other => Ok((places, other.err())),
        }
    }

    /// The byte that a folder begins with, which tells it from all others.
    pub(in crate::guest) fn folder_start(&self, folder: u64) -> u64 {
        match (folder, &self.layout.root) {
            (0, Root::Fixed(place)) => place.start,
            (0, Root::Chain(first)) => u64::from(*first),
            (first, _) => first,
        }
    }
}

/// What there is of a chain, and what ended it before its end.
type Places = (Vec<Range<u64>>, Option<Trouble>);
