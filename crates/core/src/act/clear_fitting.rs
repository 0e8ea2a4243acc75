//! Which files a rule is about, and which of them may go.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use jiff::Timestamp;

use crate::act::cleared::{Cleared, StayingFile};
use crate::arrivals::names::temporary_name;
use crate::arrivals::sweep;
use crate::config::Config;
use crate::config::clear::ClearRule;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::sha256::Sha256;
use crate::files::version::{Kind, Version};
use crate::ledger::ids::EntryId;
use crate::ledger::state::State;
use crate::ledger::types::Query;
use crate::pattern::Fields;
use crate::pattern::template::Builtins;
use crate::work::env::{local, tidy};

/// A file that fits a rule.
pub(crate) struct Fitting {
    pub path: PathBuf,
    /// Its path below the folder of the rule.
    pub below: String,
    pub version: Version,
    pub fields: Fields,
    pub entry: Option<(EntryId, Sha256)>,
}

impl Engine {
    /// Files that fit a rule and may go.
    pub(crate) fn fitting(
        &self,
        config: &Config,
        rule: &ClearRule,
        told: &mut Cleared,
    ) -> Result<Vec<Fitting>, EngineError> {
        let lying = self.lying_in(&rule.folders)?;
        let mut fitting = Vec::new();
        for folder in &rule.folders {
            if let Err(why) = config.really_within_roots(folder) {
                told.problems.push(why.to_string());
                continue;
            }
            let mut seen = Vec::new();
            let swept = sweep(&config.reach, folder, rule.depth, |one| {
                if one.kind == Kind::File && one.utf8 {
                    seen.push((one.path, one.version));
                }
            });
            match swept {
                Ok(problems) => {
                    told.problems.extend(problems.iter().map(ToString::to_string));
                }
                Err(problem) => told.problems.push(problem.to_string()),
            }
            for (below, version) in seen {
                let Some(fields) = fits(rule, &below) else { continue };
                let path = folder.join(&below);
                match may_go(config, &path, &version, &lying) {
                    Ok(entry) => fitting.push(Fitting { path, below, version, fields, entry }),
                    Err(stays) => {
                        let (path, because) = (path.display().to_string(), stays.to_string());
                        told.stays.push(StayingFile { path, because });
                    }
                }
            }
        }
        Ok(narrowed(config, rule, fitting, told))
    }

    /// Entries whose file lies in these folders, as far as the ledger knows.
    fn lying_in(&self, folders: &[PathBuf]) -> Result<HashMap<PathBuf, Lying>, EngineError> {
        let mut lying = HashMap::new();
        self.ask(|ledger| {
            ledger.each(&Query::default(), |entry| {
                let place = entry.lies_at();
                if entry.state != State::Gone
                    && folders.iter().any(|folder| place.starts_with(folder))
                {
                    let modified_ns = entry.modified.as_nanosecond();
                    // The newest comes first.
                    lying.entry(place).or_insert(Lying {
                        entry: entry.id,
                        state: entry.state,
                        modified_ns,
                        bytes: entry.bytes_there(),
                        sha256: entry.sha256_there(),
                    });
                }
                true
            })
        })?;
        Ok(lying)
    }
}

/// What the ledger knows of a place.
struct Lying {
    entry: EntryId,
    state: State,
    modified_ns: i128,
    bytes: u64,
    sha256: Sha256,
}

/// Fields of a path that fits a rule.
fn fits(rule: &ClearRule, below: &str) -> Option<Fields> {
    let name = below.rsplit('/').next().unwrap_or(below);
    if rule.leave.iter().any(|pattern| pattern.is_match(below) || pattern.is_match(name)) {
        return None;
    }
    let hidden = temporary_name(name).is_some();
    rule.matches.iter().find_map(|pattern| {
        if hidden && !names_the_dot(pattern.source(), name) {
            return None;
        }
        let by_name = name.len() < below.len() && !pattern.source().contains('/');
        pattern.matches(below).or_else(|| by_name.then(|| pattern.matches(name)).flatten())
    })
}

/// Whether a pattern names the dot or the ending that makes a file hidden or under way: only
/// then it goes.
fn names_the_dot(pattern: &str, name: &str) -> bool {
    let last = pattern.rsplit('/').next().unwrap_or("");
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
    if name.starts_with('.') {
        last.starts_with('.')
    } else {
        last.to_lowercase().ends_with(&format!(".{}", ending.to_lowercase()))
    }
}

/// Why a file stays.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(super) enum Stays {
    #[error("it is being written by this service")]
    BeingWritten,
    #[error("entry {entry} is {}", state.word())]
    UnderWay { entry: EntryId, state: State },
    #[error("it is an arrival of gate `{0}`, and not entered yet")]
    Arrival(String),
}

/// Whether a file may go: its entry, if it has one, or why it stays.
fn may_go(
    config: &Config,
    path: &Path,
    version: &Version,
    lying: &HashMap<PathBuf, Lying>,
) -> Result<Option<(EntryId, Sha256)>, Stays> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    if name.starts_with(".vadegate") {
        return Err(Stays::BeingWritten);
    }
    let known = lying.get(path).filter(|one| {
        one.modified_ns == i128::from(version.modified_ns) && one.bytes == version.bytes
    });
    if let Some(known) = lying.get(path)
        && is_under_way(known.state)
    {
        return Err(Stays::UnderWay { entry: known.entry, state: known.state });
    }
    if let Some(known) = known {
        return Ok(Some((known.entry, known.sha256)));
    }
    match config.gates.iter().find(|gate| gate.takes_path(path)) {
        Some(gate) => Err(Stays::Arrival(gate.name.clone())),
        None => Ok(None),
    }
}

/// Takes out what is kept because it is new, and what is not old enough.
fn narrowed(
    config: &Config,
    rule: &ClearRule,
    mut fitting: Vec<Fitting>,
    told: &mut Cleared,
) -> Vec<Fitting> {
    fitting.sort_by_key(|one| std::cmp::Reverse(one.version.modified_ns));
    let now = Timestamp::now().as_nanosecond();
    let mut kept: HashMap<String, usize> = HashMap::new();
    let mut stay = |one: &Fitting, because: &str| {
        let path = one.path.display().to_string();
        told.stays.push(StayingFile { path, because: because.to_owned() });
        false
    };
    fitting.retain(|one| {
        if let Some(keep) = &rule.keep {
            let of = keep.per.as_ref().map(|per| per.text(&one.fields, &values(config, one)));
            let Ok(of) = of.transpose() else { return stay(one, "it lacks a field of `per`") };
            let count = kept.entry(of.unwrap_or_default()).or_default();
            *count += 1;
            if *count <= keep.newest {
                return stay(one, "it is one of the newest");
            }
        }
        let old = rule.older.is_none_or(|older| {
            let age = now - i128::from(one.version.modified_ns);
            age >= i128::try_from(older.as_nanos()).unwrap_or(i128::MAX)
        });
        old || stay(one, "it is not old enough")
    });
    fitting.sort_by(|a, b| a.path.cmp(&b.path));
    fitting
}

fn values<'a>(config: &Config, one: &'a Fitting) -> Builtins<'a> {
    let zone = &config.service.timezone;
    let now = Timestamp::now();
    let modified = Timestamp::from_nanosecond(i128::from(one.version.modified_ns));
    Builtins {
        path: &one.below,
        gate: "",
        entry: one.entry.map(|(id, _)| id.number()),
        batch: None,
        sha256: one.entry.map(|(_, sum)| sum),
        seen: local(zone, now),
        modified: local(zone, modified.unwrap_or(now)),
        now: local(zone, now),
    }
}

/// Where a file is moved, with the folders that it is in.
pub(crate) fn moved_to(config: &Config, rule: &ClearRule, one: &Fitting) -> Option<String> {
    let into = rule.into.as_ref()?;
    let folder = into.path(&one.fields, &values(config, one)).ok()?;
    Some(tidy(format!("{}/{}", folder.trim_end_matches('/'), one.below)))
}

/// Whether the file of an entry in this state is needed yet.
pub(crate) fn is_under_way(state: State) -> bool {
    use State::{Held, Ready, Repeat, Worked, Working};
    matches!(state, Ready | Working | Worked | Held | Repeat)
}
