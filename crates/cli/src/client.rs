//! Who answers a client command: the running service, or, without one, an
//! engine in this process over the same ledger.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::time::Duration;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::de::DeserializeOwned;
use vadegate_core::act::{Adoption, Done};
use vadegate_core::ask::{Answer, EntryView, FileView, GateView, LoadedRows, Rehearsed};
use vadegate_core::config::Config;
use vadegate_core::engine::{Engine, EngineError, running_service};
use vadegate_core::ledger::{Change, Count, Entry, OutputAccount, Page, Query};
use vadegate_service::{AdoptOrder, Order, Problem, ServiceInfo, TrimOrder, Trimmed, read_token};

use crate::failure::Failure;

/// Who answers.
pub enum Client {
    /// The service that owns the state folder.
    Service(Remote),
    /// Nobody is running: this process.
    Here(Box<Engine>),
}

/// A running service.
pub struct Remote {
    base: String,
    token: String,
    agent: ureq::Agent,
}

impl Client {
    /// Finds who answers for a configuration.
    pub fn of(config: Config) -> Result<Self, Failure> {
        match Remote::of(&config)? {
            Some(remote) => Ok(Client::Service(remote)),
            None => Ok(Client::Here(Box::new(Engine::open_to_ask(config)?))),
        }
    }

    /// What is wrong with the configuration file that the service did not take.
    pub fn fault(&self) -> Result<Option<String>, Failure> {
        match self {
            Client::Service(remote) => Ok(remote.get::<ServiceInfo>("/api/v1/service", &[])?.fault),
            Client::Here(_) => Ok(None),
        }
    }

    pub fn gates(&self) -> Result<Vec<GateView>, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/gates", &[]),
            Client::Here(engine) => Ok(engine.gates()?),
        }
    }

    pub fn gate(&self, name: &str) -> Result<GateView, Failure> {
        match self {
            Client::Service(remote) => remote.get(&format!("/api/v1/gates/{}", coded(name)), &[]),
            Client::Here(engine) => Ok(engine.gate(name)?),
        }
    }

    /// Gives each thing in a gate's drop folders, in the folders' own order.
    pub fn each_file(
        &self,
        gate: &str,
        mut each: impl FnMut(FileView) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        match self {
            Client::Service(remote) => {
                remote.each_line(&format!("/api/v1/gates/{}/files.jsonl", coded(gate)), each)
            }
            Client::Here(engine) => {
                let mut failed = Ok(());
                engine.each_file(gate, |file| {
                    failed = each(file);
                    failed.is_ok()
                })?;
                failed
            }
        }
    }

    pub fn rehearse(&self, gate: &str) -> Result<Vec<Rehearsed>, Failure> {
        match self {
            Client::Service(remote) => {
                remote.get(&format!("/api/v1/gates/{}/rehearsal", coded(gate)), &[])
            }
            Client::Here(engine) => Ok(engine.rehearse(gate)?),
        }
    }

    pub fn why(&self, path: &Path) -> Result<Answer, Failure> {
        let path = path.display().to_string();
        match self {
            Client::Service(remote) => remote.get("/api/v1/why", &[("path", path)]),
            Client::Here(engine) => Ok(engine.why(&path, Path::new("/"))?),
        }
    }

    pub fn entries(&self, query: &Query) -> Result<Page, Failure> {
        match self {
            Client::Service(remote) => remote.get_with("/api/v1/entries", &pairs(query)?),
            Client::Here(engine) => Ok(engine.entries(query)?),
        }
    }

    /// How many entries fit; `by` are gate, state and day, parted by commas.
    pub fn count(&self, query: &Query, by: &str) -> Result<Vec<Count>, Failure> {
        match self {
            Client::Service(remote) => {
                let mut pairs = pairs(query)?;
                pairs.push(("by".into(), by.to_owned()));
                remote.get_with("/api/v1/entries/count", &pairs)
            }
            Client::Here(engine) => {
                let words = by.split(',').map(str::trim).filter(|word| !word.is_empty());
                let by = words.map(|word| {
                    serde_json::from_value(word.into()).map_err(|_| {
                        Failure::Wrong(format!("`{word}`: expected gate, state or day"))
                    })
                });
                Ok(engine.count(query, &by.collect::<Result<Vec<_>, _>>()?)?)
            }
        }
    }

    /// Gives each entry that fits.
    pub fn each_entry(
        &self,
        query: &Query,
        mut each: impl FnMut(Entry) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        match self {
            Client::Service(remote) => {
                remote.each_line_with("/api/v1/entries.jsonl", &pairs(query)?, each)
            }
            Client::Here(engine) => {
                let mut failed = Ok(());
                engine.ask(|ledger| {
                    ledger.each(query, |entry| {
                        failed = each(entry);
                        failed.is_ok()
                    })
                })?;
                failed
            }
        }
    }

    pub fn entry(&self, id: i64) -> Result<EntryView, Failure> {
        match self {
            Client::Service(remote) => remote.get(&format!("/api/v1/entries/{id}"), &[]),
            Client::Here(engine) => Ok(engine.entry(id)?.ok_or(EngineError::NoEntry(id))?),
        }
    }

    /// The first rows of an entry in the database into which it was loaded.
    pub fn loaded_rows(&self, id: i64, limit: u32) -> Result<LoadedRows, Failure> {
        match self {
            Client::Service(remote) => {
                let limit = [("limit", limit.to_string())];
                remote.get(&format!("/api/v1/entries/{id}/rows"), &limit)
            }
            Client::Here(engine) => Ok(engine.loaded_rows(id, limit)?),
        }
    }

    /// What was written into an output, and its newest batches.
    pub fn written_into(&self, path: &str, limit: u32) -> Result<OutputAccount, Failure> {
        match self {
            Client::Service(remote) => {
                let query = [("path", path.to_owned()), ("limit", limit.to_string())];
                remote.get("/api/v1/outputs", &query)
            }
            Client::Here(engine) => {
                Ok(engine.ask(|ledger| ledger.written_into(path, None, Some(limit)))?)
            }
        }
    }

    pub fn changes(&self, after: Option<i64>, limit: u32) -> Result<Vec<Change>, Failure> {
        match self {
            Client::Service(remote) => {
                let mut query = vec![("limit", limit.to_string())];
                query.extend(after.map(|after| ("after", after.to_string())));
                remote.get("/api/v1/changes", &query)
            }
            Client::Here(engine) => Ok(match after {
                Some(after) => engine.ask(|ledger| ledger.changes_after(after, limit))?,
                None => engine.ask(|ledger| ledger.newest_changes(limit))?,
            }),
        }
    }
}

fn not_understood(error: &serde_json::Error) -> Failure {
    Failure::Failed(format!(
        "the service's answer is not understood: {error}; is it of the same version as this command?"
    ))
}

/// A filter as the parts of a query.
fn pairs(query: &Query) -> Result<Vec<(String, String)>, Failure> {
    let value = serde_json::to_value(query).map_err(std::io::Error::other)?;
    let mut pairs = Vec::new();
    for (name, value) in value.as_object().into_iter().flatten() {
        match value {
            serde_json::Value::Null => {}
            serde_json::Value::String(text) => pairs.push((name.clone(), text.clone())),
            other => pairs.push((name.clone(), other.to_string())),
        }
    }
    Ok(pairs)
}

/// Who does something to the ledger: the running service, or, without one, an engine
/// in this process that has taken the state folder's lock.
pub enum Doer {
    /// The service.
    Service(Remote),
    /// This process.
    Here(Box<Engine>),
}

impl Doer {
    /// Finds who does it for a configuration.
    pub fn of(config: Config) -> Result<Self, Failure> {
        Ok(match Remote::of(&config)? {
            Some(remote) => Doer::Service(remote),
            None => Doer::Here(Box::new(Engine::open(config)?)),
        })
    }

    pub fn apply_action(&self, order: &Order) -> Result<Done, Failure> {
        match self {
            Doer::Service(remote) => remote.send("/api/v1/entries/actions", order),
            Doer::Here(engine) => Ok(order.clone().carry_out(engine)?),
        }
    }

    pub fn adopt(&self, gate: &str, order: &AdoptOrder) -> Result<Adoption, Failure> {
        match self {
            Doer::Service(remote) => {
                remote.send(&format!("/api/v1/gates/{}/adopt", coded(gate)), order)
            }
            Doer::Here(engine) => Ok(order.clone().carry_out(engine, gate)?),
        }
    }

    pub fn trim(&self, order: &TrimOrder) -> Result<Trimmed, Failure> {
        match self {
            Doer::Service(remote) => remote.send("/api/v1/ledger/trim", order),
            Doer::Here(engine) => Ok(order.carry_out(engine)?),
        }
    }
}

/// A name as one part of a path.
pub fn coded(name: &str) -> String {
    /// Letters, digits, and what RFC 3986 calls unreserved, stand as they are.
    const KEPT: AsciiSet = NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');
    utf8_percent_encode(name, &KEPT).to_string()
}

impl Remote {
    /// The service that owns the configuration's state folder, if one runs.
    pub fn of(config: &Config) -> Result<Option<Self>, Failure> {
        let state = &config.service.state;
        let Some(base) = running_service(state) else { return Ok(None) };
        let token = read_token(state).map_err(|error| Failure::Failed(error.to_string()))?;
        Ok(Some(Remote::at(&base, &token)))
    }

    fn unreached(&self, error: &ureq::Error) -> Failure {
        Failure::Away(format!(
            "the service at {} does not answer: {error}; is it just starting or stopping?",
            self.base
        ))
    }

    fn bearer(&self) -> String {
        format!("Bearer {}", self.token)
    }

    /// A service at an address, with its token.
    pub fn at(base: &str, token: &str) -> Self {
        let agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .timeout_connect(Some(Duration::from_secs(5)))
            .build()
            .into();
        Remote {
            base: base.trim_end_matches('/').to_owned(),
            token: token.trim().to_owned(),
            agent,
        }
    }

    pub fn get<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<T, Failure> {
        let pairs = query.iter().map(|(name, value)| ((*name).to_owned(), value.clone()));
        self.get_with(path, &pairs.collect::<Vec<_>>())
    }

    fn get_with<T: DeserializeOwned>(
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

    fn each_line_with<T: DeserializeOwned>(
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

    fn read<T: DeserializeOwned>(
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
        last: i64,
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
