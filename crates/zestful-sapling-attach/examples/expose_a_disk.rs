//! A disk is shown as a file of this host, written to through that file, and taken away again. Needs root, or the
//! host's helper for others; where there is no FUSE, it says so.
//!
//! ```console
//! $ cargo run --example expose_a_disk                            # on made-up data, and ends by itself
//! $ cargo run --example expose_a_disk -- DISK.vhdx FOLDER        # writable, until it is detached
//! ```

use std::path::PathBuf;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::ops::{Make, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling_attach::{AttachError, ControlSocket, Exposure, Mode, Opening, Session, attachments, detach};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let work = tempfile::tempdir()?;
    let named: Vec<PathBuf> = std::env::args_os().skip(1).map(PathBuf::from).collect();
    let (path, folder, is_demo) = match &named[..] {
        [path, folder, ..] => (path.clone(), folder.clone(), false),
        _ => (work.path().join("germination-01.vhdx"), work.path().join("germination-01"), true),
    };
    if is_demo {
        Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
        std::fs::create_dir(&folder)?;
    }
    let opened = Opening::new(&path, Mode::Writable).open()?;
    let exposure = match Exposure::new(&folder, &path, opened.export().clone()) {
        Err(error @ AttachError::NoFuse { .. }) => {
            println!("{error}");
            return Ok(());
        }
        other => other?,
    };
    let file = exposure.disk();
    println!("{} is a file of {} bytes", file.display(), exposure.size());
    let session = Session::new(&path, Arc::new(exposure), vec![opened]);
    let control = ControlSocket::new()?;
    std::thread::scope(|scope| {
        let running = scope.spawn(|| session.run(Some(&control), &|event| println!("{event:?}")));
        let worked = if is_demo { look(&file, &path) } else { Ok(()) };
        if is_demo {
            // As `detach` of another process does it.
            println!("detached: {:?}", detach(&folder, false).map(|ended| ended.bytes_written));
        }
        running.join().map_err(|_| "the session ended in a panic")??;
        worked
    })?;
    if is_demo {
        let mut found = [0; 22];
        Chain::open(&path, &OpenOptions::new())?.read_at(&mut found, 4096)?;
        println!("the image holds {:?}", String::from_utf8_lossy(&found));
    }
    Ok(())
}

/// Uses the file as any program would.
fn look(file: &PathBuf, path: &PathBuf) -> Result<(), Box<dyn std::error::Error>> {
    use std::os::unix::fs::FileExt;
    let disk = std::fs::File::options().read(true).write(true).open(file)?;
    disk.write_all_at(b"Campanula rotundifolia", 4096)?;
    disk.sync_all()?;
    let second = std::fs::File::options().write(true).open(file);
    println!("a second one who would write: {}", second.err().map_or_else(String::new, |error| error.to_string()));
    let all = attachments()?;
    let ours = all.iter().filter(|one| one.path.as_ref().is_some_and(|shown| shown.to_path() == *path));
    ours.for_each(|one| println!("attached: {:?}, users {:?}", one.state, one.users));
    Ok(())
}
