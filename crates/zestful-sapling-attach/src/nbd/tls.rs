//! TLS: who the server is, and which clients may come.

use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::{RootCertStore, ServerConfig};

use crate::error::AttachError;

/// What a server shows its clients, and asks of them.
#[derive(Clone, Debug)]
pub struct Tls(pub(crate) Arc<ServerConfig>);

impl Tls {
    /// The server shows the certificates of one file (PEM, its own first) and has the key of another. With `clients`,
    /// only those come in that show a certificate signed by one in that file.
    ///
    /// # Errors
    /// `Certificate` when one of the files cannot be read, or does not fit the others.
    pub fn from_files(certificate: &Path, key: &Path, clients: Option<&Path>) -> Result<Self, AttachError> {
        let shown = certificates(certificate)?;
        let secret = PrivateKeyDer::from_pem_file(key).map_err(|error| AttachError::certificate(key, error))?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let versions = ServerConfig::builder_with_provider(provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(|error| AttachError::certificate(certificate, error))?;
        let asked = match clients {
            None => versions.with_no_client_auth(),
            Some(path) => {
                let mut roots = RootCertStore::empty();
                for signer in certificates(path)? {
                    roots.add(signer).map_err(|error| AttachError::certificate(path, error))?;
                }
                let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider).build();
                versions.with_client_cert_verifier(verifier.map_err(|error| AttachError::certificate(path, error))?)
            }
        };
        let config = asked.with_single_cert(shown, secret);
        Ok(Self(Arc::new(config.map_err(|error| AttachError::certificate(certificate, error))?)))
    }
}

/// All certificates of a file, of which there is at least one.
fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, AttachError> {
    let read = CertificateDer::pem_file_iter(path).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    match read {
        Ok(found) if found.is_empty() => Err(AttachError::certificate(path, "there is no certificate in it")),
        Ok(found) => Ok(found),
        Err(error) => Err(AttachError::certificate(path, error)),
    }
}
