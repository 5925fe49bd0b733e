//! Disks of bytes that come once, in pieces of any length, slowly, with errors, and for too short or too long.

use std::io::{Error as IoError, ErrorKind, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::Error;
use zestful_sapling::image::Kind;
use zestful_sapling::ops::{CopyStream, NewImage, Operation, Planned};
use zestful_sapling::progress::Progress;

use crate::operations::files;

/// How an input ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum End {
    AsItShould,
    /// So many bytes too early.
    Early(usize),
    /// So many bytes too late.
    Late(usize),
    Error,
    /// It gives nothing more, and does not end.
    Never,
}

/// Gives bytes in pieces, and says now and then that it was interrupted or has nothing yet.
struct Source {
    bytes: Vec<u8>,
    at: usize,
    piece: usize,
    calls: usize,
    end: End,
    waits: Arc<AtomicBool>,
}

impl Read for Source {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.calls += 1;
        match (self.calls % 7, self.at == self.bytes.len(), self.end) {
            (3, ..) => return Err(ErrorKind::Interrupted.into()),
            (5, ..) => return Err(ErrorKind::WouldBlock.into()),
            (_, true, End::Error) => return Err(IoError::from_raw_os_error(5)),
            (_, true, End::Never) => {
                self.waits.store(true, Ordering::SeqCst);
                return Err(ErrorKind::WouldBlock.into());
            }
            _ => {}
        }
        let len = buffer.len().min(self.piece).min(self.bytes.len() - self.at);
        buffer[..len].copy_from_slice(&self.bytes[self.at..self.at + len]);
        self.at += len;
        Ok(len)
    }
}

fn ends() -> impl Strategy<Value = End> {
    prop_oneof![
        3 => Just(End::AsItShould),
        1 => (1usize..2_000_000).prop_map(End::Early),
        1 => (1usize..2_000_000).prop_map(End::Late),
        1 => Just(End::Error),
        1 => Just(End::Never),
    ]
}

proptest! {
    #![proptest_config(crate::support::config(40))]

    /// What came in is what a guest sees; and where not all of it came, or more than that, nothing is there.
    #[test]
    fn a_disk_is_what_came_in_or_is_not_there(
        units in 1usize..900,
        runs in proptest::collection::vec((any::<prop::sample::Index>(), 1usize..300, 0u8..4), 0..8),
        piece in prop_oneof![1usize..5_000, 60_000usize..3_000_000],
        form in prop::sample::select(vec![
            ("raw", Kind::Fixed), ("vhd", Kind::Fixed), ("vhd", Kind::Dynamic), ("vhdx", Kind::Dynamic),
        ]),
        verify in any::<bool>(),
        end in ends(),
    ) {
        let (ending, kind) = form;
        let size = units * 4096;
        let mut content = vec![0u8; size];
        for (at, len, byte) in &runs {
            let at = at.index(units);
            content[at * 4096..(at + len).min(units) * 4096].fill(*byte);
        }
        let mut bytes = content.clone();
        match end {
            End::Early(less) => bytes.truncate(size - less.min(size)),
            End::Late(more) => bytes.resize(size + more, 0),
            End::Error | End::Never => bytes.truncate(size / 2),
            End::AsItShould => {}
        }
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(format!("records.{ending}"));
        let waits = Arc::new(AtomicBool::new(false));
        let source = Source { bytes, at: 0, piece, calls: 0, end, waits: waits.clone() };
        let copy = CopyStream::new(source, &path, size as u64).with_image(NewImage::new().with_kind(kind));
        let plan = copy.with_verify(verify).plan().unwrap();
        let progress = Progress::new();
        let ended = std::thread::scope(|scope| {
            let running = scope.spawn(|| plan.run(&progress));
            while end == End::Never && !waits.load(Ordering::SeqCst) {
                std::thread::yield_now();
            }
            if end == End::Never {
                progress.stop();
            }
            running.join().unwrap()
        });
        match (end, ended) {
            (End::AsItShould, Ok(outcome)) => {
                prop_assert_eq!(outcome.verified, verify);
                let disk = Chain::open(&path, &OpenOptions::new()).unwrap();
                let mut found = vec![9u8; size];
                disk.read_at(&mut found, 0).unwrap();
                prop_assert!(found == content);
            }
            (End::Early(_) | End::Late(_), Err(Error::Usage(_)))
            | (End::Error, Err(Error::Io { .. }))
            | (End::Never, Err(Error::Cancelled)) => prop_assert_eq!(files(folder.path()), Vec::<String>::new()),
            (end, other) => prop_assert!(false, "{:?}: {:?}", end, other),
        }
    }
}
