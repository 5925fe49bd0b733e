//! Storage that fails on demand, and that can tell every state in which a loss of power may leave a file.

use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crate::error::{Error, Result};
use crate::storage::changes::FileChange;
use crate::storage::{MemoryStorage, ReadAt, Storage};

const EIO: i32 = 5;
/// Disks write sectors of 512 bytes whole or not at all.
const SECTOR: usize = 512;

/// How a single change fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Fault {
    /// The host answers with this error, and nothing is changed.
    Error(i32),
    /// A sync of a file reports that what was written before is lost, as it then is; the next one is clean, as on
    /// hosts that report a lost write once. Any other change fails with an I/O error.
    LostWrites,
}

/// Memory storage that records each change, and fails from a chosen one on.
#[derive(Debug)]
pub struct FaultStorage {
    start: MemoryStorage,
    now: MemoryStorage,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Debug, Default)]
struct State {
    operations: Vec<FileChange>,
    fail_from: Option<usize>,
    fail_once: Option<(usize, Fault)>,
    no_room: Option<(usize, Random)>,
    pauses: Option<Random>,
    slow_syncs: bool,
    /// Reads and writes of this length wait.
    held_len: Option<usize>,
    waiting: usize,
}

/// What happened to a file: what it held at first, and each change since.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Recording {
    /// The file before the first change.
    pub start: MemoryStorage,
    /// Every change in order.
    pub operations: Vec<FileChange>,
}

impl FaultStorage {
    /// Storage that begins as a copy of `start`.
    pub fn new(start: MemoryStorage) -> Self {
        Self { now: start.clone(), start, state: Mutex::default(), changed: Condvar::new() }
    }

    /// The change number `operation` (counted from zero) fails, and those after it do not.
    pub fn fail_once(self, operation: usize, fault: Fault) -> Self {
        self.lock().fail_once = Some((operation, fault));
        self
    }

    /// From the change number `operation` on (counted from zero) every write, length change, hole and sync fails.
    pub fn fail_from(self, operation: usize) -> Self {
        self.lock().fail_from = Some(operation);
        self
    }

    /// Has changes, and reads, wait for an instant now and then, so that threads meet in more ways.
    pub fn with_pauses(self, seed: u64) -> Self {
        self.lock().pauses = Some(Random::new(seed));
        self
    }

    /// From now on one change in so many, syncs left out, finds no room on the host and is not made, or a write only in
    /// part; with `None` there is room again.
    pub fn set_no_room(&self, one_in: Option<usize>) {
        self.lock().no_room = one_in.map(|one_in| (one_in, Random::new(one_in as u64)));
    }

    /// Has syncs take the time that a disk's do.
    pub fn with_slow_syncs(self) -> Self {
        self.lock().slow_syncs = true;
        self
    }

    /// From now on nothing fails any more.
    pub fn recover(&self) {
        self.lock().fail_from = None;
    }

    /// How many syncs were made so far.
    pub fn syncs(&self) -> usize {
        self.lock().operations.iter().filter(|done| **done == FileChange::Sync).count()
    }

    /// From now on reads and writes of exactly so many bytes wait, just before they are made; with `None` they go on.
    pub fn hold(&self, len: Option<usize>) {
        self.lock().held_len = len;
        self.changed.notify_all();
    }

    /// Returns when so many of them wait.
    pub fn wait_for_held(&self, count: usize) {
        let state = self.changed.wait_while(self.lock(), |state| state.waiting < count);
        drop(state.unwrap_or_else(PoisonError::into_inner));
    }

    fn wait_if_held(&self, len: usize) {
        let mut state = self.lock();
        if state.held_len == Some(len) {
            state.waiting += 1;
            self.changed.notify_all();
            state = self
                .changed
                .wait_while(state, |state| state.held_len == Some(len))
                .unwrap_or_else(PoisonError::into_inner);
            state.waiting -= 1;
        }
    }

    fn pause(&self) {
        let pauses = self.lock().pauses.as_mut().map(|random| random.below(8));
        match pauses {
            Some(0) => std::thread::sleep(Duration::from_micros(60)),
            Some(1..4) => std::thread::yield_now(),
            _ => {}
        }
    }

    /// How many changes were made so far.
    pub fn operations(&self) -> usize {
        self.lock().operations.len()
    }

    /// What it held at first.
    pub fn start(&self) -> MemoryStorage {
        self.start.clone()
    }

    /// All changes so far, to be replayed onto `start`.
    pub fn recording(&self, start: MemoryStorage) -> Recording {
        Recording { start, operations: self.lock().operations.clone() }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self, operation: FileChange) -> Result<()> {
        self.pause();
        if operation == FileChange::Sync && self.lock().slow_syncs {
            std::thread::sleep(Duration::from_millis(2));
        }
        let len = self.now.len()?;
        let mut state = self.lock();
        // A shorter file takes no room.
        let takes_room = !matches!(operation, FileChange::SetLen(shorter) if shorter <= len);
        if operation != FileChange::Sync
            && takes_room
            && let Some((one_in, random)) = &mut state.no_room
            && random.below(*one_in) == 0
        {
            let part = operation.cut_short(random, len);
            let full = Error::io("change", self.path(), io::ErrorKind::StorageFull.into());
            part.iter().try_for_each(|part| apply(&self.now, part))?;
            state.operations.extend(part);
            return Err(full);
        }
        if state.fail_from.is_some_and(|from| state.operations.len() >= from) {
            let full = io::Error::from(io::ErrorKind::StorageFull);
            return Err(Error::io("change", self.path(), full));
        }
        let number = state.operations.len();
        if let Some((_, fault)) = state.fail_once.take_if(|(at, _)| *at == number) {
            let error = match fault {
                Fault::Error(error) => io::Error::from_raw_os_error(error),
                Fault::LostWrites => io::Error::from_raw_os_error(EIO),
            };
            if fault == Fault::LostWrites && operation == FileChange::Sync {
                self.lose_writes(&mut state)?;
            }
            return Err(Error::io("change", self.path(), error));
        }
        apply(&self.now, &operation)?;
        state.operations.push(operation);
        Ok(())
    }
}

impl FileChange {
    /// What a host without room has done of a write before it says so: inside the file whole sectors, behind its end
    /// any part.
    fn cut_short(&self, random: &mut Random, len: u64) -> Option<Self> {
        let Self::Write(offset, bytes) = self else { return None };
        let part = random.below(bytes.len().max(1));
        let part = if *offset < len { part / SECTOR * SECTOR } else { part };
        (part > 0).then(|| Self::Write(*offset, bytes[..part].to_vec()))
    }
}

pub(super) fn apply(storage: &MemoryStorage, operation: &FileChange) -> Result<()> {
    match operation {
        // Of what did not arrive the file's length tells nothing either.
        FileChange::Write(_, bytes) if bytes.is_empty() => Ok(()),
        FileChange::Write(offset, bytes) => storage.write_at(bytes, *offset),
        FileChange::SetLen(len) => storage.set_len(*len),
        FileChange::Punch(offset, len) => storage.punch_hole(*offset, *len),
        FileChange::Reserve(..) | FileChange::Sync => Ok(()),
    }
}

impl FaultStorage {
    /// Of what was written since the last sync some never reached the disk; the host forgets that it ever had it.
    fn lose_writes(&self, state: &mut State) -> Result<()> {
        let durable = state.operations.iter().rposition(|done| *done == FileChange::Sync).map_or(0, |sync| sync + 1);
        let mut random = Random::new(state.operations.len() as u64);
        let later = state.operations.split_off(durable);
        // What the file system itself notes, such as lengths, goes through its journal.
        let kept = later.into_iter().filter(|done| matches!(done, FileChange::SetLen(_)) || random.below(2) == 0);
        state.operations.extend(kept);
        let now = self.start.clone();
        state.operations.iter().try_for_each(|operation| apply(&now, operation))?;
        self.now.become_like(&now);
        Ok(())
    }
}

impl ReadAt for FaultStorage {
    fn path(&self) -> &Path {
        self.now.path()
    }
    fn len(&self) -> Result<u64> {
        self.now.len()
    }
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.pause();
        self.wait_if_held(buffer.len());
        self.now.read_at(buffer, offset)
    }
    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        self.now.next_data(offset)
    }
    fn allocated(&self) -> Result<u64> {
        self.now.allocated()
    }
}

impl Storage for FaultStorage {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.wait_if_held(bytes.len());
        self.change(FileChange::Write(offset, bytes.to_vec()))
    }
    fn set_len(&self, len: u64) -> Result<()> {
        self.change(FileChange::SetLen(len))
    }
    fn sync(&self) -> Result<()> {
        self.change(FileChange::Sync)
    }
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        self.change(FileChange::Punch(offset, len))
    }
}

impl Recording {
    /// Every crash state that is worth a look, each with the number of operations that had been *issued* by then.
    ///
    /// For each point in the recording these are: all issued writes there; the last of them torn at a multiple of 512
    /// bytes (the first part there, or only the last part); and `subsets` random choices among the writes since the
    /// last sync, some of them torn, in a random order. A length change that grows the file happens no later than a
    /// write that lies beyond the old end, as on a journaling file system; otherwise it may be lost as any other
    /// change.
    pub fn crash_states(&self, seed: u64, subsets: usize) -> CrashStates<'_> {
        CrashStates {
            recording: self,
            durable: self.start.clone(),
            durable_upto: 0,
            issued: 0,
            variant: 0,
            subsets,
            random: Random::new(seed),
        }
    }
}

/// The crash states of a [`Recording`], one after the other.
#[derive(Debug)]
pub struct CrashStates<'a> {
    recording: &'a Recording,
    /// The file with everything before the last sync applied.
    durable: MemoryStorage,
    durable_upto: usize,
    issued: usize,
    variant: usize,
    subsets: usize,
    random: Random,
}

/// Variants for each number of issued operations: the whole prefix, torn to its first part, torn to its last part.
const FIXED_VARIANTS: usize = 3;

impl CrashStates<'_> {
    fn build(&mut self) -> Result<MemoryStorage> {
        let recording = self.recording;
        let open = &recording.operations[self.durable_upto..self.issued];
        let state = self.durable.clone();
        match self.variant {
            0 => open.iter().try_for_each(|operation| apply(&state, operation))?,
            1 | 2 => {
                if let Some((last, before)) = open.split_last() {
                    before.iter().try_for_each(|operation| apply(&state, operation))?;
                    let keep_head = self.variant == 1;
                    apply(&state, &tear_at(last, keep_head, &mut self.random))?;
                }
            }
            _ => {
                let mut chosen: Vec<&FileChange> = open.iter().filter(|_| self.random.below(2) == 0).collect();
                for left in (1..chosen.len()).rev() {
                    chosen.swap(left, self.random.below(left + 1));
                }
                for operation in chosen {
                    let torn = self.random.below(4) == 0;
                    let keep_head = self.random.below(2) == 0;
                    let operation =
                        if torn { tear_at(operation, keep_head, &mut self.random) } else { operation.clone() };
                    if !matches!(operation, FileChange::SetLen(len) if len < state.len()?) {
                        apply(&state, &operation)?;
                    }
                }
            }
        }
        Ok(state)
    }
}

/// A write of which only the first or the last part arrived.
pub(super) fn tear(operation: &FileChange, random: &mut Random) -> FileChange {
    let keep_head = random.below(2) == 0;
    tear_at(operation, keep_head, random)
}

/// Disks write their own sectors whole, wherever in them a write begins.
fn tear_at(operation: &FileChange, keep_head: bool, random: &mut Random) -> FileChange {
    let FileChange::Write(offset, bytes) = operation else { return operation.clone() };
    // Before each sector that the write enters, the first one included: then nothing, or everything, arrived.
    let first = SECTOR - (*offset % SECTOR as u64) as usize;
    let cuts = 1 + bytes.len().saturating_sub(first).div_ceil(SECTOR);
    let cut = match random.below(cuts) {
        0 => 0,
        later => first + SECTOR * (later - 1),
    };
    match keep_head {
        true => FileChange::Write(*offset, bytes[..cut].to_vec()),
        false => FileChange::Write(offset + cut as u64, bytes[cut..].to_vec()),
    }
}

impl Iterator for CrashStates<'_> {
    type Item = Result<(usize, MemoryStorage)>;

    fn next(&mut self) -> Option<Self::Item> {
        let recording = self.recording;
        // Between a sync and the next change there is only one state.
        let variants = match self.issued - self.durable_upto {
            0 => 1,
            1 => FIXED_VARIANTS,
            _ => FIXED_VARIANTS + self.subsets,
        };
        if self.variant >= variants {
            self.variant = 0;
            let operation = recording.operations.get(self.issued)?;
            self.issued += 1;
            if *operation == FileChange::Sync {
                for done in &recording.operations[self.durable_upto..self.issued] {
                    if let Err(error) = apply(&self.durable, done) {
                        return Some(Err(error));
                    }
                }
                self.durable_upto = self.issued;
            }
        }
        let state = self.build();
        self.variant += 1;
        Some(state.map(|state| (self.issued, state)))
    }
}

/// A small deterministic generator: the same seed gives the same crash states.
#[derive(Debug)]
pub(super) struct Random(u64);

impl Random {
    pub(super) fn new(seed: u64) -> Self {
        Self(seed | 1)
    }

    pub(super) fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % limit.max(1)
    }
}
