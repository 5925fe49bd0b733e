//! `zsap serve`.

use std::fs::DirBuilder;
use std::io::{self, BufRead, BufReader};
use std::net::IpAddr;
use std::os::unix::fs::DirBuilderExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use zestful_sapling::Error;
use zestful_sapling::chain::{Chain, ChainMut, OpenOptions, SharedDisk};
use zestful_sapling::family::{Guard, Override, inspect};
use zestful_sapling::image::{Format, check_ending};
use zestful_sapling::ops::Plan;
use zestful_sapling::storage::free_space;
use zestful_sapling_attach::{
    AttachError, Backing, Catalogue, Export, FolderCatalogue, Limits, Listener, Server, Tls, UnixSocket, describe,
};

use crate::args::serve::{Forced, Serve};
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::events::{Served, Told};
use crate::report::text;
use crate::watch;

/// A scratch folder with less room than this is told of.
const LITTLE_ROOM: u64 = 256 << 20;
const BETWEEN_LOOKS: Duration = Duration::from_secs(2);

pub(super) fn run(console: &Console, typed: &Serve) -> Result<Outcome, Failure> {
    judge(typed)?;
    let tls = match (&typed.tls_certificate, &typed.tls_key) {
        (Some(certificate), Some(key)) => Some(Tls::from_files(certificate, key, typed.tls_clients.as_deref())?),
        _ => None,
    };
    if console.common().plan {
        console.show_plan(&plan(typed))?;
        return Ok(Outcome::Done);
    }
    if typed.background {
        return in_background(console, typed);
    }
    let opened = Opened::new(console, typed)?;
    let listener = listener(typed)?;
    let uris: Vec<String> = opened.names().iter().map(|name| listener.uri(name, tls.is_some())).collect();
    let server = Server::new(listener, opened.catalogue.clone(), tls, Limits::default())?;
    let stopper = server.stopper();
    watch::on_stop(move || stopper.stop());
    let teller = Teller { console, is_quiet: typed.detached, turn: Mutex::new(()) };
    opened.warnings(console, typed).iter().for_each(|warning| console.warn(warning));
    teller.serving(&uris)?;
    // Whoever started it that way waits for this.
    _ = sd_notify::notify(&[sd_notify::NotifyState::Ready]);
    let over = AtomicBool::new(false);
    let ended = std::thread::scope(|scope| {
        if typed.throwaway {
            scope.spawn(|| watch_room(&typed.scratch, &over, &teller));
        }
        let ended = server.run(&|event| teller.tell(&Told::Happened(event)));
        over.store(true, Ordering::Relaxed);
        ended
    });
    _ = sd_notify::notify(&[sd_notify::NotifyState::Stopping]);
    drop(server);
    // What is to be forgotten need not be tidy, or have room for that.
    if !typed.throwaway {
        opened.close()?;
    }
    ended?;
    teller.tell(&Told::Ended { kept: !typed.throwaway });
    Ok(Outcome::Done)
}

/// What is refused for what it would lay open, or makes no sense.
fn judge(typed: &Serve) -> Result<(), Failure> {
    if typed.path.is_dir() && (typed.writable || typed.throwaway) {
        return Err(Error::usage(
            format!("{} is a folder, whose images are served for reading", typed.path.display()),
            "name one image to have clients write to it",
        )
        .into());
    }
    let Some(address) = typed.listen else { return Ok(()) };
    let is_open = typed.writable || typed.throwaway || !is_loopback(address.ip());
    if !is_open || typed.tls_certificate.is_some() || typed.force.contains(&Forced::PlainNetwork) {
        return Ok(());
    }
    let why = match is_loopback(address.ip()) {
        true => "every user of this host could write to the disk",
        false => "everybody who reaches that address could read the disk, and change what is sent",
    };
    Err(Failure::Unsafe(format!(
        "at {address}, without TLS, {why}: give --tls-certificate and --tls-key, or use a socket; \
         --force=plain-network goes on all the same"
    )))
}

fn is_loopback(address: IpAddr) -> bool {
    address.to_canonical().is_loopback()
}

fn plan(typed: &Serve) -> Plan {
    let how = match (typed.writable, typed.throwaway) {
        (true, _) => "for reading and writing".to_owned(),
        (_, true) => format!(
            "for reading and writing, and forget what is written; it is kept in {} meanwhile",
            typed.scratch.display()
        ),
        _ => "for reading".to_owned(),
    };
    let place = match (&typed.listen, &typed.socket) {
        (Some(address), _) => format!("at {address}"),
        (None, Some(socket)) => format!("at the socket {}", socket.display()),
        (None, None) => "at a socket of its own".to_owned(),
    };
    let steps = vec![format!("serve {} {how}, {place}", typed.path.display())];
    Plan::of("serve", steps)
}

/// What is served, open and locked.
struct Opened {
    catalogue: Arc<dyn Catalogue>,
    /// The one that clients write to.
    disk: Option<Arc<SharedDisk>>,
}

impl Opened {
    fn new(console: &Console, typed: &Serve) -> Result<Self, Failure> {
        let path = &typed.path;
        if path.is_dir() {
            return Ok(Self { catalogue: Arc::new(FolderCatalogue::new(path)), disk: None });
        }
        let format: Option<Format> = typed.format.map(Into::into);
        let overrides = typed.force.iter().filter_map(|forced| match forced {
            Forced::Library(allowed) => Some(*allowed),
            Forced::PlainNetwork => None,
        });
        let overrides: Vec<Override> = overrides.collect();
        if !overrides.contains(&Override::Ending) {
            check_ending(path, format)?;
        }
        let options = with(OpenOptions::new(), format, OpenOptions::with_format);
        let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
        let (backing, description, disk) = if typed.writable {
            let guard =
                overrides.into_iter().fold(Guard::new().with_search(typed.search.search()), Guard::with_override);
            let chain = watch::patiently(console, || ChainMut::open_guarded(path, &options, &guard))?;
            let description = describe(&chain);
            let disk = Arc::new(SharedDisk::new(chain));
            (Backing::Writable(disk.clone()), description, Some(disk))
        } else {
            let chain = watch::patiently(console, || Chain::open(path, &options))?;
            let description = describe(&chain);
            match typed.throwaway {
                false => (Backing::ReadOnly(Arc::new(chain)), description, None),
                true => {
                    let disk = Arc::new(SharedDisk::new(ChainMut::over_scratch(chain, &typed.scratch)?));
                    (
                        Backing::Writable(disk.clone()),
                        format!("{description}, changes forgotten at the end"),
                        Some(disk),
                    )
                }
            }
        };
        let export = Arc::new(Export::new(name, description, backing).with_image(path)?);
        Ok(Self { catalogue: Arc::new(vec![export]), disk })
    }

    fn names(&self) -> Vec<String> {
        self.catalogue.list().into_iter().map(|(name, _)| name).collect()
    }

    /// What may go wrong later for want of room.
    fn warnings(&self, console: &Console, typed: &Serve) -> Vec<String> {
        let Some(disk) = &self.disk else { return Vec::new() };
        let (growth, free, place) = match typed.throwaway {
            true => (disk.virtual_size(), free_space(&typed.scratch).unwrap_or(u64::MAX), typed.scratch.as_path()),
            false => match inspect(&typed.path, typed.format.map(Into::into)) {
                Ok(report) => (report.most_growth, report.host_free, typed.path.as_path()),
                Err(_) => return Vec::new(),
            },
        };
        let line = format!(
            "clients can write {} more, and {} has room for {}",
            console.size(growth),
            place.display(),
            console.size(free)
        );
        if growth > free { vec![line] } else { Vec::new() }
    }

    /// Makes the disk tidy once nobody uses it any more.
    fn close(self) -> Result<(), Error> {
        drop(self.catalogue);
        match self.disk.map(Arc::into_inner) {
            Some(Some(disk)) => disk.close(),
            _ => Ok(()),
        }
    }
}

/// Where clients come in: what a service manager handed over, the address or the socket that was named, or one of ours.
fn listener(typed: &Serve) -> Result<Listener, Failure> {
    if typed.socket.is_none() && typed.listen.is_none() {
        let mut handed = listenfd::ListenFd::from_env();
        if let Ok(Some(socket)) = handed.take_unix_listener(0) {
            return Ok(Listener::Unix(UnixSocket::from_listener(socket)));
        }
    }
    if let Some(address) = typed.listen {
        return Ok(Listener::tcp(address)?);
    }
    if let Some(path) = &typed.socket {
        return Ok(Listener::Unix(UnixSocket::bind(&absolute(path)?, typed.socket_owner)?));
    }
    let folder = runtime_folder()?;
    let name = typed.path.canonicalize().unwrap_or_else(|_| typed.path.clone());
    let name = name.file_name().unwrap_or(name.as_os_str()).to_string_lossy().into_owned();
    for number in 1.. {
        let number = if number == 1 { String::new() } else { format!("-{number}") };
        // Sockets have short paths.
        let short = &name[..name.floor_char_boundary(48)];
        match UnixSocket::bind(&folder.join(format!("{short}{number}.sock")), typed.socket_owner) {
            Err(AttachError::SocketInUse { .. }) => {}
            other => return Ok(Listener::Unix(other?)),
        }
    }
    Err(Failure::Output(io::ErrorKind::AddrInUse.into()))
}

fn absolute(path: &Path) -> Result<PathBuf, Failure> {
    Ok(std::path::absolute(path)?)
}

/// The folder of this user's sockets, which goes with the host's next start.
fn runtime_folder() -> Result<PathBuf, Failure> {
    let folder = match std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from) {
        Some(own) if own.is_dir() => own.join("zsap"),
        _ if uzers::get_effective_uid() == 0 => PathBuf::from("/run/zsap"),
        _ => std::env::temp_dir().join(format!("zsap-{}", uzers::get_effective_uid())),
    };
    let made = DirBuilder::new().mode(0o711).create(&folder);
    if let Err(error) = made
        && error.kind() != io::ErrorKind::AlreadyExists
    {
        return Err(Error::Io { action: "make the folder".to_owned(), path: folder, source: error }.into());
    }
    // In a folder for all, somebody else may have made it first.
    let found = std::fs::symlink_metadata(&folder)?;
    match found.is_dir() && std::os::unix::fs::MetadataExt::uid(&found) == uzers::get_effective_uid() {
        true => Ok(folder),
        false => {
            Err(Failure::Unsafe(format!("{} belongs to somebody else: name a socket with --socket", folder.display())))
        }
    }
}

/// Starts the same command on its own, and returns when it serves.
fn in_background(console: &Console, typed: &Serve) -> Result<Outcome, Failure> {
    let words = std::env::args_os().skip(1).filter(|word| word != "--background");
    let program = std::env::current_exe()?;
    let mut server = std::process::Command::new(program)
        .args(words)
        .arg("--detached")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .spawn()?;
    let out = server.stdout.take().map(BufReader::new);
    let uris: Vec<String> = out.into_iter().flat_map(BufRead::lines).map_while(Result::ok).collect();
    if uris.is_empty() {
        return Err(Failure::Told(failed(&mut server)));
    }
    let process = server.id();
    let shown = Served::new(&uris, Some(process));
    let mut lines = uris.clone();
    lines.push(format!("{} is served by process {process}; end it with: kill {process}", text::path(&typed.path)));
    console.answer(&shown, lines)?;
    Ok(Outcome::Done)
}

/// How a server that did not come to serve ended; what it had to say is passed on.
fn failed(server: &mut Child) -> u8 {
    if let Some(mut told) = server.stderr.take() {
        _ = io::copy(&mut told, &mut io::stderr());
    }
    let status = server.wait().ok().and_then(|status| status.code());
    status.and_then(|code| u8::try_from(code).ok()).unwrap_or(1)
}

/// Tells what happens: lines for people, one JSON object a line for scripts.
struct Teller<'a> {
    console: &'a Console,
    /// The server of `--background` has nobody who reads on.
    is_quiet: bool,
    /// Whole lines take turns.
    turn: Mutex<()>,
}

impl Teller<'_> {
    fn serving(&self, uris: &[String]) -> io::Result<()> {
        if self.is_quiet {
            uris.iter().try_for_each(|uri| writeln_out(uri))?;
            return close_output();
        }
        match self.console.json() {
            true => self.console.line(&Told::Serving { uris: uris.to_vec() }),
            false => self.console.say(uris),
        }
    }

    fn tell(&self, told: &Told) {
        let _turn = self.turn.lock();
        if self.is_quiet {
            return self.console.note(&told.to_string());
        }
        // With standard output gone the clients are still there.
        _ = match self.console.json() {
            true => self.console.line(told),
            false => self.console.say([text::now() + "  " + &text::safe(&told.to_string())]),
        };
    }
}

fn writeln_out(line: &str) -> io::Result<()> {
    use io::Write;
    writeln!(io::stdout(), "{line}")
}

/// Whoever waits for the end of what is said goes on; nothing is written to a pipe that nobody reads.
fn close_output() -> io::Result<()> {
    let nothing = std::fs::OpenOptions::new().read(true).write(true).open("/dev/null")?;
    rustix::stdio::dup2_stdout(&nothing)?;
    rustix::stdio::dup2_stderr(&nothing)?;
    Ok(())
}

/// Tells once when the room for what is to be forgotten gets little, and again after there was more.
fn watch_room(folder: &Path, over: &AtomicBool, teller: &Teller<'_>) {
    let mut was_little = false;
    while !over.load(Ordering::Relaxed) {
        let free = free_space(folder).unwrap_or(u64::MAX);
        if free < LITTLE_ROOM && !was_little {
            teller.tell(&Told::LittleRoom { folder: folder.into(), shown: folder.display().to_string(), free });
        }
        was_little = free < LITTLE_ROOM;
        for _ in 0..20 {
            if over.load(Ordering::Relaxed) {
                return;
            }
            std::thread::sleep(BETWEEN_LOOKS / 20);
        }
    }
}
