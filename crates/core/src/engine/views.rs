//! What is shown of gates and of the files in their drop folders.

use std::collections::{BTreeMap, HashMap};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::EngineError;
use super::completion::{Complete, complete, out_of_bounds};
use super::context::Context;
use super::live::Live;
use crate::arrivals::{self, Kind, Look, Seen};
use crate::config::Archive;
use crate::ledger::{Counts, Entry, State};
use crate::pattern::{Fields, Pattern};

/// What a gate is doing as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum GateState {
    /// All is well.
    Open,
    /// It notices, and takes nothing.
    Paused,
    /// It has a standing problem.
    Troubled,
}

/// A gate and its counts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GateView {
    /// Its name.
    pub name: String,
    /// Its drop folder.
    pub drop: String,
    /// What it is doing as a whole.
    pub state: GateState,
    /// Whether a person has paused it.
    pub paused: bool,
    /// Entries by state, and `arriving` files.
    #[schema(value_type = BTreeMap<String, u64>)]
    pub counts: Counts,
    /// Entries filed since midnight in the service's time zone.
    pub filed_today: u64,
    /// Repeats since midnight in the service's time zone.
    pub repeats_today: u64,
    /// When the newest entry was entered.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_arrival: Option<Timestamp>,
    /// When the drop folder was last looked at.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_pass: Option<Timestamp>,
    /// When the next sweep is due.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next_pass: Option<Timestamp>,
    /// What is being done right now.
    pub doing: Option<String>,
    /// How the drop folder is watched.
    pub watching: String,
    /// Standing problems.
    pub problems: Vec<String>,
    /// Which files it takes.
    pub take: Vec<String>,
    /// `merge`, `run`, or `none`.
    pub work: String,
    /// The output, or the program.
    pub work_detail: Option<String>,
    /// Where worked files go; none when they are left.
    pub archive: Option<String>,
    /// When a file counts as complete, in words.
    pub settle: String,
    /// In which order files are worked.
    pub order: String,
}

/// What the gate makes of a file in its drop folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// It is complete and will be taken.
    Take,
    /// It is not complete yet.
    Wait,
    /// It is not for this gate.
    Leave,
    /// It is the same as an earlier entry.
    Repeat,
    /// It has an entry.
    Known,
    /// It cannot be read.
    Unreadable,
}

/// One thing in a drop folder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FileView {
    /// The gate in whose drop folder it lies.
    pub gate: String,
    /// Path below the drop folder.
    pub path: String,
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Size in bytes.
    pub bytes: u64,
    /// Modification time.
    #[schema(value_type = String, format = DateTime)]
    pub modified: Timestamp,
    /// User number of its owner.
    pub owner: u32,
    /// Fields captured from its path.
    pub fields: Fields,
    /// What the gate makes of it.
    pub verdict: Verdict,
    /// Why, in a sentence.
    pub because: String,
    /// Its entry, if it has one.
    pub entry: Option<i64>,
}

/// What a pattern makes of the files that lie in a drop folder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Matches {
    /// The pattern.
    pub pattern: String,
    /// The files that it matches, in order of name; at most 500.
    pub matched: Vec<Match>,
    /// The files that it does not match; at most 500.
    pub missed: Vec<Miss>,
}

/// A file that a pattern matches.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Match {
    /// Path below the drop folder.
    pub path: String,
    /// What is captured from it.
    pub fields: Fields,
}

/// A file that a pattern does not match.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Miss {
    /// Path below the drop folder.
    pub path: String,
    /// How far the pattern fits, and what it then needs.
    pub because: String,
}

/// What happened at a gate in one piece of time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Activity {
    /// The gate.
    pub gate: String,
    /// When the piece began.
    #[schema(value_type = String, format = DateTime)]
    pub begins: Timestamp,
    /// Its length in minutes.
    pub minutes: u32,
    /// Files entered.
    pub entered: u64,
    /// Entries filed.
    pub filed: u64,
    /// Entries held.
    pub held: u64,
    /// Repeats.
    pub repeats: u64,
}

pub(super) fn gate_view(live: &Live) -> Result<GateView, EngineError> {
    let (context, gate) = (&live.context, &live.gate);
    let ledger = &context.ledger;
    let mut counts = ledger.counts(&gate.name)?;
    let midnight = Timestamp::now()
        .to_zoned(context.config.service.timezone.clone())
        .start_of_day()
        .map_or_else(|_| Timestamp::now(), |day| day.timestamp());
    let today = ledger.activity(midnight)?;
    let since_midnight = |kind: &str| {
        let slots = today.iter().filter(|slot| slot.gate == gate.name && slot.kind == kind);
        slots.map(|slot| slot.count).sum()
    };
    let work_detail = match &gate.work {
        crate::config::Work::None => None,
        crate::config::Work::Merge(merge) => Some(merge.into.source().to_owned()),
        crate::config::Work::Run(run) => Some(run.program.display().to_string()),
    };
    let archive = match &gate.archive {
        Archive::Into(template) => Some(template.source().to_owned()),
        Archive::Leave => None,
    };
    let state = live.state();
    counts.insert("arriving".into(), state.arriving.len() as u64);
    // That the lease tells nothing is worth knowing, but no trouble.
    let troubled = state.problems.keys().any(|about| about != "lease");
    Ok(GateView {
        name: gate.name.clone(),
        drop: gate.drop.display().to_string(),
        state: match (state.paused, troubled) {
            (true, _) => GateState::Paused,
            (_, true) => GateState::Troubled,
            _ => GateState::Open,
        },
        paused: state.paused,
        counts,
        filed_today: since_midnight("filed"),
        repeats_today: since_midnight("repeat"),
        last_arrival: ledger.last_arrival(&gate.name)?,
        last_pass: state.last_pass,
        next_pass: state.next_pass,
        doing: state.doing.clone(),
        watching: state.watching.clone(),
        problems: state.problems.values().cloned().collect(),
        take: gate.take.iter().map(|pattern| pattern.source().to_owned()).collect(),
        work: gate.work.word().to_owned(),
        work_detail,
        archive,
        settle: gate.settle.to_string(),
        order: gate.order.to_string(),
    })
}

/// Reads a drop folder and says of each thing in it what the gate makes of it.
pub(super) fn list_files(live: &Live) -> Result<Vec<FileView>, EngineError> {
    live.load_known()?;
    let mut seen = Vec::new();
    let problems = arrivals::sweep(&live.gate.drop, live.gate.depth, |one| seen.push(one))
        .map_err(|problem| EngineError::Drop(problem.to_string()))?;
    for problem in problems {
        tracing::debug!("{problem}");
    }
    let known = live.context.ledger.in_drop(&live.gate.name)?;
    let entries: HashMap<&str, &Entry> =
        known.iter().map(|filing| (filing.entry.path.as_str(), &filing.entry)).collect();
    let mut files: Vec<FileView> = seen
        .iter()
        .map(|one| {
            let known = entries.get(one.path.as_str()).copied();
            let known = known.filter(|entry| {
                entry.bytes == one.version.bytes
                    && entry.modified.as_nanosecond() == i128::from(one.version.modified_ns)
            });
            view(live, one, known)
        })
        .collect();
    files.sort_by(|a, b| crate::pattern::natural_order(&a.path, &b.path));
    Ok(files)
}

/// Tries a pattern on the files of a drop folder.
pub(super) fn matches(live: &Live, pattern: &Pattern) -> Result<Matches, EngineError> {
    const MOST: usize = 500;
    let mut paths = Vec::new();
    arrivals::sweep(&live.gate.drop, live.gate.depth, |seen| {
        if seen.kind == Kind::File && seen.utf8 {
            paths.push(seen.path);
        }
    })
    .map_err(|problem| EngineError::Drop(problem.to_string()))?;
    paths.sort_by(|a, b| crate::pattern::natural_order(a, b));
    let (mut matched, mut missed) = (Vec::new(), Vec::new());
    for path in paths {
        match pattern.near_miss(&path) {
            None if matched.len() < MOST => {
                let fields = pattern.matches(&path).unwrap_or_default();
                matched.push(Match { path, fields });
            }
            Some(miss) if missed.len() < MOST => {
                let because = match miss.fitted.as_str() {
                    "" => format!("it needs {}", miss.needed),
                    fitted => {
                        format!("it fits as far as `{fitted}` and then needs {}", miss.needed)
                    }
                };
                missed.push(Miss { path, because });
            }
            _ => {}
        }
    }
    Ok(Matches { pattern: pattern.source().to_owned(), matched, missed })
}

/// What the gate makes of one thing in its drop folder.
pub(super) fn view(live: &Live, seen: &Seen, known: Option<&Entry>) -> FileView {
    let (verdict, because, fields) = verdict(live, seen, known);
    FileView {
        gate: live.gate.name.clone(),
        name: seen.path.rsplit('/').next().unwrap_or(&seen.path).to_owned(),
        path: seen.path.clone(),
        kind: seen.kind,
        bytes: seen.version.bytes,
        modified: Timestamp::from_nanosecond(i128::from(seen.version.modified_ns))
            .unwrap_or_default(),
        owner: seen.owner,
        fields,
        verdict,
        because,
        entry: known.map(|entry| entry.id),
    }
}

fn verdict(live: &Live, seen: &Seen, known: Option<&Entry>) -> (Verdict, String, Fields) {
    let none = Fields::new();
    if !seen.utf8 {
        return (Verdict::Unreadable, "its name is not UTF-8; rename it".into(), none);
    }
    match seen.kind {
        Kind::File => {}
        Kind::Folder if live.gate.subfolders => {
            return (Verdict::Leave, "a folder; the files in it are looked at".into(), none);
        }
        Kind::Folder => {
            return (
                Verdict::Leave,
                "a folder, and the gate does not look below (subfolders = false)".into(),
                none,
            );
        }
        Kind::Link => return (Verdict::Leave, "a symbolic link is never followed".into(), none),
        Kind::Special => return (Verdict::Leave, "not a regular file".into(), none),
    }
    if let Some(entry) = known {
        let (verdict, because) = known_verdict(entry);
        return (verdict, because, entry.fields.clone());
    }
    let fields = match live.gate.takes(&seen.path) {
        Ok(fields) => fields,
        Err(why) => return (Verdict::Leave, why, none),
    };
    let now = i64::try_from(Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX);
    if let Some(why) = out_of_bounds(&live.gate, &seen.version, now) {
        return (Verdict::Leave, why, fields);
    }
    let (arriving, paused) = {
        let state = live.state();
        let arriving = state.arriving.get(&seen.path);
        (arriving.filter(|one| one.version == seen.version).cloned(), state.paused)
    };
    if let Some(arriving) = &arriving
        && arriving.because.contains("cannot be read")
    {
        return (Verdict::Unreadable, arriving.because.clone(), fields);
    }
    let look = arriving.as_ref().map_or_else(
        || Look { first_seen: super::steady(), changed_ns: seen.changed_ns },
        |arriving| arriving.look,
    );
    match complete(live, &seen.path, &seen.version, &look, &fields) {
        Complete::After(_, because) | Complete::Waits(because) => (Verdict::Wait, because, fields),
        Complete::Yes => match arriving.filter(|one| !one.not_before.is_zero()) {
            Some(arriving) => (Verdict::Wait, arriving.because, fields),
            None if paused => (
                Verdict::Take,
                "complete; it will be taken when the gate is resumed".into(),
                fields,
            ),
            None => (Verdict::Take, "complete; the next pass takes it".into(), fields),
        },
    }
}

fn known_verdict(entry: &Entry) -> (Verdict, String) {
    let reason = entry.reason.as_deref().unwrap_or("no reason was recorded");
    match entry.state {
        State::Repeat => {
            let first = entry.repeat_of.unwrap_or_default();
            (Verdict::Repeat, format!("the same as entry {first}; to be filed without work"))
        }
        State::Held => (Verdict::Known, format!("entry {} is held: {reason}", entry.id)),
        State::Ready => {
            let why =
                entry.reason.as_ref().map(|reason| format!(" ({reason})")).unwrap_or_default();
            (Verdict::Known, format!("entry {} waits for its work{why}", entry.id))
        }
        State::Filed => {
            (Verdict::Known, format!("entry {} was worked, and is left in place", entry.id))
        }
        state => (Verdict::Known, format!("entry {} is {}", entry.id, state.word())),
    }
}

pub(super) fn activity(
    context: &Context,
    hours: u32,
    minutes: u32,
) -> Result<Vec<Activity>, EngineError> {
    // The ledger counts in pieces of five minutes.
    let minutes = (minutes / 5 * 5).clamp(5, 24 * 60);
    let step_ms = i64::from(minutes) * 60_000;
    let pieces = i64::from(hours.clamp(1, 24 * 31) * 60 / minutes).clamp(1, 3000);
    let first = Timestamp::now().as_millisecond().div_euclid(step_ms) - pieces + 1;
    let begins = |piece: i64| Timestamp::from_millisecond(piece * step_ms).unwrap_or_default();
    let mut counts: BTreeMap<(String, i64), Activity> = BTreeMap::new();
    for gate in &context.config.gates {
        for piece in first..first + pieces {
            let nothing = Activity {
                gate: gate.name.clone(),
                begins: begins(piece),
                minutes,
                entered: 0,
                filed: 0,
                held: 0,
                repeats: 0,
            };
            counts.insert((gate.name.clone(), piece), nothing);
        }
    }
    for slot in context.ledger.activity(begins(first))? {
        let piece = slot.begins.as_millisecond().div_euclid(step_ms);
        let Some(count) = counts.get_mut(&(slot.gate, piece)) else { continue };
        match slot.kind.as_str() {
            "entered" => count.entered += slot.count,
            "filed" => count.filed += slot.count,
            "held" => count.held += slot.count,
            _ => count.repeats += slot.count,
        }
    }
    Ok(counts.into_values().collect())
}
