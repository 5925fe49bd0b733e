//! Files of FAT volumes.

use std::ops::Range;

use super::fat_deleted;
use super::system::{
    EntryKind, Facts, Item, Own, OwnTold, Place, Remains, System, Take, TakeOwn, TakePlace, TakeRemains, Visit, circle,
};
use crate::bytes::wide;
use crate::guest::fat::{FatEntry, FatVolume, Link, Root};
use crate::guest::trouble::Trouble;
use crate::guest::window::Window;

const PIECE: u64 = 1 << 20;

pub(super) struct Fat {
    pub(super) volume: FatVolume,
}

impl Fat {
    pub(super) fn open(window: Window) -> Result<Self, Trouble> {
        Ok(Self { volume: FatVolume::open(window)? })
    }
}

struct FatItem<'a> {
    entry: FatEntry,
    volume: &'a mut FatVolume,
}

impl Item for FatItem<'_> {
    fn name(&self) -> &[u8] {
        &self.entry.name
    }

    fn number(&self) -> u64 {
        self.entry.first
    }

    fn is_folder(&self) -> Option<bool> {
        Some(self.entry.is_folder)
    }

    fn record(&mut self) -> Option<Range<u64>> {
        Some(self.entry.place.clone())
    }

    fn mapping(&mut self) -> Result<Vec<u8>, Trouble> {
        // The chain tells all of it.
        Ok(Vec::new())
    }

    fn facts(&mut self) -> Result<Facts, Trouble> {
        let is_folder = self.entry.is_folder;
        let kind = if is_folder { EntryKind::Folder } else { EntryKind::File };
        let size = (!is_folder).then_some(self.entry.len);
        let permissions = self.entry.is_read_only.then_some(if is_folder { 0o555 } else { 0o444 });
        Ok(Facts { kind, size, allocated: size, modified: self.entry.modified, permissions })
    }

    fn target(&mut self) -> Result<Vec<u8>, Trouble> {
        Err(Trouble::Damaged("FAT has no links".to_owned()))
    }

    fn places(&mut self, take: &mut TakePlace<'_>) -> Result<(), Trouble> {
        if self.entry.first == 0 && self.entry.len == 0 {
            return Ok(());
        }
        self.volume.chain(self.entry.first, &mut |volume, _, run| {
            let layout = volume.layout();
            take(layout.place(run.start)..layout.place(run.end))?;
            Ok(true)
        })
    }

    fn content(&mut self, take: &mut Take<'_>) -> Result<(), Trouble> {
        let (len, mut done) = (self.entry.len, 0);
        if len == 0 {
            return Ok(());
        }
        let mut buffer = Vec::new();
        let walked = self.volume.chain(self.entry.first, &mut |volume, within, run| {
            let cluster = volume.layout().cluster;
            let (mut at, mut place) = (within * cluster, volume.layout().place(run.start));
            let end = (at + (run.end - run.start) * cluster).min(len);
            while at < end {
                buffer.resize(PIECE.min(end - at) as usize, 0);
                volume.content_at(&mut buffer, place)?;
                take(at, &buffer)?;
                (at, place) = (at + wide(buffer.len()), place + wide(buffer.len()));
            }
            done = end;
            Ok(end < len)
        });
        // What comes behind its end is nothing to the file.
        match walked {
            _ if done == len => Ok(()),
            Ok(()) => Err(Trouble::Damaged("its chain of clusters ends before the file does".to_owned())),
            Err(trouble) => Err(trouble),
        }
    }
}

impl System for Fat {
    fn root(&self) -> u64 {
        0
    }

    fn each(
        &mut self,
        folder: &Place,
        enter: &mut dyn FnMut(u64) -> bool,
        visit: &mut Visit<'_>,
    ) -> Result<(), Trouble> {
        if !enter(self.volume.folder_start(folder.number)) {
            return Err(circle());
        }
        self.volume.entries(folder.number, &mut |volume, entry| visit(&mut FatItem { entry, volume }))
    }

    fn ignores_case(&self) -> bool {
        true
    }

    fn has_links(&self) -> bool {
        false
    }

    fn len(&self) -> u64 {
        self.volume.end()
    }

    fn own(&mut self, _: &mut dyn FnMut(u64) -> bool, take: &mut TakeOwn<'_>) {
        let layout = self.volume.layout().clone();
        let table =
            |number: u64| layout.table + number * layout.table_len..layout.table + (number + 1) * layout.table_len;
        let mut going_on = true;
        let mut tell = |told: OwnTold| {
            going_on = going_on && take(told);
            going_on
        };
        let mut structure = |name: &'static str, place: Range<u64>| {
            tell(OwnTold::Of(Own::Structure(name)));
            tell(OwnTold::Place(place))
        };
        structure("boot area", 0..layout.table);
        structure("table of clusters", table(0));
        if layout.tables > 1 {
            structure("second table of clusters", table(1));
        }
        let place = |run: Range<u64>| layout.place(run.start)..layout.place(run.end);
        tell(OwnTold::Of(Own::Root));
        match &layout.root {
            Root::Fixed(place) => _ = tell(OwnTold::Place(place.clone())),
            Root::Chain(first) => {
                let walked =
                    self.volume.chain(u64::from(*first), &mut |_, _, run| Ok(tell(OwnTold::Place(place(run)))));
                walked.err().into_iter().for_each(|trouble| _ = tell(OwnTold::Doubt(trouble)));
            }
        }
        tell(OwnTold::Of(Own::Structure("bad clusters")));
        let walked = self.volume.marked(Link::Bad, layout.numbers(), &mut |run| {
            tell(OwnTold::Place(place(run)));
        });
        walked.err().into_iter().for_each(|trouble| _ = tell(OwnTold::Doubt(trouble)));
    }

    fn free(&mut self, within: Range<u64>, take: &mut dyn FnMut(Range<u64>)) -> Result<(), Trouble> {
        let layout = self.volume.layout().clone();
        let number = |at: u64| at.saturating_sub(layout.data) / layout.cluster + 2;
        let last = number((within.end + layout.cluster).saturating_sub(1));
        self.volume.marked(Link::Free, number(within.start)..last, &mut |run| {
            let place = layout.place(run.start).max(within.start)..layout.place(run.end).min(within.end);
            if !place.is_empty() {
                take(place);
            }
        })
    }

    fn deleted(&mut self, take: &mut TakeRemains<'_>) -> Result<(), Trouble> {
        fat_deleted::all(&mut self.volume, take)
    }

    fn deleted_content(&mut self, remains: &Remains, take: &mut Take<'_>) -> Result<(), Trouble> {
        fat_deleted::content(&mut self.volume, remains, take)
    }

    fn vouch_for_free(&mut self) -> Result<(), Trouble> {
        self.volume.refuse_other_tables()
    }
}
