//! TLS by certificate files.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::crypto::ring::default_provider;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};

use crate::error::ServeError;

/// Reads a certificate chain and its key.
pub(crate) fn acceptor((chain, key): &(PathBuf, PathBuf)) -> Result<TlsAcceptor, ServeError> {
    let unusable = |path: &Path, what: String| ServeError::Certificate { path: path.to_owned(), what };
    let certificates = CertificateDer::pem_file_iter(chain)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|error| unusable(chain, error.to_string()))?;
    if certificates.is_empty() {
        return Err(unusable(chain, "it holds no certificate".to_owned()));
    }
    let secret = PrivateKeyDer::from_pem_file(key).map_err(|error| unusable(key, error.to_string()))?;
    let mut config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(certificates, secret))
        .map_err(|error| unusable(chain, error.to_string()))?;
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}
