//! `zsap serve`.

use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::Error;
use zestful_sapling::family::Override;
use zestful_sapling::grove::{Grove, Role};
use zestful_sapling::image::Format;
use zestful_sapling::ops::Plan;
use zestful_sapling_attach::{
    AttachError, Catalogue, FolderCatalogue, Limits, Listener, MachineCatalogue, Mode, Opened, Server, Tls, UnixSocket,
    runtime_folder,
};

use super::attach::{self, AttachedDisk, First};
use crate::args::serve::{Forced, Serve};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::events::Told;

/// What is meant by what was typed.
enum Meant {
    /// One image, under a name of its own where it is a disk of a machine.
    Image { path: PathBuf, name: Option<String>, format: Option<Format> },
    /// All disks of a machine.
    Machine(Grove),
    /// All images of a folder, for reading.
    Folder(PathBuf),
}

impl Meant {
    fn by(typed: &Serve) -> Result<Self, Error> {
        let (disk, checkpoint) = (typed.machine.disk.as_deref(), typed.machine.checkpoint.as_deref());
        let grove = if typed.path.is_dir() { Grove::at(&typed.path)? } else { None };
        let Some(grove) = grove else {
            let path = typed.machine.image(&typed.path)?;
            return match (path.is_dir(), typed.all_disks) {
                (false, false) => Ok(Self::Image { path, name: None, format: None }),
                (true, false) => Ok(Self::Folder(path)),
                (_, true) => Err(Error::usage(
                    format!("{} is not the folder of a machine", path.display()),
                    "only a machine has disks that belong together",
                )),
            };
        };
        let is_one = disk.is_some() || checkpoint.is_some();
        let may_be_all = typed.all_disks || typed.attaching.mode() == Mode::ReadOnly;
        if !is_one && (may_be_all || grove.catalogue().disks.len() == 1) {
            return Ok(Self::Machine(grove));
        }
        if !is_one {
            let labels: Vec<&str> = grove.catalogue().disks.iter().map(|disk| &*disk.label).collect();
            return Err(Error::usage(
                format!("the machine {} has {} disks", grove.catalogue().machine, labels.len()),
                format!("serve all of them together (--all-disks), or one (--disk): {}", labels.join(", ")),
            ));
        }
        let place = grove.place(disk, checkpoint)?;
        let name = match &place.checkpoint {
            Some(checkpoint) => format!("{}@{checkpoint}", place.label),
            None => place.label.clone(),
        };
        let path = typed.machine.image(&typed.path)?;
        Ok(Self::Image { path, name: Some(name), format: Some(place.format) })
    }

    /// What would end it.
    fn target<'a>(&'a self, typed: &'a Serve) -> &'a Path {
        match self {
            Self::Image { path, .. } => path,
            Self::Machine(_) | Self::Folder(_) => &typed.path,
        }
    }
}

pub(super) fn run(console: &Console, typed: &Serve) -> Result<Outcome, Failure> {
    let meant = Meant::by(typed)?;
    judge(typed, &meant)?;
    let tls = match (&typed.tls_certificate, &typed.tls_key) {
        (Some(certificate), Some(key)) => Some(Tls::from_files(certificate, key, typed.tls_clients.as_deref())?),
        _ => None,
    };
    if console.common().plan {
        console.show_plan(&plan(typed, &meant))?;
        return Ok(Outcome::Done);
    }
    if typed.attaching.background {
        return attach::in_background(console, meant.target(typed));
    }
    let (catalogue, opened) = open(console, typed, &meant)?;
    let listener = listener(typed)?;
    let names = catalogue.list().into_iter().map(|(name, _)| name);
    // Of a machine's checkpoints there may be many.
    let is_told = |name: &String| !matches!(meant, Meant::Machine(_)) || !name.contains('@');
    let uris: Vec<String> = names.filter(is_told).map(|name| listener.uri(&name, tls.is_some())).collect();
    let mut lines = uris.clone();
    if let Meant::Machine(grove) = &meant
        && let Some(disk) = grove.catalogue().disks.first()
    {
        let uri = listener.uri(&format!("{}@NAME", disk.label), tls.is_some());
        lines.push(format!("  as it was at a checkpoint, for reading: {uri}"));
    }
    let server = Server::new(listener, catalogue, tls, Limits::default())?;
    let first = First { lines, told: Told::Serving { uris } };
    attach::run(console, meant.target(typed), &typed.attaching, Arc::new(server), opened, &first)
}

/// What is served, open and locked as far as it is open all the time.
fn open(console: &Console, typed: &Serve, meant: &Meant) -> Result<(Arc<dyn Catalogue>, Vec<Opened>), Failure> {
    let overrides = typed.force.iter().filter_map(|forced| match forced {
        Forced::Library(allowed) => Some(*allowed),
        Forced::PlainNetwork => None,
    });
    let overrides: Vec<Override> = overrides.collect();
    match meant {
        Meant::Folder(path) => Ok((Arc::new(FolderCatalogue::new(path)), Vec::new())),
        Meant::Image { path, name, format } => {
            let disk = AttachedDisk { path, name: name.as_deref(), format: *format, mode: typed.attaching.mode() };
            let opened = attach::open(console, &disk, &typed.attaching, &overrides)?;
            Ok((Arc::new(vec![opened.export().clone()]), vec![opened]))
        }
        Meant::Machine(grove) => {
            let mode = typed.attaching.mode();
            let mut opened = Vec::new();
            for disk in grove.catalogue().disks.iter().filter(|_| mode != Mode::ReadOnly) {
                // What is written to such a disk is forgotten, however the others are attached.
                let mode = if disk.role == Role::Throwaway { Mode::Throwaway } else { mode };
                let path = grove.folder().join(&disk.path);
                let disk = AttachedDisk { path: &path, name: Some(&disk.label), format: Some(disk.format), mode };
                opened.push(attach::open(console, &disk, &typed.attaching, &overrides)?);
            }
            let exports = opened.iter().map(|opened| opened.export().clone()).collect();
            Ok((Arc::new(MachineCatalogue::new(grove.folder(), exports)), opened))
        }
    }
}

/// What is refused for what it would lay open, or makes no sense.
fn judge(typed: &Serve, meant: &Meant) -> Result<(), Failure> {
    let is_read_only = typed.attaching.mode() == Mode::ReadOnly;
    if matches!(meant, Meant::Folder(_)) && !is_read_only {
        return Err(Error::usage(
            format!("{} is a folder, whose images are served for reading", typed.path.display()),
            "name one image to have clients write to it",
        )
        .into());
    }
    let Some(address) = typed.listen else { return Ok(()) };
    let is_open = !is_read_only || !is_loopback(address.ip());
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

fn plan(typed: &Serve, meant: &Meant) -> Plan {
    let place = match (&typed.listen, &typed.socket) {
        (Some(address), _) => format!("at {address}"),
        (None, Some(socket)) => format!("at the socket {}", socket.display()),
        (None, None) => "at a socket of its own".to_owned(),
    };
    let what = match meant {
        Meant::Machine(grove) => format!("all disks of {}", grove.catalogue().machine),
        Meant::Image { path, .. } | Meant::Folder(path) => path.display().to_string(),
    };
    let steps = vec![format!("serve {what} {}, {place}", typed.attaching.words())];
    Plan::of("serve", steps)
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
        return Ok(Listener::Unix(UnixSocket::bind(&std::path::absolute(path)?, typed.socket_owner)?));
    }
    let folder = runtime_folder()?;
    let name = typed.path.canonicalize().unwrap_or_else(|_| typed.path.clone());
    let name = name.file_name().unwrap_or(name.as_os_str()).to_string_lossy().into_owned();
    for number in 1.. {
        let number = if number == 1 { String::new() } else { format!("-{number}") };
        // Sockets have short paths.
        let short = &name[..name.floor_char_boundary(48)];
        match UnixSocket::bind(&folder.join(format!("{short}{number}.sock")), None) {
            Err(AttachError::SocketInUse { .. }) => {}
            other => return Ok(Listener::Unix(other?)),
        }
    }
    Err(Failure::Output(std::io::ErrorKind::AddrInUse.into()))
}
