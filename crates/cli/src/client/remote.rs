//! The running service, asked by HTTP.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::de::DeserializeOwned;
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use vadegate_core::config::Config;
use vadegate_core::engine::running_service;
use vadegate_core::ledger::{Change, ChangeId};
use vadegate_service::{Problem, read_token};

use super::asked::{Asked, asked};
use crate::failure::Failure;

/// Who vouches for a service.
#[derive(Clone, Copy)]
enum Trust<'a> {
    /// It is our own, on this machine.
    Own,
    /// Those whom the system trusts.
    System,
    /// Those, and who stands in this file.
    Also(&'a Path),
}

fn tls(trust: Trust<'_>) -> Result<TlsConfig, Failure> {
    let mut roots = match trust {
        Trust::Own => Vec::new(),
        _ => rustls_native_certs::load_native_certs().certs,
    };
    if let Trust::Also(file) = trust {
        let failed = |why: String| {
            Failure::Wrong(format!(
                "the certificates in `{}` cannot be used: {why}",
                file.display()
            ))
        };
        let found = CertificateDer::pem_file_iter(file)
            .and_then(Iterator::collect::<Result<Vec<_>, _>>)
            .map_err(|error| failed(error.to_string()))?;
        if found.is_empty() {
            return Err(failed("there is none in it".into()));
        }
        roots.extend(found);
    }
    let roots = roots.iter().map(|one| Certificate::from_der(one).to_owned()).collect();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    Ok(TlsConfig::builder()
        .root_certs(RootCerts::Specific(Arc::new(roots)))
        .disable_verification(matches!(trust, Trust::Own))
        .unversioned_rustls_crypto_provider(provider)
        .build())
}

/// A running service.
pub struct Remote {
    base: String,
    token: String,
    agent: ureq::Agent,
}

fn not_understood(error: &serde_json::Error) -> Failure {
    Failure::Failed(format!(
        "the service's answer is not understood: {error}; is it of the same version as this command?"
    ))
}

/// A name as one part of a path.
pub fn coded(name: &str) -> String {
    /// Letters, digits, and what RFC 3986 calls unreserved, stand as they are.
    const KEPT: AsciiSet = NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');
    utf8_percent_encode(name, &KEPT).to_string()
}

impl Remote {
    /// The service that is asked: one elsewhere where the command line says so, or the one that
    /// owns the configuration's state folder, if it runs.
    pub fn of(config: &Config) -> Result<Option<Self>, Failure> {
        if let Some(remote) = Remote::elsewhere()? {
            return Ok(Some(remote));
        }
        let state = &config.service.state;
        let token = asked().token.clone();
        let Some(base) = running_service(state) else {
            return match token {
                None => Ok(None),
                Some(_) => Err(Failure::Failed(
                    "no service is running here, and a token is shown to a service; start `vadegate serve`, or leave the token out".into(),
                )),
            };
        };
        let token = match token {
            Some(token) => token,
            None => read_token(state).map_err(|error| Failure::Failed(error.to_string()))?,
        };
        // It is the one that has written its address into its own folder: who could listen in
        // its place could as well read its token. Its certificate is for its name.
        Remote::at(&base, &token, Trust::Own).map(Some)
    }

    /// The service elsewhere that the command line names.
    pub fn elsewhere() -> Result<Option<Self>, Failure> {
        let Asked { service, token, certificates } = asked();
        let (Some(service), Some(token)) = (service, token) else { return Ok(None) };
        let trust = certificates.as_deref().map_or(Trust::System, Trust::Also);
        Remote::at(service, token, trust).map(Some)
    }

    pub(super) fn unreached(&self, error: &ureq::Error) -> Failure {
        Failure::Away(format!(
            "the service at {} does not answer: {error}; is it just starting or stopping?",
            self.base
        ))
    }

    pub(super) fn bearer(&self) -> String {
        format!("Bearer {}", self.token)
    }

    /// Where a path of the service is.
    pub(super) fn url(&self, path: &str) -> String {
        format!("{}{path}", self.base)
    }

    pub(super) fn agent(&self) -> &ureq::Agent {
        &self.agent
    }

    /// A service at an address, with its token.
    fn at(base: &str, token: &str, trust: Trust<'_>) -> Result<Self, Failure> {
        let mut settings = ureq::Agent::config_builder()
            .http_status_as_error(false)
            // A token goes to nobody but whom it is for.
            .max_redirects(0)
            .max_redirects_will_error(false)
            .timeout_connect(Some(Duration::from_secs(5)));
        if base.starts_with("https://") {
            settings = settings.tls_config(tls(trust)?);
        }
        Ok(Remote {
            base: base.trim_end_matches('/').to_owned(),
            token: token.trim().to_owned(),
            agent: settings.build().into(),
        })
    }

    pub fn get<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<T, Failure> {
        let pairs = query.iter().map(|(name, value)| ((*name).to_owned(), value.clone()));
        self.get_with(path, &pairs.collect::<Vec<_>>())
    }

    pub(super) fn get_with<T: DeserializeOwned>(
        &self,
        path: &str,
        pairs: &[(String, String)],
    ) -> Result<T, Failure> {
        let request = self
            .agent
            .get(format!("{}{path}", self.base))
            .query_pairs(pairs.iter().map(|(name, value)| (name.as_str(), value.as_str())))
            .header("Authorization", self.bearer());
        self.read(request.call())
    }

    /// Sends a JSON document; an answer without a body is `null`.
    pub fn send<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl serde::Serialize,
    ) -> Result<T, Failure> {
        let body = serde_json::to_string(body).map_err(std::io::Error::other)?;
        let request = self
            .agent
            .post(format!("{}{path}", self.base))
            .header("Authorization", self.bearer())
            .header("Content-Type", "application/json");
        self.read(request.send(body))
    }

    /// The bytes of an answer, as they come.
    pub fn bytes(&self, path: &str) -> Result<impl std::io::Read + use<>, Failure> {
        let request =
            self.agent.get(format!("{}{path}", self.base)).header("Authorization", self.bearer());
        let answer = request.call().map_err(|error| self.unreached(&error))?;
        if !answer.status().is_success() {
            let refused = self.read::<serde_json::Value>(Ok(answer));
            return Err(refused.err().unwrap_or_else(|| Failure::Failed("no bytes".into())));
        }
        Ok(answer.into_body().into_reader())
    }

    /// Has something removed.
    pub fn delete(&self, path: &str) -> Result<(), Failure> {
        let request = self
            .agent
            .delete(format!("{}{path}", self.base))
            .header("Authorization", self.bearer());
        self.read::<serde_json::Value>(request.call()).map(drop)
    }

    pub fn post<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        let request =
            self.agent.post(format!("{}{path}", self.base)).header("Authorization", self.bearer());
        self.read(request.send_empty())
    }

    /// A doing at a gate: `pass`, `pause` or `resume`.
    pub fn at_gate<T: DeserializeOwned>(
        &self,
        gate: &str,
        doing: &str,
        query: &[(&str, &str)],
    ) -> Result<T, Failure> {
        let request = self
            .agent
            .post(format!("{}/api/v1/gates/{}/{doing}", self.base, coded(gate)))
            .query_pairs(query.iter().copied())
            .header("Authorization", self.bearer());
        self.read(request.send_empty())
    }

    /// Gives each line of a list in JSON Lines as it comes; a problem in place of a
    /// thing ends it.
    pub fn each_line<T: DeserializeOwned>(
        &self,
        path: &str,
        each: impl FnMut(T) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        self.each_line_with(path, &[], each)
    }

    pub(super) fn each_line_with<T: DeserializeOwned>(
        &self,
        path: &str,
        pairs: &[(String, String)],
        mut each: impl FnMut(T) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let request = self
            .agent
            .get(format!("{}{path}", self.base))
            .query_pairs(pairs.iter().map(|(name, value)| (name.as_str(), value.as_str())))
            .header("Authorization", self.bearer());
        let answer = request.call().map_err(|error| self.unreached(&error))?;
        if !answer.status().is_success() {
            return self.read::<serde_json::Value>(Ok(answer)).map(|_| ());
        }
        for line in BufReader::new(answer.into_body().into_reader()).lines() {
            let line = line.map_err(|error| {
                Failure::Failed(format!("the service at {} broke off: {error}", self.base))
            })?;
            match serde_json::from_str::<T>(&line) {
                Ok(one) => each(one)?,
                Err(error) => {
                    return Err(match serde_json::from_str::<Problem>(&line) {
                        Ok(problem) => Failure::Problem(problem),
                        Err(_) => not_understood(&error),
                    });
                }
            }
        }
        Ok(())
    }

    pub(super) fn read<T: DeserializeOwned>(
        &self,
        answer: Result<http::Response<ureq::Body>, ureq::Error>,
    ) -> Result<T, Failure> {
        let mut answer = answer.map_err(|error| self.unreached(&error))?;
        let status = answer.status();
        let text = answer
            .body_mut()
            .with_config()
            .limit(1 << 30)
            .read_to_string()
            .map_err(|error| self.unreached(&error))?;
        if status.is_success() {
            let text = if text.is_empty() { "null" } else { &text };
            return serde_json::from_str(text).map_err(|error| not_understood(&error));
        }
        match serde_json::from_str::<Problem>(&text) {
            Ok(problem) => Err(Failure::Problem(problem)),
            Err(_) => Err(Failure::Failed(format!("the service answered {status}"))),
        }
    }

    /// Follows the live changes after `last`, until the service ends or `each`
    /// fails.
    pub fn follow(
        &self,
        last: ChangeId,
        mut each: impl FnMut(&Change) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let answer = self
            .agent
            .get(format!("{}/api/v1/events", self.base))
            .header("Authorization", self.bearer())
            .header("Last-Event-ID", last.to_string())
            .call()
            .map_err(|error| self.unreached(&error))?;
        let mut event = String::new();
        for line in BufReader::new(answer.into_body().into_reader()).lines() {
            // The stream ends with the service.
            let Ok(line) = line else { break };
            if let Some(name) = line.strip_prefix("event: ") {
                event = name.to_owned();
            } else if let Some(data) = line.strip_prefix("data: ")
                && event == "change"
                && let Ok(change) = serde_json::from_str(data)
            {
                each(&change)?;
            }
        }
        Ok(())
    }
}
