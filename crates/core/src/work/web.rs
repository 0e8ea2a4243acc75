//! Who makes requests of the web.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use ureq::Agent;
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use vadegate_places::{CertificateFault, certificates_in};

/// An agent that follows no redirect and knows no proxy; `secure` where it needs TLS, with
/// the certificates of those who vouch for the receiver, or those of the system.
pub(crate) fn agent(
    limit: Duration,
    secure: bool,
    trusted: Option<&Path>,
) -> Result<Agent, CertificateFault> {
    let mut settings = Agent::config_builder()
        .http_status_as_error(false)
        // A redirect is an answer: who gets the files is what the gate says.
        .max_redirects(0)
        .max_redirects_will_error(false)
        .timeout_global(Some(limit))
        // One that was closed meanwhile would look like a request that was cut.
        .max_idle_connections(0)
        .proxy(None)
        .user_agent("vadegate")
        .accept_encoding("identity");
    if secure {
        let roots = match trusted {
            Some(path) => certificates_in(path)?,
            None => rustls_native_certs::load_native_certs().certs,
        };
        let roots = roots.iter().map(|one| Certificate::from_der(one).to_owned()).collect();
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = TlsConfig::builder()
            .root_certs(RootCerts::Specific(Arc::new(roots)))
            .unversioned_rustls_crypto_provider(provider);
        settings = settings.tls_config(tls.build());
    }
    Ok(settings.build().new_agent())
}
