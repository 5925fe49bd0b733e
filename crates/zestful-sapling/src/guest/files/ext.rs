//! Files of ext2, ext3 and ext4.

use std::ops::Range;
use std::rc::Rc;

use super::system::{EntryKind, Facts, Item, Own, OwnTold, Place, System, TakeOwn, TakePlace, Visit, circle};
use crate::bytes::wide;
use crate::guest::ext::{ExtVolume, Inode, InodeKind, JournalState, NamedInode, Part, ROOM};
use crate::guest::trouble::Trouble;
use crate::guest::window::{Patience, Window};

const ROOT: u64 = 2;
/// Lower numbers are the file system's own.
const FIRST_OF_USERS: u32 = 11;
const PIECE: u64 = 1 << 20;
/// Hosts follow none that are longer.
const MOST_TARGET: u64 = 4096;

pub(super) struct Ext {
    volume: ExtVolume,
    patience: Rc<Patience>,
}

impl Ext {
    pub(super) fn open(window: Window) -> Result<Self, Trouble> {
        let patience = window.patience();
        Ok(Self { volume: crate::guest::ext::open(window)?, patience })
    }
}

impl Ext {
    /// What a group takes for itself, and what of its inodes no folder names; `false` when nothing more is wanted.
    fn own_of_group(&mut self, group: u64, is_met: &mut dyn FnMut(u64) -> bool, take: &mut TakeOwn<'_>) -> bool {
        let (unit, mut going_on) = (self.volume.block_len(), true);
        let mut told = |told: OwnTold| going_on = going_on && take(told);
        let own = self.volume.own_blocks(group, &mut |place, what| {
            told(OwnTold::Of(Own::Structure(what)));
            told(OwnTold::Place(place.start * unit..place.end * unit));
        });
        own.unwrap_or_else(|trouble| told(OwnTold::Doubt(trouble)));
        let inodes = self.volume.used_inodes(group).unwrap_or_else(|trouble| {
            told(OwnTold::Doubt(trouble));
            Vec::new()
        });
        for number in inodes.into_iter().filter(|number| !is_met(u64::from(*number))) {
            self.patience.renew();
            let own = match self.volume.own_inode(number) {
                Some(what) => Own::Structure(what),
                None if u64::from(number) == ROOT => Own::Root,
                None => Own::Nameless(format!("inode {number}, which no folder names")),
            };
            let is_room = own == Own::Structure(ROOM);
            told(OwnTold::Of(own));
            let mut count = 0;
            let inode = match self.volume.any_inode(number) {
                Ok(inode) => inode,
                // Reserved numbers are in use by nothing as a rule.
                Err(_) if number < FIRST_OF_USERS => continue,
                Err(trouble) => {
                    told(OwnTold::Doubt(trouble));
                    continue;
                }
            };
            let walked = places_of(&mut self.volume, &inode, &self.patience, &mut |place| {
                count += 1;
                // What that inode holds beside the first block of its map was told of its groups.
                if !is_room || count == 1 {
                    told(OwnTold::Place(place));
                }
                Ok(())
            });
            walked.unwrap_or_else(|trouble| told(OwnTold::Doubt(trouble)));
        }
        going_on
    }
}

struct ExtItem<'a> {
    volume: &'a mut ExtVolume,
    patience: &'a Patience,
    named: NamedInode,
    inode: Option<Inode>,
}

impl ExtItem<'_> {
    fn inode(&mut self) -> Result<Inode, Trouble> {
        if let Some(inode) = &self.inode {
            return Ok(inode.clone());
        }
        let inode = self.volume.inode(self.named.inode)?;
        self.inode = Some(inode.clone());
        Ok(inode)
    }

    fn read(&mut self, inode: &Inode, take: &mut super::system::Take<'_>) -> Result<(), Trouble> {
        inode.refuse_unreadable()?;
        if let Some(inline) = inode.inline() {
            let len = inline.len().min(usize::try_from(inode.size).unwrap_or(usize::MAX));
            return take(0, &inline[..len]);
        }
        let (unit, patience) = (self.volume.block_len(), self.patience);
        let mut buffer = Vec::new();
        self.volume.runs(inode, &mut |volume, run| {
            let (mut at, mut within) = (run.file_block * unit, 0);
            let end = ((run.file_block + run.count) * unit).min(inode.size);
            while at < end {
                buffer.resize((end - at).min(PIECE) as usize, 0);
                volume.read_data(&mut buffer, run.block + within / unit, within % unit)?;
                patience.renew();
                take(at, &buffer)?;
                (at, within) = (at + wide(buffer.len()), within + wide(buffer.len()));
            }
            Ok(())
        })
    }
}

/// All that an inode takes of the volume, beside itself.
fn places_of(
    volume: &mut ExtVolume,
    inode: &Inode,
    patience: &Patience,
    take: &mut TakePlace<'_>,
) -> Result<(), Trouble> {
    let unit = volume.block_len();
    if let Some(block) = volume.attribute_block(inode) {
        take(block * unit..(block + 1) * unit)?;
    }
    if inode.inline().is_some() || inode.kind == InodeKind::Other {
        return Ok(());
    }
    volume.parts(inode, &mut |part| match part {
        Part::Written(run) | Part::Reserved(run) => {
            patience.renew();
            take(run.block * unit..(run.block + run.count) * unit)
        }
        Part::Map(block) => take(block * unit..(block + 1) * unit),
    })
}

impl Item for ExtItem<'_> {
    fn name(&self) -> &[u8] {
        &self.named.name
    }

    fn number(&self) -> u64 {
        u64::from(self.named.inode)
    }

    fn is_folder(&self) -> Option<bool> {
        self.named.kind.map(|kind| kind == InodeKind::Folder)
    }

    fn record(&mut self) -> Option<Range<u64>> {
        self.volume.inode_place(self.named.inode).ok().flatten()
    }

    fn mapping(&mut self) -> Result<Vec<u8>, Trouble> {
        Ok(self.inode()?.mapping())
    }

    fn facts(&mut self) -> Result<Facts, Trouble> {
        let inode = self.inode()?;
        let kind = kind(inode.kind);
        let size = (kind == EntryKind::File).then_some(inode.size);
        let allocated = size.map(|size| size.min(inode.allocated));
        Ok(Facts { kind, size, allocated, modified: inode.modified, permissions: Some(inode.permissions) })
    }

    fn target(&mut self) -> Result<Vec<u8>, Trouble> {
        let inode = self.inode()?;
        if inode.size == 0 || inode.size > MOST_TARGET {
            return Err(Trouble::Damaged("the link leads nowhere".to_owned()));
        }
        let mut target = vec![0; inode.size as usize];
        self.read(&inode, &mut |at, part| {
            target[at as usize..][..part.len()].copy_from_slice(part);
            Ok(())
        })?;
        Ok(target)
    }

    fn places(&mut self, take: &mut TakePlace<'_>) -> Result<(), Trouble> {
        let inode = self.inode()?;
        places_of(self.volume, &inode, self.patience, take)
    }

    fn content(&mut self, take: &mut super::system::Take<'_>) -> Result<(), Trouble> {
        let inode = self.inode()?;
        self.read(&inode, take)
    }
}

fn kind(kind: InodeKind) -> EntryKind {
    match kind {
        InodeKind::File => EntryKind::File,
        InodeKind::Folder => EntryKind::Folder,
        InodeKind::Link => EntryKind::Link,
        InodeKind::Other => EntryKind::Other,
    }
}

impl System for Ext {
    fn root(&self) -> u64 {
        ROOT
    }

    fn each(
        &mut self,
        folder: &Place,
        enter: &mut dyn FnMut(u64) -> bool,
        visit: &mut Visit<'_>,
    ) -> Result<(), Trouble> {
        self.patience.renew();
        if !enter(folder.number) {
            return Err(circle());
        }
        let number = u32::try_from(folder.number);
        let inode = self.volume.inode(number.map_err(|_| Trouble::Damaged("it has no inode".to_owned()))?)?;
        let patience = &self.patience;
        self.volume.names(&inode, &mut |volume, names| {
            for named in names {
                patience.renew();
                let mut item = ExtItem { volume: &mut *volume, patience, named, inode: None };
                if !visit(&mut item)? {
                    return Ok(false);
                }
            }
            Ok(true)
        })
    }

    fn ignores_case(&self) -> bool {
        false
    }

    fn has_links(&self) -> bool {
        true
    }

    fn len(&self) -> u64 {
        self.volume.len()
    }

    fn own(&mut self, is_met: &mut dyn FnMut(u64) -> bool, take: &mut TakeOwn<'_>) {
        for group in 0..self.volume.groups() {
            self.patience.renew();
            if !self.own_of_group(group, is_met, take) {
                return;
            }
        }
    }

    fn free(&mut self, within: Range<u64>, take: &mut dyn FnMut(Range<u64>)) -> Result<(), Trouble> {
        let unit = self.volume.block_len();
        self.patience.renew();
        let patience = &self.patience;
        self.volume.free_blocks(within.start / unit..within.end.div_ceil(unit), &mut |blocks| {
            patience.renew();
            take((blocks.start * unit).max(within.start)..(blocks.end * unit).min(within.end));
        })
    }

    fn waiting(&self) -> Vec<Range<u64>> {
        let unit = self.volume.block_len();
        self.volume.waiting().map(|block| block * unit..(block + 1) * unit).collect()
    }

    fn vouch_for_free(&mut self) -> Result<(), Trouble> {
        self.volume.refuse_unknown()?;
        let patience = &self.patience;
        self.volume.refuse_other_counts(&mut || patience.renew())
    }

    fn notes(&self) -> Vec<String> {
        match self.volume.journal() {
            JournalState::Empty => Vec::new(),
            JournalState::Replayed(blocks, has_more) => {
                let more = if *has_more { ", and what it had written in the quick form of commits" } else { "" };
                vec![format!(
                    "it was not unmounted: {blocks} blocks wait in its journal, and are read from there as its guest \
                     would; what the guest had not written yet is missing{more}"
                )]
            }
            JournalState::Left(why) => vec![format!(
                "it was not unmounted, and its journal cannot be read ({why}): the newest changes may be missing, or \
                 half done"
            )],
        }
    }
}
