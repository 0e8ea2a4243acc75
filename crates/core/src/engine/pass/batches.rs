//! Batches: which ready entries are worked together, and when their batch closes.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::config::batch::{BatchConfig, RequiredFile};
use crate::engine::gate::places::builtins;
use crate::engine::gate::state::Live;
use crate::engine::gate::waits::Wait;
use crate::engine::pass::ctx::OPEN_AGAIN;
use crate::engine::pass::order::by_order;
use crate::files::version::Version;
use crate::ledger::error::LedgerError;
use crate::ledger::types::OpenEntry;
use crate::pattern::template::TemplateError;
use crate::settings::values::write_duration;
use crate::work::batch::{Batch, BatchEntry};
use crate::work::seam::Drive;

/// Names of files that are told of a batch.
const NAMES: usize = 500;

/// A batch that has closed.
pub(crate) struct ReadyBatch {
    pub batch: Batch,
    /// The file that closed it, to be removed when it is worked.
    pub marker: Option<(PathBuf, Version)>,
    /// It closed because all that is wanted is there: without one of them it is not
    /// worked.
    pub whole: bool,
}

impl ReadyBatch {
    fn of(target: &str, members: Vec<BatchEntry>) -> Self {
        let batch = Batch { target: target.to_owned(), members };
        ReadyBatch { batch, marker: None, whole: false }
    }
}

/// A batch that is being gathered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OpenBatch {
    /// The output that its rows will go into.
    pub output: String,
    /// What its files have in common, where the gate says so.
    pub by: Option<String>,
    /// Files that are in it.
    pub files: u64,
    /// Their size in bytes.
    pub bytes: u64,
    /// Paths of these files; at most 500.
    pub paths: Vec<String>,
    /// What is still missing, where the gate says what must be in it.
    pub missing: Vec<String>,
    /// When it closes, in words.
    pub closes: String,
    /// When it closes by itself, if nothing more comes.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub closes_at: Option<Timestamp>,
}

/// What became of the ready entries.
#[derive(Default)]
pub(crate) struct Gathered {
    pub ready: Vec<ReadyBatch>,
    pub open: Vec<OpenBatch>,
    pub held: Vec<(OpenEntry, String)>,
    /// When a batch closes by itself.
    pub wake_in: Option<Duration>,
}

/// Parts ready entries into batches, in the gate's order, and tells which have closed.
pub(crate) fn gather(live: &Live, ready: Vec<OpenEntry>) -> Gathered {
    let mut gathered = Gathered::default();
    let mut groups: BTreeMap<(String, Option<String>), Vec<BatchEntry>> = BTreeMap::new();
    for filing in ready {
        match joined(live, &filing) {
            Ok((output, by)) => {
                groups.entry((output, by)).or_default().push(live.member(filing));
            }
            Err(reason) => gathered.held.push((filing, reason.to_string())),
        }
    }
    let drive = live.gate.work.as_ref().map(|work| work.drive());
    let alone = matches!(drive, Some(Drive::Batches { alone: true }));
    for ((output, by), mut members) in groups {
        members.sort_by(|a, b| by_order(&live.gate, &a.filing.entry, &b.filing.entry));
        if live.gate.batch.is_none() && alone {
            let alone = members.into_iter().map(|member| ReadyBatch::of(&output, vec![member]));
            gathered.ready.extend(alone);
            continue;
        }
        let Some(batch) = live.gate.batch.as_ref().filter(|batch| batch.waits()) else {
            gathered.ready.push(ReadyBatch::of(&output, members));
            continue;
        };
        close(live, batch, (output, by), members, &mut gathered);
    }
    gathered
}

/// Batches of a gate that are being gathered.
pub(crate) fn open_batches(live: &Live) -> Result<Vec<OpenBatch>, LedgerError> {
    if !live.gate.batch.as_ref().is_some_and(BatchConfig::waits) {
        return Ok(Vec::new());
    }
    let (ready, _) = live.ready()?;
    let mut open = gather(live, ready).open;
    open.iter_mut().for_each(|batch| batch.paths.truncate(NAMES));
    Ok(open)
}

/// What an entry is worked into, and what its batch has in common.
type Joined = (String, Option<String>);

/// Why an entry joins no batch, and is held.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
enum Unjoined {
    #[error("the gate has no work any more")]
    NoWork,
    #[error(transparent)]
    Target(#[from] TemplateError),
}

fn joined(live: &Live, filing: &OpenEntry) -> Result<Joined, Unjoined> {
    let entry = &filing.entry;
    let Some(work) = &live.gate.work else {
        return Err(Unjoined::NoWork);
    };
    live.lend(false, |env| {
        let target = work.target(entry, env)?;
        let by = live.gate.batch.as_ref().and_then(|batch| batch.by.as_ref());
        let by = by.map(|by| by.text(&entry.fields, &env.values(entry))).transpose();
        Ok((target, by?))
    })
}

impl Live {
    /// An entry as it takes part in a batch.
    pub fn member(&self, filing: OpenEntry) -> BatchEntry {
        let entry = &filing.entry;
        BatchEntry {
            path: self.real(&entry.lies_at()),
            name: self.place_of(&entry.drop, &entry.path).unwrap_or_else(|| entry.path.clone()),
            filing,
        }
    }
}

/// How long nothing has come to a batch.
fn rested(live: &Live, members: &[BatchEntry]) -> Duration {
    let (here, mut waits) = (live.now(), live.waits());
    let since = members.iter().map(|member| {
        let entry = &member.filing.entry;
        waits.since(Wait::Ready(entry.id, entry.ready_at.as_millisecond()), here)
    });
    since.min().unwrap_or_default()
}

/// Puts a group with those that have closed, as a whole or in part, or tells what it
/// waits for.
fn close(
    live: &Live,
    batch: &BatchConfig,
    (output, by): (String, Option<String>),
    mut members: Vec<BatchEntry>,
    gathered: &mut Gathered,
) {
    while batch.count.is_some_and(|count| members.len() >= count) {
        let rest = members.split_off(batch.count.unwrap_or(1));
        gathered.ready.push(ReadyBatch::of(&output, members));
        members = rest;
    }
    if members.is_empty() {
        return;
    }
    let missing = missing(batch, &members);
    if !batch.all_of.is_empty() && missing.is_empty() {
        gathered.ready.push(ReadyBatch { whole: true, ..ReadyBatch::of(&output, members) });
        return;
    }
    let now = Timestamp::now();
    let mut closes_in: Option<Duration> = None;
    let mut sooner =
        |wait: Duration| closes_in = Some(closes_in.map_or(wait, |earlier| earlier.min(wait)));
    if let Some(idle) = batch.idle {
        let rested = rested(live, &members);
        if rested >= idle {
            gathered.ready.push(ReadyBatch::of(&output, members));
            return;
        }
        sooner(idle - rested);
    }
    if let Some((past, next)) = around(batch, live.context.local(now)) {
        let before = |member: &BatchEntry| live.context.local(member.filing.entry.ready_at) <= past;
        let (due, rest) = members.into_iter().partition(before);
        members = rest;
        sooner(next);
        if !Vec::is_empty(&due) {
            gathered.ready.push(ReadyBatch::of(&output, due));
        }
    }
    members = close_by_marker(live, batch, &output, members, gathered);
    if let Some(wait) = closes_in {
        gathered.wake_in = Some(gathered.wake_in.map_or(wait, |earlier| earlier.min(wait)));
    }
    if members.is_empty() {
        return;
    }
    let entries = || members.iter().map(|member| &member.filing.entry);
    gathered.open.push(OpenBatch {
        output,
        by,
        files: members.len() as u64,
        bytes: entries().map(|entry| entry.bytes).sum(),
        paths: entries().map(|entry| entry.path.clone()).collect(),
        missing,
        closes: words(batch, closes_in),
        closes_at: closes_in.and_then(|wait| now.checked_add(wait).ok()),
    });
}

/// What must be in a batch and is not yet.
fn missing(batch: &BatchConfig, members: &[BatchEntry]) -> Vec<String> {
    let is_there = |wanted: &RequiredFile| {
        let mut entries = members.iter().map(|member| &member.filing.entry);
        entries.any(|entry| wanted.is(&entry.path, &entry.fields))
    };
    let missing = batch.all_of.iter().filter(|wanted| !is_there(wanted));
    missing.map(|wanted| wanted.words().to_owned()).collect()
}

fn words(batch: &BatchConfig, closes_in: Option<Duration>) -> String {
    match closes_in {
        Some(wait) => {
            let seconds = Duration::from_secs(wait.as_secs().max(1));
            format!("it closes {batch}; in {} if nothing comes", write_duration(seconds))
        }
        None => format!("it closes {batch}"),
    }
}

/// The last time of the day at which batches closed, and how long it is to the next.
fn around(batch: &BatchConfig, now: DateTime) -> Option<(DateTime, Duration)> {
    let day = jiff::Span::new().days(1);
    let today = now.date();
    let all = batch.at.iter().flat_map(|time| {
        let days = [today.checked_sub(day).ok(), Some(today), today.checked_add(day).ok()];
        days.into_iter().flatten().map(|date| date.to_datetime(*time))
    });
    let all: Vec<DateTime> = all.collect();
    let past = all.iter().filter(|time| **time <= now).max()?;
    let next = all.iter().filter(|time| **time > now).min()?;
    Some((*past, next.duration_since(now).try_into().unwrap_or(Duration::from_secs(60))))
}

/// Closes the part of a group that came before its marker; gives the rest.
fn close_by_marker(
    live: &Live,
    batch: &BatchConfig,
    output: &str,
    members: Vec<BatchEntry>,
    gathered: &mut Gathered,
) -> Vec<BatchEntry> {
    let (Some(marker), Some(first)) = (&batch.marker, members.first()) else { return members };
    let entry = &first.filing.entry;
    let Ok(name) = marker.name.text(&entry.fields, &builtins(&live.context, entry, None)) else {
        return members;
    };
    let place = Path::new(&entry.drop).join(name.replace('/', "_"));
    let reach = &live.context.config.reach;
    let there = reach.at(&place).and_then(|at| at.look()).ok().flatten();
    let Some(there) = there.filter(|meta| meta.is_file()) else {
        return members;
    };
    let came = there.version.changed_ns;
    // What came before it and has not settled yet is waited for.
    if live.state().arriving.values().any(|arriving| arriving.look.changed_ns <= came) {
        let wait = gathered.wake_in.map_or(OPEN_AGAIN, |earlier| earlier.min(OPEN_AGAIN));
        gathered.wake_in = Some(wait);
        return members;
    }
    let before = |member: &BatchEntry| {
        let looked = reach.at(&member.path).and_then(|at| at.version());
        looked.is_ok_and(|found| found.is_some_and(|version| version.changed_ns <= came))
    };
    let (due, rest): (Vec<_>, Vec<_>) = members.into_iter().partition(before);
    // One that has nothing before it has closed its batch already.
    let marker = Some((place, there.version));
    gathered.ready.push(ReadyBatch { marker, ..ReadyBatch::of(output, due) });
    rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};

    #[test]
    fn times_of_the_day_part_what_came_before_from_what_comes_after() {
        let at = |times: &[i8]| BatchConfig {
            by: None,
            idle: None,
            count: None,
            at: times.iter().map(|hour| time(*hour, 0, 0, 0)).collect(),
            marker: None,
            all_of: Vec::new(),
        };
        let now = date(2026, 1, 31).at(5, 30, 0, 0);
        let (past, next) = around(&at(&[6, 18]), now).unwrap();
        assert_eq!(past, date(2026, 1, 30).at(18, 0, 0, 0));
        assert_eq!(next, Duration::from_secs(1800));
        let (past, next) = around(&at(&[6]), date(2026, 1, 31).at(6, 0, 0, 0)).unwrap();
        assert_eq!((past, next), (date(2026, 1, 31).at(6, 0, 0, 0), Duration::from_secs(86_400)));
        assert_eq!(around(&at(&[]), now), None);
    }
}
