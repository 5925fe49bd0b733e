//! What was acknowledged is there: a recorder under the real server sees every write and sync, and every state in which
//! a loss of power may leave the file is looked at.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use zestful_sapling::chain::{ChainMut, Disk};
use zestful_sapling::image::{Format, open_image_mut, vhd, vhdx};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::Storage;

use crate::client::*;
use crate::scene::{MIB, Scene, blank};

const BLOCK: u64 = 4096;
const BLOCKS: u64 = 96;
const CLIENTS: u64 = 3;

/// What was written to each block in order, and how much of it was acknowledged.
#[derive(Default)]
struct History {
    written: BTreeMap<u64, Vec<u8>>,
    acknowledged: BTreeMap<u64, usize>,
}

/// After so many changes of the file so much of each block's history is durable.
type Durable = (usize, BTreeMap<u64, usize>);

#[test]
fn every_reply_to_a_flush_follows_the_syncs_that_it_promises() {
    for (format, seed) in [(Format::Vhdx, 1), (Format::Vhd, 2), (Format::Raw, 3), (Format::Vhdx, 4), (Format::Vhd, 5)] {
        let storage = Arc::new(blank(format, BLOCKS * MIB / 8).with_pauses(seed));
        let history = Mutex::new(History::default());
        let durable: Mutex<Vec<Durable>> = Mutex::default();
        {
            let mut scene = Scene::writable(storage.clone(), format);
            std::thread::scope(|scope| {
                for number in 0..CLIENTS {
                    let (scene, history, durable, storage) = (&scene, &history, &durable, &storage);
                    scope.spawn(move || {
                        let mut client = Client::with_disk(&scene.socket, "", number != 1, &[]);
                        let mut random = seed * 7919 + number;
                        for round in 1..60u8 {
                            random =
                                random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                            let block = (random >> 33) % (BLOCKS / CLIENTS) * CLIENTS + number;
                            let at = block * (MIB / 8);
                            match (random >> 20) % 8 {
                                0 => {
                                    let known = history.lock().unwrap().acknowledged.clone();
                                    client.flush();
                                    durable.lock().unwrap().push((storage.operations(), known));
                                }
                                choice => {
                                    let index = {
                                        let mut history = history.lock().unwrap();
                                        let written = history.written.entry(block).or_default();
                                        written.push(round);
                                        written.len()
                                    };
                                    let flags = if choice == 1 { FUA } else { 0 };
                                    let payload = vec![round; BLOCK as usize];
                                    assert_eq!(client.ask(flags, WRITE, at, BLOCK as u32, &payload).error, 0);
                                    history.lock().unwrap().acknowledged.insert(block, index);
                                    if choice == 1 {
                                        durable.lock().unwrap().push((storage.operations(), [(block, index)].into()));
                                    }
                                }
                            }
                        }
                    });
                }
            });
            scene.stop();
        }
        let (history, mut durable) = (history.into_inner().unwrap(), durable.into_inner().unwrap());
        durable.sort_by_key(|(at, _)| *at);
        let recording = storage.recording(storage.start());
        let every = 1 + recording.operations.len() / 60;
        for (number, state) in recording.crash_states(seed, 1).enumerate() {
            let (issued, state) = state.unwrap();
            if number % every != seed as usize % every {
                continue;
            }
            let mut known: BTreeMap<u64, usize> = BTreeMap::new();
            for (_, blocks) in durable.iter().filter(|(at, _)| *at <= issued) {
                for (block, index) in blocks {
                    let last = known.entry(*block).or_default();
                    *last = (*last).max(*index);
                }
            }
            judge(format, Arc::new(state), &history, &known, issued);
        }
    }
}

fn judge(format: Format, state: Arc<dyn Storage>, history: &History, known: &BTreeMap<u64, usize>, issued: usize) {
    let findings = match format {
        Format::Vhd => vhd::check(state.clone(), &Progress::new()).unwrap(),
        Format::Vhdx => vhdx::check(state.clone(), &Progress::new()).unwrap(),
        _ => Vec::new(),
    };
    let fatal: Vec<_> = findings.iter().filter(|finding| finding.prevents_opening()).collect();
    assert!(fatal.is_empty(), "{fatal:?}");
    let disk = ChainMut::from_parts(open_image_mut(state, Some(format)).unwrap(), Vec::new());
    for (block, written) in &history.written {
        let mut found = vec![0; BLOCK as usize];
        disk.read_at(&mut found, block * (MIB / 8)).unwrap();
        let upto = known.get(block).copied().unwrap_or_default();
        let allowed: Vec<u8> = if upto == 0 { [&[0], &written[..]].concat() } else { written[upto - 1..].to_vec() };
        for sector in found.chunks(512) {
            let right = sector.iter().all(|byte| *byte == sector[0]) && allowed.contains(&sector[0]);
            assert!(
                right,
                "{format}: after {issued} changes block {block} holds {} and not one of {allowed:?}",
                sector[0]
            );
        }
    }
}
