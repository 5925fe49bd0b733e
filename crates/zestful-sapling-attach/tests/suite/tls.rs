//! TLS: who has the right certificate comes in, and nobody else.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};
use zestful_sapling::chain::{ChainMut, SharedDisk};
use zestful_sapling::image::{Format, open_image_mut};
use zestful_sapling_attach::{AttachError, Backing, Event, Export, Limits, Listener, Server, Tls};

use crate::client::*;
use crate::scene::{MIB, blank};

/// An authority, and certificates that it signed, as files.
struct Authority {
    issuer: CertifiedIssuer<'static, KeyPair>,
    folder: PathBuf,
    name: String,
}

impl Authority {
    fn new(folder: &Path, name: &str) -> Self {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let issuer = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
        std::fs::write(folder.join(format!("{name}.pem")), issuer.pem()).unwrap();
        Self { issuer, folder: folder.to_owned(), name: name.to_owned() }
    }

    fn file(&self) -> PathBuf {
        self.folder.join(format!("{}.pem", self.name))
    }

    /// A certificate and its key.
    fn sign(&self, name: &str) -> (PathBuf, PathBuf) {
        let key = KeyPair::generate().unwrap();
        let params = CertificateParams::new(vec!["localhost".to_owned()]).unwrap();
        let signed = params.signed_by(&key, &self.issuer).unwrap();
        let place = |end: &str| self.folder.join(format!("{}-{name}.{end}", self.name));
        std::fs::write(place("pem"), signed.pem()).unwrap();
        std::fs::write(place("key"), key.serialize_pem()).unwrap();
        (place("pem"), place("key"))
    }
}

fn config(trusts: &Path, own: Option<&(PathBuf, PathBuf)>) -> ClientConfig {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_file(trusts).unwrap()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let versions = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let trusting = versions.with_root_certificates(roots);
    match own {
        None => trusting.with_no_client_auth(),
        Some((certificate, key)) => {
            let chain = vec![CertificateDer::from_pem_file(certificate).unwrap()];
            trusting.with_client_auth_cert(chain, PrivateKeyDer::from_pem_file(key).unwrap()).unwrap()
        }
    }
}

/// Connects, goes under TLS, and asks for the disk.
fn come_in(address: std::net::SocketAddr, config: ClientConfig) -> Option<Client> {
    let stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(std::time::Duration::from_secs(10))).unwrap();
    let mut plain = Client::over(stream.try_clone().unwrap(), 3);
    let required = plain.option(3, &[]);
    assert_eq!(required[0].0, (1 << 31) + 5, "without TLS nothing is told");
    assert_eq!(plain.option(5, &[]), [(1, vec![])]);
    let connection = ClientConnection::new(Arc::new(config), ServerName::try_from("localhost").unwrap()).unwrap();
    let mut secure = StreamOwned::new(connection, stream);
    secure.flush().ok()?;
    let mut client = Client { stream: Box::new(secure), structured: false, size: 0, flags: 0 };
    // A certificate that is refused shows at the first answer only.
    client.stream.write_all(&[&b"IHAVEOPT"[..], &[0, 0, 0, 8, 0, 0, 0, 0]].concat()).ok()?;
    let mut answer = [0; 20];
    client.stream.read_exact(&mut answer).ok()?;
    client.structured = true;
    client.go("", &[]);
    Some(client)
}

#[test]
fn right_certificates_come_in_and_wrong_ones_do_not() {
    let folder = tempfile::tempdir().unwrap();
    let (ours, others) = (Authority::new(folder.path(), "ours"), Authority::new(folder.path(), "others"));
    let (server_cert, server_key) = ours.sign("server");
    let (right, wrong) = (ours.sign("guest"), others.sign("guest"));
    for asks in [false, true] {
        let clients = ours.file();
        let tls = Tls::from_files(&server_cert, &server_key, asks.then_some(&*clients)).unwrap();
        let image = open_image_mut(Arc::new(blank(Format::Vhdx, 64 * MIB)), None).unwrap();
        let disk = Arc::new(SharedDisk::new(ChainMut::from_parts(image, Vec::new())));
        let export = Export::new("germination-01", "", Backing::Writable(disk));
        let listener = Listener::tcp("127.0.0.1:0".parse().unwrap()).unwrap();
        let uri = listener.uri("germination-01", true);
        let address = uri.trim_start_matches("nbds://").split('/').next().unwrap().parse().unwrap();
        let server = Server::new(listener, Arc::new(vec![Arc::new(export)]), Some(tls), Limits::default()).unwrap();
        let (stopper, events) = (server.stopper(), std::sync::Mutex::new(Vec::new()));
        std::thread::scope(|scope| {
            scope.spawn(|| server.run(&|event| events.lock().unwrap().push(event)).unwrap());
            let _end = Ending(stopper);
            let mut client = come_in(address, config(&ours.file(), Some(&right))).expect("the right one");
            // Large requests both ways at once: neither side waits for the other for ever.
            let payload: Vec<u8> = (0..8 << 20).map(|byte: u32| (byte / 777) as u8).collect();
            for number in 0..6 {
                client.send(0, WRITE, number, number * (8 << 20), payload.len() as u32, &payload);
                client.send(0, READ, 100 + number, 0, 64, &[]);
            }
            for _ in 0..12 {
                assert_eq!(client.reply(64).error, 0);
            }
            assert_eq!(client.pread(8 << 20, 8 << 20), payload);
            client.flush();
            assert!(
                come_in(address, config(&others.file(), Some(&right))).is_none(),
                "the client knows no such server"
            );
            assert_eq!(come_in(address, config(&ours.file(), None)).is_some(), !asks);
            assert_eq!(come_in(address, config(&ours.file(), Some(&wrong))).is_some(), !asks);
            // What comes with the wish for TLS, and not under it, somebody else may have put there.
            let mut early = Client::over(TcpStream::connect(address).unwrap(), 3);
            let wish = [&b"IHAVEOPT"[..], &[0, 0, 0, 5, 0, 0, 0, 0], b"IHAVEOPT", &[0, 0, 0, 3, 0, 0, 0, 0]].concat();
            early.write(&wish);
            assert!(early.is_cut());
            // The old way in has no TLS.
            let mut old = Client::over(TcpStream::connect(address).unwrap(), 0);
            old.send_option(1, b"germination-01");
            assert!(old.is_cut());
        });
        let told = events.into_inner().unwrap();
        assert!(told.iter().any(|event| matches!(event, Event::ClientCame { encrypted: true, .. })));
        assert!(told.iter().any(|event| matches!(event, Event::TurnedAway { reason, .. } if reason.contains("TLS"))));
    }
}

#[test]
fn files_that_are_no_certificates_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let ours = Authority::new(folder.path(), "ours");
    let (certificate, key) = ours.sign("server");
    let (_, other_key) = ours.sign("other");
    let empty = folder.path().join("empty");
    std::fs::write(&empty, "").unwrap();
    let missing = folder.path().join("missing");
    for (certificate, key, clients) in [
        (&missing, &key, None),
        (&empty, &key, None),
        (&certificate, &missing, None),
        (&certificate, &certificate, None),
        (&certificate, &other_key, None),
        (&certificate, &key, Some(&empty)),
        (&certificate, &key, Some(&missing)),
    ] {
        let tls = Tls::from_files(certificate, key, clients.map(|path| &**path));
        assert!(matches!(tls, Err(AttachError::Certificate { .. })), "{tls:?}");
    }
}

/// Ends the server however the test ends.
struct Ending(zestful_sapling_attach::Stopper);

impl Drop for Ending {
    fn drop(&mut self) {
        self.0.stop();
    }
}
