//! Who answers a client command: the running service, or, without one, an
//! engine in this process over the same ledger.

mod asked;
mod doer;
mod handing;
mod remote;

use std::path::Path;

use vadegate_core::ask::{
    Answer, DueQuery, EntryView, FileView, GateView, Hit, LoadedRows, PlaceFolder, PlaceView,
    Rehearsed,
};
use vadegate_core::config::Config;
use vadegate_core::dues::{DueCell, DueCount, Learned};
use vadegate_core::engine::{Engine, EngineError};
use vadegate_core::ledger::{
    Change, ChangeId, Count, CountBy, Entry, EntryId, Happening, Message, MessageState, NotCounted,
    OutputAccount, Page, Query, Removal,
};
use vadegate_core::tell::TellView;
use vadegate_core::watch::board::Board;
use vadegate_core::watch::lookouts::LookoutView;
use vadegate_core::watch::report::Report;
use vadegate_service::ServiceInfo;

use crate::failure::Failure;

pub use asked::{ask, asked, config, gate_names, who};
pub use doer::Doer;
pub use handing::Handed;
pub use remote::{Remote, coded};

/// Who answers.
pub enum Client {
    /// The service that owns the state folder.
    Service(Remote),
    /// Nobody is running: this process.
    Here(Box<Engine>),
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

    /// What was removed by clears, newest first.
    pub fn removals(&self, rule: Option<&str>, limit: u32) -> Result<Vec<Removal>, Failure> {
        match self {
            Client::Service(remote) => {
                let mut pairs = vec![("limit", limit.to_string())];
                pairs.extend(rule.map(|rule| ("rule", rule.to_owned())));
                remote.get("/api/v1/removals", &pairs)
            }
            Client::Here(engine) => Ok(engine.ask(|ledger| ledger.removals(rule, None, limit))?),
        }
    }

    /// What is expected, in order of rule, day and value.
    pub fn due_cells(&self, query: &DueQuery) -> Result<Vec<DueCell>, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/dues/cells", &due_pairs(query)),
            Client::Here(engine) => Ok(engine.due_cells(query)?),
        }
    }

    /// What is expected, those first that need a person, and how many there are in each state.
    pub fn listed_due(&self, query: &DueQuery) -> Result<(Vec<DueCell>, Vec<DueCount>), Failure> {
        match self {
            Client::Service(remote) => {
                let pairs = due_pairs(query);
                // Both take the service some time where thousands of things are expected.
                std::thread::scope(|scope| {
                    let counts = scope.spawn(|| remote.get("/api/v1/dues/count", &pairs));
                    let cells = remote.get("/api/v1/dues/cells", &pairs)?;
                    let ended = || Failure::Failed("a thread of the command has ended".into());
                    Ok((cells, counts.join().map_err(|_| ended())??))
                })
            }
            Client::Here(engine) => Ok((engine.due_cells(query)?, engine.count_due(query)?)),
        }
    }

    /// What a time did.
    pub fn report(
        &self,
        since: jiff::Timestamp,
        until: jiff::Timestamp,
    ) -> Result<Report, Failure> {
        match self {
            Client::Service(remote) => {
                let times = [("since", since.to_string()), ("until", until.to_string())];
                remote.get("/api/v1/report", &times)
            }
            Client::Here(engine) => Ok(engine.report(since, until)?),
        }
    }

    /// All places.
    pub fn places(&self) -> Result<Vec<PlaceView>, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/places", &[]),
            Client::Here(engine) => Ok(engine.places()),
        }
    }

    /// What lies in a folder of a place.
    pub fn place_folder(&self, name: &str, folder: &str) -> Result<PlaceFolder, Failure> {
        match self {
            Client::Service(remote) => {
                let folder = [("folder", folder.to_owned())];
                remote.get(&format!("/api/v1/places/{}/files", coded(name)), &folder)
            }
            Client::Here(engine) => Ok(engine.place_folder(name, folder)?),
        }
    }

    /// All lookouts.
    pub fn lookouts(&self) -> Result<Vec<LookoutView>, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/lookouts", &[]),
            Client::Here(engine) => Ok(engine.lookouts()?),
        }
    }

    /// What happened at a lookout, newest first.
    pub fn lookout_events(&self, name: &str, limit: u32) -> Result<Vec<Happening>, Failure> {
        match self {
            Client::Service(remote) => {
                let limit = [("limit", limit.to_string())];
                remote.get(&format!("/api/v1/lookouts/{}/events", coded(name)), &limit)
            }
            Client::Here(engine) => Ok(engine.lookout_events(name, None, limit)?),
        }
    }

    /// The morning on one screen.
    pub fn board(&self) -> Result<Board, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/board", &[]),
            Client::Here(engine) => Ok(engine.board()?),
        }
    }

    /// Who hears of what.
    pub fn tells(&self) -> Result<Vec<TellView>, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/tells", &[]),
            Client::Here(engine) => Ok(engine.tells()?),
        }
    }

    /// What was told, newest first.
    pub fn messages(
        &self,
        tell: Option<&str>,
        state: Option<MessageState>,
        limit: u32,
    ) -> Result<Vec<Message>, Failure> {
        match self {
            Client::Service(remote) => {
                let mut pairs = vec![("limit", limit.to_string())];
                pairs.extend(tell.map(|tell| ("tell", tell.to_owned())));
                pairs.extend(state.map(|state| ("state", state.word().to_owned())));
                remote.get("/api/v1/messages", &pairs)
            }
            Client::Here(engine) => {
                Ok(engine.ask(|ledger| ledger.messages(tell, state, None, limit))?)
            }
        }
    }

    /// A rule of what is expected, as it follows from what a gate has received.
    pub fn learn_due(&self, gate: &str) -> Result<Learned, Failure> {
        match self {
            Client::Service(remote) => {
                remote.get(&format!("/api/v1/gates/{}/due", coded(gate)), &[])
            }
            Client::Here(engine) => Ok(engine.learn_due(gate)?),
        }
    }

    /// What a text is about.
    pub fn search(&self, text: &str) -> Result<Vec<Hit>, Failure> {
        match self {
            Client::Service(remote) => remote.get("/api/v1/search", &[("text", text.to_owned())]),
            Client::Here(engine) => Ok(engine.search(text)?),
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

    /// How many entries fit; `by` are gate, state, day and fields, separated by commas.
    pub fn count(&self, query: &Query, by: &str) -> Result<Vec<Count>, Failure> {
        match self {
            Client::Service(remote) => {
                let mut pairs = pairs(query)?;
                pairs.push(("by".into(), by.to_owned()));
                remote.get_with("/api/v1/entries/count", &pairs)
            }
            Client::Here(engine) => {
                let words = by.split(',').map(str::trim).filter(|word| !word.is_empty());
                let by = words.map(CountBy::of);
                let wrong = |why: NotCounted| Failure::Wrong(why.to_string());
                let by = by.collect::<Result<Vec<_>, _>>().map_err(wrong)?;
                Ok(engine.count(query, &by)?)
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

    pub fn entry(&self, id: EntryId) -> Result<EntryView, Failure> {
        match self {
            Client::Service(remote) => remote.get(&format!("/api/v1/entries/{id}"), &[]),
            Client::Here(engine) => Ok(engine.entry(id)?.ok_or(EngineError::NoEntry(id))?),
        }
    }

    /// The first rows of an entry in the database into which it was loaded.
    pub fn loaded_rows(&self, id: EntryId, limit: u32) -> Result<LoadedRows, Failure> {
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

    pub fn changes(&self, after: Option<ChangeId>, limit: u32) -> Result<Vec<Change>, Failure> {
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

/// Which expectations are asked for, as the parts of a query.
fn due_pairs(query: &DueQuery) -> Vec<(&'static str, String)> {
    let day = |name, day: Option<jiff::civil::Date>| Some((name, day?.to_string()));
    let parts = [
        day("since", query.since),
        day("until", query.until),
        query.name.clone().map(|name| ("name", name)),
        query.state.map(|state| ("state", state.word().to_owned())),
        query.limit.map(|limit| ("limit", limit.to_string())),
    ];
    parts.into_iter().flatten().collect()
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
