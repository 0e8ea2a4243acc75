//! What is shown of gates and of the files in their drop folders.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::arrivals::settle::Look;
use crate::arrivals::sweep::Seen;
use crate::ask::afar::{FetchView, fetch_view};
use crate::config::gate::Archive;
use crate::engine::error::EngineError;
use crate::engine::gate::closed::Closed;
use crate::engine::gate::state::Live;
use crate::engine::pass::batches::{OpenBatch, open_batches};
use crate::engine::pass::complete::{Complete, complete, out_of_bounds};
use crate::files::version::Kind;
use crate::ledger::ids::EntryId;
use crate::ledger::state::State;
use crate::ledger::types::{Counts, Entry, Pause};
use crate::ledger::words::WorkKind;
use crate::pattern::Fields;

/// What a gate is doing as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum GateState {
    /// All is well.
    Open,
    /// It notices, and takes nothing.
    Paused,
    /// It is not its time: it notices, and takes nothing.
    Closed,
    /// It has a standing problem.
    Troubled,
}

/// A gate and its counts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GateView {
    /// Its name.
    pub name: String,
    /// With which others it is shown.
    pub group: Option<String>,
    /// Its drop folder, or the paths of several, separated by commas.
    pub drop: String,
    /// The drop folders that are there.
    pub folders: Vec<String>,
    /// What it is doing as a whole.
    pub state: GateState,
    /// Whether a person has paused it.
    pub paused: bool,
    /// Why it is not its time, and when that is.
    pub closed: Option<Closed>,
    /// Who has paused it, and since when.
    pub pause: Option<Pause>,
    /// Files in its drop folders that no pattern takes, as of the last sweep.
    pub untaken: u64,
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
    /// What it does with its files.
    pub work: WorkKind,
    /// What that is, as in "merges rows".
    pub work_does: String,
    /// What `work_detail` is, as in "Table".
    pub work_label: Option<String>,
    /// The output, or the program.
    pub work_detail: Option<String>,
    /// Where worked files go; none when they are left.
    pub archive: Option<String>,
    /// When a file counts as complete, in words.
    pub settle: String,
    /// In which order files are worked.
    pub order: String,
    /// Batches that are being gathered.
    pub open_batches: Vec<OpenBatch>,
    /// From where it fetches, if it does.
    #[serde(default)]
    pub fetch: Option<FetchView>,
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
    /// Its drop folder.
    pub drop: String,
    /// Path below the drop folder.
    pub path: String,
    /// Path below the folder that holds all drop folders of the gate; with one
    /// drop folder the same as `path`.
    pub place: String,
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
    pub entry: Option<EntryId>,
}

pub(crate) fn gate_view(live: &Live) -> Result<GateView, EngineError> {
    let (context, gate) = (&live.context, &live.gate);
    let ledger = &context.ledger;
    let mut counts = ledger.counts(&gate.name)?;
    let midnight = Timestamp::now()
        .to_zoned_datetime(context.config.service.timezone.clone())
        .start_of_day()
        .map_or_else(|_| Timestamp::now(), |day| day.timestamp());
    let today = ledger.activity(midnight)?;
    let since_midnight = |kind: &str| {
        let slots = today.iter().filter(|slot| slot.gate == gate.name && slot.kind == kind);
        slots.map(|slot| slot.count).sum()
    };
    let work = gate.work.as_ref().map(|work| work.view());
    let archive = match &gate.archive {
        Archive::Into(template, _) => Some(template.source().to_owned()),
        Archive::Leave | Archive::Delete => None,
    };
    let (open_batches, closed) = (open_batches(live)?, live.closed(Timestamp::now()));
    let state = live.state();
    counts.insert("arriving".into(), state.arriving.len() as u64);
    // That the lease tells nothing is worth knowing, but no trouble.
    let troubled = state.problems.keys().any(|about| about != "lease");
    Ok(GateView {
        name: gate.name.clone(),
        group: gate.group.clone(),
        drop: gate.drops.shown(),
        folders: state
            .folders
            .iter()
            .map(|one| gate.drops.path_of(one).display().to_string())
            .collect(),
        state: match (state.paused, troubled, &closed) {
            (true, ..) => GateState::Paused,
            (_, true, _) => GateState::Troubled,
            (.., Some(_)) => GateState::Closed,
            _ => GateState::Open,
        },
        paused: state.paused,
        closed,
        pause: state.pause.clone(),
        untaken: state.untaken,
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
        work: gate.kind(),
        work_does: work.as_ref().map_or("files only", |work| work.does).to_owned(),
        work_label: work.as_ref().map(|work| work.label.to_owned()),
        work_detail: work.and_then(|work| work.detail),
        archive,
        settle: gate.settle.to_string(),
        order: gate.order.to_string(),
        open_batches,
        fetch: fetch_view(gate, &state.fetch),
    })
}

/// What the gate makes of one thing in its drop folder.
pub(crate) fn view(live: &Live, seen: &Seen, known: Option<&Entry>) -> FileView {
    let (verdict, because, fields) = verdict(live, seen, known);
    let (drop, path) = live.parts_of(&seen.path);
    FileView {
        gate: live.gate.name.clone(),
        name: seen.path.rsplit('/').next().unwrap_or(&seen.path).to_owned(),
        drop,
        path,
        place: seen.path.clone(),
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
    if let Some(why) = no_file(live, seen.kind) {
        return (Verdict::Leave, why.to_owned(), none);
    }
    if let Some(entry) = known {
        let (verdict, because) = known_verdict(entry);
        return (verdict, because, entry.fields.clone());
    }
    let fields = match live.gate.takes_at(&seen.path) {
        Ok(fields) => fields,
        Err(why) => return (Verdict::Leave, why.to_string(), none),
    };
    let now = i64::try_from(Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX);
    if let Some(why) = out_of_bounds(&live.gate, &seen.version, now) {
        return (Verdict::Leave, why, fields);
    }
    if let Some(why) = live.own_output(&seen.path, &seen.version) {
        return (Verdict::Leave, why.to_owned(), fields);
    }
    let (arriving, paused) = {
        let state = live.state();
        if live.is_elsewhere(&seen.path, &state) {
            return (Verdict::Leave, ELSEWHERE.to_owned(), fields);
        }
        let arriving = state.arriving.get(seen.path.as_str());
        (arriving.filter(|one| one.version == seen.version).cloned(), state.paused)
    };
    if let Some(arriving) = &arriving
        && arriving.because.contains("cannot be read")
    {
        return (Verdict::Unreadable, arriving.because.clone().into_owned(), fields);
    }
    let look = arriving.as_ref().map_or_else(
        || Look { first_seen: crate::engine::clock::monotonic_now(), changed_ns: seen.changed_ns },
        |arriving| arriving.look,
    );
    match complete(live, &seen.path, &seen.version, &look, &fields, &live.context.clock()) {
        Complete::After(_, because) | Complete::Waits(because) => (Verdict::Wait, because, fields),
        Complete::Yes => match arriving.filter(|one| !one.not_before.is_zero()) {
            Some(arriving) => (Verdict::Wait, arriving.because.into_owned(), fields),
            None if paused => (
                Verdict::Take,
                "complete; it will be taken when the gate is resumed".into(),
                fields,
            ),
            None => match live.closed(Timestamp::now()) {
                Some(closed) => (Verdict::Take, closed.of_file(), fields),
                None => (Verdict::Take, "complete; the next pass takes it".into(), fields),
            },
        },
    }
}

/// Of a file in a folder that another service works.
const ELSEWHERE: &str = "another vadegate works this drop folder; `vadegate gates` tells which";

/// Why a thing is no file for the gate.
fn no_file(live: &Live, kind: Kind) -> Option<&'static str> {
    match kind {
        Kind::File => None,
        Kind::Folder if live.gate.subfolders => Some("a folder; the files in it are looked at"),
        Kind::Folder => Some("a folder, and the gate does not look below (subfolders = false)"),
        Kind::Link if live.gate.follow_links => {
            Some("a symbolic link that leads to no file inside the roots")
        }
        Kind::Link => Some("a symbolic link is not followed (links = \"leave\")"),
        Kind::Special => Some("not a regular file"),
    }
}

fn known_verdict(entry: &Entry) -> (Verdict, String) {
    let reason = entry.reason.as_deref().unwrap_or("no reason was recorded");
    match entry.state {
        State::Repeat => {
            let first = entry.repeat_of.map(|first| format!("entry {first}"));
            let first = first.unwrap_or_else(|| "an earlier file".to_owned());
            (Verdict::Repeat, format!("the same as {first}; to be filed without work"))
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
        State::PassedOver => (Verdict::Known, format!("entry {} was {reason}", entry.id)),
        state => (Verdict::Known, format!("entry {} is {}", entry.id, state.word())),
    }
}
