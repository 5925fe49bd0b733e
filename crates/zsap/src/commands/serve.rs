//! `zsap serve`.

use std::net::IpAddr;
use std::sync::Arc;

use zestful_sapling::Error;
use zestful_sapling::family::Override;
use zestful_sapling::ops::Plan;
use zestful_sapling_attach::{
    AttachError, Catalogue, FolderCatalogue, Limits, Listener, Mode, Opened, Server, Tls, UnixSocket, runtime_folder,
};

use super::attach::{self, First};
use crate::args::serve::{Forced, Serve};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::events::Told;

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
    if typed.attaching.background {
        return attach::in_background(console, &typed.path);
    }
    let (catalogue, opened) = open(console, typed)?;
    let listener = listener(typed)?;
    let names = catalogue.list().into_iter().map(|(name, _)| name);
    let uris: Vec<String> = names.map(|name| listener.uri(&name, tls.is_some())).collect();
    let server = Server::new(listener, catalogue, tls, Limits::default())?;
    let first = First { lines: uris.clone(), told: Told::Serving { uris } };
    attach::run(console, &typed.path, &typed.attaching, Arc::new(server), opened, &first)
}

/// What is served, open and locked.
fn open(console: &Console, typed: &Serve) -> Result<(Arc<dyn Catalogue>, Option<Opened>), Failure> {
    if typed.path.is_dir() {
        return Ok((Arc::new(FolderCatalogue::new(&typed.path)), None));
    }
    let overrides = typed.force.iter().filter_map(|forced| match forced {
        Forced::Library(allowed) => Some(*allowed),
        Forced::PlainNetwork => None,
    });
    let overrides: Vec<Override> = overrides.collect();
    let opened = attach::open(console, &typed.path, &typed.attaching, &overrides)?;
    Ok((Arc::new(vec![opened.export().clone()]), Some(opened)))
}

/// What is refused for what it would lay open, or makes no sense.
fn judge(typed: &Serve) -> Result<(), Failure> {
    let is_read_only = typed.attaching.mode() == Mode::ReadOnly;
    if typed.path.is_dir() && !is_read_only {
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

fn plan(typed: &Serve) -> Plan {
    let place = match (&typed.listen, &typed.socket) {
        (Some(address), _) => format!("at {address}"),
        (None, Some(socket)) => format!("at the socket {}", socket.display()),
        (None, None) => "at a socket of its own".to_owned(),
    };
    let steps = vec![format!("serve {} {}, {place}", typed.path.display(), typed.attaching.words())];
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
