//! A single failure, at every change in turn, after which the host is sound again and work goes on: what was flushed is
//! there, and nothing names what was lost.

use std::collections::BTreeMap;
use std::sync::Arc;

use zestful_sapling::chain::ChainMut;
use zestful_sapling::image::{Format, ImageMut, open_image_mut};
use zestful_sapling::storage::testing::{Fault, FaultStorage};

use crate::crash::prepared;
use crate::support::{Layers, MIB, Model, Shape, UNIT, for_each_unit, renew};

/// What happens to the disk, in bytes.
#[derive(Clone, Copy)]
enum Act {
    Write(u64, u64, u8),
    Zero(u64, u64),
    /// As the copying of bulk data does, beside the writer; whoever asked does not listen to the answer.
    SyncBeside,
    Flush,
    Renew,
    /// The program ends without closing, and begins anew.
    Drop,
    /// After the child got all of the disk.
    RemoveParent,
}

/// Each kind of change that a writer makes, in sessions that end in each way.
const ACTS: &[Act] = &[
    Act::Write(512 * 8, 4096, 1),
    Act::Flush,
    Act::Write(MIB, MIB, 2),
    Act::SyncBeside,
    Act::Write(2 * MIB + 4096, 4096, 3),
    Act::Flush,
    Act::Zero(0, MIB),
    Act::SyncBeside,
    Act::Flush,
    Act::Drop,
    Act::Write(3 * MIB, 2 * 4096, 4),
    Act::Zero(MIB + 4096, 4096),
    Act::Flush,
    Act::Write(0, 4096, 5),
    Act::Renew,
    Act::Write(MIB / 2, 4096, 6),
    Act::Drop,
    Act::RemoveParent,
    Act::Write(4096, 4096, 7),
];

/// What each unit may hold.
struct Truth {
    flushed: Model,
    /// Written since the last flush.
    later: Vec<(u64, u64, u8)>,
    /// Written, and not known to have stayed.
    unsure: BTreeMap<u64, Vec<u8>>,
}

impl Truth {
    fn take_flushed(&mut self) {
        for (at, len, byte) in self.later.drain(..) {
            self.flushed.fill(at, len, byte);
            (at / UNIT..(at + len) / UNIT).for_each(|unit| _ = self.unsure.remove(&unit));
        }
    }

    fn take_lost(&mut self) {
        for (at, len, byte) in self.later.drain(..) {
            (at / UNIT..(at + len) / UNIT).for_each(|unit| self.unsure.entry(unit).or_default().push(byte));
        }
    }

    fn judge(&self, layers: &Layers, image: Box<dyn ImageMut>, when: &str) {
        let disk = ChainMut::from_parts(image, layers.parents());
        for_each_unit(&disk, |units, found| {
            for unit in units {
                let fits = |byte| {
                    byte == self.flushed.at(unit) || self.unsure.get(&unit).is_some_and(|may| may.contains(&byte))
                };
                assert!(found.is_some_and(fits), "{when}: unit {unit} holds {found:?}, not {}", self.flushed.at(unit));
            }
        });
    }
}

fn act(image: &mut Box<dyn ImageMut>, truth: &mut Truth, step: Act) -> zestful_sapling::Result<()> {
    match step {
        Act::Write(at, len, byte) => {
            truth.later.push((at, len, byte));
            image.write_at(&vec![byte; len as usize], at)
        }
        Act::Zero(at, len) => {
            truth.later.push((at, len, 0));
            image.zero_at(at, len)
        }
        Act::SyncBeside => {
            let syncer = image.syncer();
            _ = std::thread::spawn(move || syncer.sync()).join().unwrap();
            Ok(())
        }
        Act::Flush => image.flush().map(|()| truth.take_flushed()),
        Act::Renew if image.info().format != Format::Raw => {
            image.set_data_identity(uuid::Uuid::new_v4())?;
            renew(&mut **image)
        }
        Act::RemoveParent if image.info().parent.is_some() => {
            act(image, truth, Act::Write(0, image.info().virtual_size, 8))?;
            act(image, truth, Act::Flush)?;
            image.remove_parent()
        }
        Act::Renew | Act::RemoveParent | Act::Drop => Ok(()),
    }
}

/// Runs all acts on storage that fails once; whether it did.
fn run(layers: &Layers, model: &Model, storage: &Arc<FaultStorage>, when: &str) -> bool {
    let mut failed = false;
    let open = |failed: &mut bool| loop {
        match open_image_mut(storage.clone(), Some(layers.shape.format)) {
            Ok(image) => return image,
            // Replaying a log may be what fails; the next time it does not.
            Err(error) => assert!(!std::mem::replace(failed, true), "{when}: {error}"),
        }
    };
    let mut image = open(&mut failed);
    let mut truth = Truth { flushed: model.clone(), later: Vec::new(), unsure: BTreeMap::new() };
    for step in ACTS {
        let result = act(&mut image, &mut truth, *step);
        if result.is_err() || matches!(step, Act::Drop) {
            failed |= result.is_err();
            truth.take_lost();
            drop(image);
            truth.judge(layers, open(&mut failed), when);
            image = open(&mut failed);
        }
    }
    match image.close() {
        Ok(()) => truth.take_flushed(),
        Err(_) => {
            failed = true;
            truth.take_lost();
        }
    }
    truth.judge(layers, open(&mut failed), when);
    layers.shape.assert_valid(storage.clone(), failed);
    failed
}

#[test]
fn nothing_names_what_a_single_failure_lost() {
    let sectors = Shape { sector: 4096, ..Shape::plain(4 * MIB) };
    let raw = Shape { format: Format::Raw, ..Shape::plain(4 * MIB) };
    let mut failures = 0;
    for (shape, child) in [
        (Shape::plain(4 * MIB), false),
        (Shape::plain(4 * MIB), true),
        (sectors, true),
        (Shape::vhd(4 * MIB), false),
        (Shape::vhd(4 * MIB), true),
        (raw, false),
    ] {
        let (layers, model) = prepared(shape, child);
        let start = (**layers.storages.last().unwrap()).clone();
        for fault in [Fault::Error(5), Fault::Error(28), Fault::LostWrites] {
            for number in 0.. {
                let storage = Arc::new(FaultStorage::new(start.clone()).fail_once(number, fault));
                let when = format!("{} child={child}: change {number}: {fault:?}", layers.shape.format);
                // A failure that nobody was told of did not happen.
                if !run(&layers, &model, &storage, &when) && storage.operations() <= number {
                    break;
                }
                failures += 1;
            }
        }
    }
    println!("{failures} runs with a failure");
    assert!(failures > 500, "{failures}");
}
