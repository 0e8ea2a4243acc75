//! Clearing: files are removed by a rule, and nothing that is under way.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::arrivals::names::temporary_name;
use crate::arrivals::sweep;
use crate::config::Config;
use crate::config::clear::ClearRule;
use crate::config::gate::Gate;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::sha256::Sha256;
use crate::files::version::{Kind, Version};
use crate::filing::folders::numbered;
use crate::filing::moving::{Moved, Moving, move_to, sum_of};
use crate::ledger::people::By;
use crate::ledger::removals::PlannedRemoval;
use crate::ledger::state::State;
use crate::ledger::types::Query;
use crate::pattern::Fields;
use crate::pattern::template::Builtins;
use crate::work::env::{local, tidy};

/// What a clear did, or would do.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cleared {
    /// The rule.
    pub rule: String,
    /// Files that went, or would go.
    pub removed: Vec<ClearedFile>,
    /// Files that fit and stay, and why.
    pub stays: Vec<StayingFile>,
    /// Folders that were removed because they were empty.
    pub folders: Vec<String>,
    /// What could not be done, or not be looked at.
    pub problems: Vec<String>,
}

/// A file that went, or would go.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClearedFile {
    /// What it was.
    pub path: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was modified last.
    #[schema(value_type = String, format = DateTime)]
    pub modified: Timestamp,
    /// Where it was moved instead.
    pub moved_to: Option<String>,
}

/// A file that stays.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StayingFile {
    /// Its path.
    pub path: String,
    /// Why.
    pub because: String,
}

/// So many are recorded together, and then removed.
const TOGETHER: usize = 500;

/// A file that fits a rule.
struct Fitting {
    path: PathBuf,
    /// Its path below the folder of the rule.
    below: String,
    version: Version,
    fields: Fields,
    entry: Option<(i64, Sha256)>,
}

impl Engine {
    /// Removes files by a rule for a person, or by itself; with `rehearse` only tells what
    /// would go. More than `most` are refused.
    ///
    /// # Errors
    /// [`EngineError`]. What cannot be removed is told, and the rest goes on.
    pub fn clear(
        &self,
        rule: &ClearRule,
        by: &By,
        rehearse: bool,
        most: Option<u64>,
    ) -> Result<Cleared, EngineError> {
        // What one has planned the other would take for what was cut off.
        static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());
        let _alone = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
        let config = self.config();
        let mut told = Cleared { rule: rule.name.clone(), ..Cleared::default() };
        if !rehearse {
            self.end_interrupted()?;
        }
        let fitting = self.fitting(&config, rule, &mut told)?;
        let most = most.unwrap_or(rule.most);
        if fitting.len() as u64 > most && !rehearse {
            return Err(EngineError::Refused(format!(
                "{} files would go, and `most` is {most}; look at them with --rehearse, and say --most {}",
                fitting.len(),
                fitting.len()
            )));
        }
        for some in fitting.chunks(TOGETHER) {
            if rehearse {
                let would = some.iter().map(|one| told_of(one, moved_to(&config, rule, one)));
                told.removed.extend(would);
            } else {
                self.remove_some(&config, rule, by, some, &mut told)?;
            }
        }
        if rule.empty_folders {
            remove_empty(&config, rule, &fitting, rehearse, &mut told);
        }
        if !rehearse {
            self.context().ledger.has_cleared(&rule.name)?;
        }
        Ok(told)
    }

    /// Runs each rule whose time has come; gives what each did. A rule that is seen for the
    /// first time counts from then on, across restarts.
    ///
    /// # Errors
    /// The ledger's.
    pub fn clear_what_is_due(&self) -> Result<Vec<Cleared>, EngineError> {
        let config = self.config();
        let by = By { who: "vadegate".into(), why: "its time had come".into() };
        let mut all = Vec::new();
        for rule in &config.clears {
            if rule.every.is_none() && rule.at.is_empty() {
                continue;
            }
            let ledger = &self.context().ledger;
            let Some(last) = ledger.cleared_at(&rule.name)? else {
                ledger.has_cleared(&rule.name)?;
                continue;
            };
            let last = Timestamp::from_millisecond(last).unwrap_or_default();
            if is_due(rule, last, Timestamp::now(), &config) {
                all.push(self.clear(rule, &by, false, None)?);
            }
        }
        Ok(all)
    }

    /// What was planned and cut off: what is gone is recorded, the rest forgotten.
    fn end_interrupted(&self) -> Result<(), EngineError> {
        let ledger = &self.context().ledger;
        let reach = self.config().reach;
        let (mut gone, mut stayed) = (Vec::new(), Vec::new());
        for one in ledger.unended_removals()? {
            let there = reach.at_if_there(Path::new(&one.path)).and_then(|at| match at {
                Some(at) => at.version(),
                None => Ok(None),
            });
            match there {
                Ok(None) => gone.push((one.id, one.moved_to)),
                _ => stayed.push(one.id),
            }
        }
        if gone.is_empty() && stayed.is_empty() {
            return Ok(());
        }
        Ok(ledger.end_removals(gone, stayed)?)
    }

    /// Files that fit a rule and may go.
    fn fitting(
        &self,
        config: &Config,
        rule: &ClearRule,
        told: &mut Cleared,
    ) -> Result<Vec<Fitting>, EngineError> {
        let lying = self.lying_in(&rule.folders)?;
        let mut fitting = Vec::new();
        for folder in &rule.folders {
            if let Err(why) = config.really_within_roots(folder) {
                told.problems.push(why);
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
                    Err(because) => {
                        told.stays.push(StayingFile { path: path.display().to_string(), because });
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

    fn remove_some(
        &self,
        config: &Config,
        rule: &ClearRule,
        by: &By,
        some: &[Fitting],
        told: &mut Cleared,
    ) -> Result<(), EngineError> {
        let ledger = &self.context().ledger;
        let planned = some.iter().map(|one| PlannedRemoval {
            path: one.path.display().to_string(),
            bytes: one.version.bytes,
            modified_ns: one.version.modified_ns,
            sha256: one.entry.map(|(_, sum)| sum),
            entry: one.entry.map(|(id, _)| id),
            moved_to: moved_to(config, rule, one),
        });
        let ids = ledger.plan_removals(&rule.name, by, planned.collect())?;
        let (mut gone, mut stayed) = (Vec::new(), Vec::new());
        let mut folders = BTreeMap::new();
        for (id, one) in ids.into_iter().zip(some) {
            match remove_one(config, rule, one, &mut folders) {
                Ok(moved_to) => {
                    told.removed.push(told_of(one, moved_to.clone()));
                    gone.push((id, moved_to));
                }
                Err(because) => {
                    told.problems.push(format!("`{}`: {because}", one.path.display()));
                    stayed.push(id);
                }
            }
        }
        for folder in folders.into_values() {
            if let Err(error) = crate::files::at::At::folder(&folder).sync() {
                told.problems.push(format!("`{}`: {error}", folder.path().display()));
            }
        }
        Ok(ledger.end_removals(gone, stayed)?)
    }
}

/// What the ledger knows of a place.
struct Lying {
    entry: i64,
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
        let last = pattern.source().rsplit('/').next().unwrap_or("");
        // What is hidden or under way goes only where a pattern names the dot.
        let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
        let names_it = if name.starts_with('.') {
            last.starts_with('.')
        } else {
            last.to_lowercase().ends_with(&format!(".{}", ending.to_lowercase()))
        };
        if hidden && !names_it {
            return None;
        }
        pattern.matches(below).or_else(|| match pattern.source().contains('/') {
            true => None,
            false => pattern.matches(name),
        })
    })
}

/// Whether a file may go: its entry, if it has one, or why it stays.
fn may_go(
    config: &Config,
    path: &Path,
    version: &Version,
    lying: &HashMap<PathBuf, Lying>,
) -> Result<Option<(i64, Sha256)>, String> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    if name.starts_with(".vadegate") {
        return Err("it is being written by this service".into());
    }
    let known = lying.get(path).filter(|one| {
        one.modified_ns == i128::from(version.modified_ns) && one.bytes == version.bytes
    });
    if let Some(known) = lying.get(path)
        && matches!(
            known.state,
            State::Ready | State::Working | State::Worked | State::Held | State::Repeat
        )
    {
        return Err(format!("entry {} is {}", known.entry, known.state.word()));
    }
    if let Some(known) = known {
        return Ok(Some((known.entry, known.sha256)));
    }
    match config.gates.iter().find(|gate| gate.takes_path(path)) {
        Some(gate) => Err(format!("it is an arrival of gate `{}`, and not entered yet", gate.name)),
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
        entry: one.entry.map(|(id, _)| id),
        batch: None,
        sha256: one.entry.map(|(_, sum)| sum),
        seen: local(zone, now),
        modified: local(zone, modified.unwrap_or(now)),
        now: local(zone, now),
    }
}

/// Where a file is moved, with the folders that it is in.
fn moved_to(config: &Config, rule: &ClearRule, one: &Fitting) -> Option<String> {
    let into = rule.into.as_ref()?;
    let folder = into.path(&one.fields, &values(config, one)).ok()?;
    Some(tidy(format!("{}/{}", folder.trim_end_matches('/'), one.below)))
}

fn told_of(one: &Fitting, moved_to: Option<String>) -> ClearedFile {
    let modified = Timestamp::from_nanosecond(i128::from(one.version.modified_ns));
    ClearedFile {
        path: one.path.display().to_string(),
        bytes: one.version.bytes,
        modified: modified.unwrap_or_default(),
        moved_to,
    }
}

/// Removes a file, or moves it; gives where to.
fn remove_one(
    config: &Config,
    rule: &ClearRule,
    one: &Fitting,
    folders: &mut BTreeMap<PathBuf, crate::files::at::At>,
) -> Result<Option<String>, String> {
    let words = |error: std::io::Error| error.to_string();
    let at = config.reach.at(&one.path).map_err(words)?;
    if !at.is(&one.version) {
        return Err("it has just changed, and stays".into());
    }
    folders.insert(at.folder().path().to_owned(), at.clone());
    let Some(wanted) = moved_to(config, rule, one) else {
        return match rule.into {
            Some(_) => Err("its place in `into` cannot be written; it lacks a field".into()),
            None => crate::fault::at("clear.remove")
                .and_then(|()| at.remove())
                .map(|()| None)
                .map_err(words),
        };
    };
    let wanted = PathBuf::from(wanted);
    let folder = wanted.parent().unwrap_or(Path::new("/"));
    let folder = std::sync::Arc::new(config.reach.make_folder(folder).map_err(words)?);
    let sum = sum_of(&at).map_err(words)?;
    let mut place = wanted.clone();
    for number in 2..100_000 {
        let target = folder.at(place.file_name().unwrap_or_default());
        let moving = Moving {
            source: &at,
            link: None,
            version: &one.version,
            sha256: sum,
            target: &target,
            staged_name: format!(".vadegate-clear-{}.copy", one.version.inode),
        };
        match move_to(&moving).map_err(|error| error.to_string())? {
            Moved::Taken => place = numbered(&wanted, number),
            Moved::Done | Moved::Already => {
                folder.sync().map_err(words)?;
                return Ok(Some(place.display().to_string()));
            }
            Moved::Missing | Moved::Swapped => return Err("it has just changed, and stays".into()),
        }
    }
    Err(format!("no free name is left beside `{}`", wanted.display()))
}

/// Removes folders that are empty: those that were emptied now, and those that were for as
/// long as files must be old. A folder in which a gate looks stays.
fn remove_empty(
    config: &Config,
    rule: &ClearRule,
    fitting: &[Fitting],
    rehearse: bool,
    told: &mut Cleared,
) {
    let going: BTreeSet<&Path> = fitting.iter().map(|one| one.path.as_path()).collect();
    let watched: BTreeSet<PathBuf> = config.gates.iter().flat_map(drop_folders).collect();
    let now = Timestamp::now().as_nanosecond();
    let least =
        i128::try_from(rule.older.unwrap_or(Duration::ZERO).as_nanos()).unwrap_or(i128::MAX);
    for folder in &rule.folders {
        let (mut folders, mut there) = (Vec::new(), BTreeSet::new());
        // What cannot be looked at was told before.
        let _ = sweep(&config.reach, folder, rule.depth, |one| {
            let path = folder.join(&one.path);
            if one.kind == Kind::Folder && one.utf8 {
                folders.push((path.clone(), one.version));
            }
            // In a rehearsal what would go is there still.
            if !going.contains(path.as_path()) {
                there.insert(path);
            }
        });
        // The innermost first.
        folders.sort_by(|a, b| b.0.cmp(&a.0));
        for (path, version) in folders {
            let is_empty = !there.iter().any(|one| one.parent() == Some(&path));
            let old = now - i128::from(version.modified_ns) >= least;
            let is_ours = going.iter().any(|one| one.starts_with(&path));
            let in_use = watched.iter().any(|one| one.starts_with(&path));
            if !is_empty || in_use || !(old || is_ours) {
                continue;
            }
            let removed =
                rehearse || config.reach.at(&path).and_then(|at| at.remove_folder()).is_ok();
            if removed {
                told.folders.push(path.display().to_string());
                there.remove(&path);
            }
        }
    }
}

/// The folders in which a gate looks, and those on the way to them.
fn drop_folders(gate: &Gate) -> Vec<PathBuf> {
    let found = gate.drops.find().folders;
    let places = found.iter().map(|place| gate.drops.path_of(place));
    places.chain([gate.drops.base().to_owned()]).collect()
}

/// Whether the time of a rule has come since it ran last.
fn is_due(rule: &ClearRule, last: Timestamp, now: Timestamp, config: &Config) -> bool {
    let zone = &config.service.timezone;
    let since = now.duration_since(last);
    if rule.every.is_some_and(|every| since.as_millis() >= every.as_millis() as i128) {
        return true;
    }
    rule.at.iter().any(|at| {
        let today = local(zone, now).date().to_datetime(*at);
        let today = zone.to_timestamp(today).ok();
        today.is_some_and(|today| today <= now && last < today)
    })
}
