//! TLS: certificate and key, read again when their files change.

use std::io;
use std::path::Path;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{ServerConfig, version};
use vadegate_core::config::service::TlsFiles;

/// How often it is looked whether the files have changed.
const LOOK: Duration = Duration::from_secs(2);

/// What was read, until there is something newer.
#[derive(Debug)]
pub(crate) struct Certificates {
    files: TlsFiles,
    present: RwLock<Arc<CertifiedKey>>,
}

/// Why there is no TLS.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be used.
    #[error("`{file}` cannot be used for TLS: {why}")]
    File {
        /// The file.
        file: String,
        /// Why.
        why: String,
    },
    /// They do not belong together.
    #[error("`{certificate}` and `{key}` cannot be used for TLS: {why}")]
    Pair {
        /// The certificate's file.
        certificate: String,
        /// The key's file.
        key: String,
        /// Why.
        why: String,
    },
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.present.read().unwrap_or_else(PoisonError::into_inner)))
    }
}

impl Certificates {
    /// Reads the files.
    pub fn read(files: &TlsFiles) -> Result<Arc<Self>, TlsError> {
        let present = RwLock::new(Arc::new(read(files)?));
        Ok(Arc::new(Certificates { files: files.clone(), present }))
    }

    /// TLS 1.2 and 1.3 with what was read last.
    pub fn config(self: &Arc<Self>) -> Result<ServerConfig, io::Error> {
        let provider = Arc::new(ring::default_provider());
        let builder = ServerConfig::builder_with_provider(provider)
            .with_protocol_versions(&[&version::TLS13, &version::TLS12])
            .map_err(io::Error::other)?;
        let resolver: Arc<dyn ResolvesServerCert> = Arc::clone(self) as _;
        Ok(builder.with_no_client_auth().with_cert_resolver(resolver))
    }

    /// Reads the files again whenever they change, until it is aborted. What cannot be used is
    /// told, and the pair before stays.
    pub async fn follow(self: Arc<Self>) {
        let mut taken = self.state();
        let mut seen = taken;
        loop {
            tokio::time::sleep(LOOK).await;
            let now = self.state();
            // Both are written by the time that they are found the same twice.
            let settled = now == seen && now != taken;
            seen = now;
            if !settled {
                continue;
            }
            taken = now;
            match read(&self.files) {
                Ok(fresh) => {
                    *self.present.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(fresh);
                    tracing::info!("the certificate was read again");
                }
                Err(error) => tracing::error!("{error}; the certificate before stays in use"),
            }
        }
    }

    fn state(&self) -> [Option<(SystemTime, u64)>; 2] {
        [&self.files.certificate, &self.files.key].map(|file| {
            let meta = std::fs::metadata(file).ok()?;
            Some((meta.modified().ok()?, meta.len()))
        })
    }
}

fn read(files: &TlsFiles) -> Result<CertifiedKey, TlsError> {
    let TlsFiles { certificate, key } = files;
    let failed =
        |file: &Path, why: String| TlsError::File { file: file.display().to_string(), why };
    let chain = CertificateDer::pem_file_iter(certificate)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|error| failed(certificate, error.to_string()))?;
    if chain.is_empty() {
        return Err(failed(certificate, "there is no certificate in it".into()));
    }
    let secret =
        PrivateKeyDer::from_pem_file(key).map_err(|error| failed(key, error.to_string()))?;
    CertifiedKey::from_der(chain, secret, &ring::default_provider()).map_err(|error| {
        TlsError::Pair {
            certificate: certificate.display().to_string(),
            key: key.display().to_string(),
            why: error.to_string(),
        }
    })
}
