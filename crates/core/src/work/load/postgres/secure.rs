//! Encrypted connections: the server must be vouched for.

use std::sync::Arc;

use postgres::Config;
use postgres::config::{Host, SslMode};
use rustls::crypto::ring;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::work::load::config::Server;
use crate::work::load::destination::DbError;

/// What encrypts a connection; none where none is wanted, or where it goes through a
/// socket of this machine.
pub(crate) fn connector(
    config: &Config,
    server: &Server,
) -> Result<Option<MakeRustlsConnect>, DbError> {
    let local = config.get_hosts().iter().all(|host| matches!(host, Host::Unix(_)));
    if config.get_ssl_mode() == SslMode::Disable || local {
        return Ok(None);
    }
    let mut roots = RootCertStore::empty();
    if let Some(path) = &server.certificates {
        let failed = |why: String| {
            DbError::Away(format!("the certificates in `{}` cannot be used: {why}", path.display()))
        };
        let found =
            CertificateDer::pem_file_iter(path).map_err(|error| failed(error.to_string()))?;
        for certificate in found {
            let certificate = certificate.map_err(|error| failed(error.to_string()))?;
            roots.add(certificate).map_err(|error| failed(error.to_string()))?;
        }
        if roots.is_empty() {
            return Err(failed("there is none in it".into()));
        }
    } else {
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    }
    let tls = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(|error| DbError::Away(error.to_string()))?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(Some(MakeRustlsConnect::new(tls)))
}
