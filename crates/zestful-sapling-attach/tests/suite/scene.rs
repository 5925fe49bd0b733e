//! A server on a disk in memory, or of files, and what it told.

use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use tempfile::TempDir;
use zestful_sapling::chain::{ChainMut, SharedDisk};
use zestful_sapling::image::{Format, open_image_mut, vhd, vhdx};
use zestful_sapling::storage::testing::FaultStorage;
use zestful_sapling::storage::{MemoryStorage, Storage};
use zestful_sapling_attach::{Backing, Catalogue, Event, Export, Limits, Listener, Server, Stopper, Tls, UnixSocket};

pub const MIB: u64 = 1 << 20;

pub struct Scene {
    pub folder: TempDir,
    pub socket: PathBuf,
    pub events: Arc<Mutex<Vec<Event>>>,
    pub disk: Option<Arc<SharedDisk>>,
    stopper: Stopper,
    running: Option<std::thread::JoinHandle<()>>,
}

/// Storage with an empty image in it.
pub fn blank(format: Format, size: u64) -> FaultStorage {
    let storage = MemoryStorage::new();
    match format {
        Format::Raw => storage.set_len(size).unwrap(),
        Format::Vhd => vhd::CreateOptions::new(size).with_block_size(MIB / 2).create_in(&storage).unwrap(),
        _ => vhdx::CreateOptions::new(size).with_block_size(MIB).create_in(&storage).unwrap(),
    }
    FaultStorage::new(storage)
}

impl Scene {
    /// Clients write to the image in this storage, which is called `germination-01`.
    pub fn writable(storage: Arc<FaultStorage>, format: Format) -> Self {
        Self::limited(storage, format, Limits::default())
    }

    pub fn limited(storage: Arc<FaultStorage>, format: Format, limits: Limits) -> Self {
        let image = open_image_mut(storage, Some(format)).unwrap();
        let disk = Arc::new(SharedDisk::new(ChainMut::from_parts(image, Vec::new())));
        let export = Export::new("germination-01", "a test", Backing::Writable(disk.clone()));
        let mut scene = Self::of(Arc::new(vec![Arc::new(export)]), None, limits);
        scene.disk = Some(disk);
        scene
    }

    pub fn of(catalogue: Arc<dyn Catalogue>, tls: Option<Tls>, limits: Limits) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let socket = folder.path().join("s");
        let listener = Listener::Unix(UnixSocket::bind(&socket, None).unwrap());
        let server = Server::new(listener, catalogue, tls, limits).unwrap();
        let (stopper, events) = (server.stopper(), Arc::new(Mutex::new(Vec::new())));
        let told = events.clone();
        let run = move || server.run(&|event| told.lock().unwrap().push(event)).unwrap();
        Self { folder, socket, events, disk: None, stopper, running: Some(std::thread::spawn(run)) }
    }

    /// Waits until so many things of a kind were told, and returns all that was told.
    pub fn told(&self, count: usize, is_wanted: impl Fn(&Event) -> bool) -> Vec<Event> {
        let until = Instant::now() + Duration::from_secs(60);
        loop {
            let events = self.events.lock().unwrap().clone();
            if events.iter().filter(|event| is_wanted(event)).count() >= count {
                return events;
            }
            assert!(Instant::now() < until, "told: {events:?}");
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Ends the server; all threads of it are gone.
    pub fn stop(&mut self) {
        self.stopper.stop();
        self.running.take().into_iter().for_each(|running| running.join().unwrap());
    }
}

impl Drop for Scene {
    fn drop(&mut self) {
        self.stopper.stop();
        if let Some(running) = self.running.take() {
            _ = running.join();
        }
    }
}
