//! Who answers a client command: the running service, or, without one, an
//! engine in this process over the same ledger.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::time::Duration;

use serde::de::DeserializeOwned;
use vadegate_core::config::Config;
use vadegate_core::engine::{Answer, Engine, FileView, GateView, Rehearsed, running_service};
use vadegate_core::ledger::{Change, EntryDetail, Page, Query};
use vadegate_service::{Files, Problem, ServiceInfo, read_token};

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

    pub fn files(&self, gate: &str) -> Result<Vec<FileView>, Failure> {
        let remote = match self {
            Client::Service(remote) => remote,
            Client::Here(engine) => return Ok(engine.files(gate)?),
        };
        let path = format!("/api/v1/gates/{}/files", coded(gate));
        let mut files = Vec::new();
        let mut cursor: Option<String> = None;
        loop {
            let mut query = vec![("limit", "10000".to_owned())];
            query.extend(cursor.map(|cursor| ("cursor", cursor)));
            let page: Files = remote.get(&path, &query)?;
            files.extend(page.files);
            match page.next {
                Some(next) => cursor = Some(next),
                None => return Ok(files),
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
        let remote = match self {
            Client::Service(remote) => remote,
            Client::Here(engine) => return Ok(engine.entries(query)?),
        };
        let value = serde_json::to_value(query).map_err(std::io::Error::other)?;
        let mut pairs = Vec::new();
        for (name, value) in value.as_object().into_iter().flatten() {
            match value {
                serde_json::Value::Null => {}
                serde_json::Value::String(text) => pairs.push((name.as_str(), text.clone())),
                other => pairs.push((name.as_str(), other.to_string())),
            }
        }
        remote.get("/api/v1/entries", &pairs)
    }

    pub fn entry(&self, id: i64) -> Result<EntryDetail, Failure> {
        let missing =
            || Failure::Failed(format!("there is no entry {id}; `vadegate ledger` lists them"));
        match self {
            Client::Service(remote) => {
                remote.get(&format!("/api/v1/entries/{id}"), &[]).map_err(|failure| match failure {
                    Failure::Problem(problem) if problem.status == 404 => missing(),
                    other => other,
                })
            }
            Client::Here(engine) => engine.ask(|ledger| ledger.detail(id))?.ok_or_else(missing),
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

/// A name as one part of a path.
fn coded(name: &str) -> String {
    let good = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte);
    name.bytes()
        .map(|byte| if good(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect()
}

impl Remote {
    /// The service that owns the configuration's state folder, if one runs.
    pub fn of(config: &Config) -> Result<Option<Self>, Failure> {
        let state = &config.service.state;
        let Some(base) = running_service(state) else { return Ok(None) };
        let token = read_token(state).map_err(|error| Failure::Failed(error.to_string()))?;
        let agent = ureq::Agent::config_builder()
            .http_status_as_error(false)
            .timeout_connect(Some(Duration::from_secs(5)))
            .build()
            .into();
        Ok(Some(Remote { base, token, agent }))
    }

    fn unreached(&self, error: &ureq::Error) -> Failure {
        Failure::Failed(format!(
            "the service at {} does not answer: {error}; is it just starting or stopping?",
            self.base
        ))
    }

    fn bearer(&self) -> String {
        format!("Bearer {}", self.token)
    }

    pub fn get<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<T, Failure> {
        let request = self
            .agent
            .get(format!("{}{path}", self.base))
            .query_pairs(query.iter().map(|(name, value)| (*name, value.as_str())))
            .header("Authorization", self.bearer());
        self.read(request.call())
    }

    pub fn post<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        let request =
            self.agent.post(format!("{}{path}", self.base)).header("Authorization", self.bearer());
        self.read(request.send_empty())
    }

    /// A doing at a gate: `pass`, `pause` or `resume`.
    pub fn at_gate<T: DeserializeOwned>(&self, gate: &str, doing: &str) -> Result<T, Failure> {
        self.post(&format!("/api/v1/gates/{}/{doing}", coded(gate)))
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
            return serde_json::from_str(&text).map_err(|error| {
                Failure::Failed(format!("the service's answer is not understood: {error}; is it of the same version as this command?"))
            });
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
