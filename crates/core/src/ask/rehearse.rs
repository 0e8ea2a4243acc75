//! Rehearsing: telling what a pass would do now, touching nothing.
//!
//! It goes the way of a real pass, by the same functions, up to the point where
//! something would be written.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

use crate::ask::rehearse_works::works;
use crate::ask::rehearsed::{Rehearsed, Rehearsing, Will, hold};
use crate::config::identity::Repeats;
use crate::config::pick::Others;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::engine::pass::candidate::Candidate;
use crate::engine::pass::complete::{Complete, complete, out_of_bounds};
use crate::engine::pass::enter::{entry_of, new_entries, policy};
use crate::engine::pass::fingerprint::{ToBe, buffer_for, fingerprint_all};
use crate::engine::pass::noticed::arriving;
use crate::engine::pass::order::sort;
use crate::engine::pass::pick::pick;
use crate::engine::pass::replace::{IdentityHolder, holders as holders_of};
use crate::engine::pass::usual;
use crate::files::sha256::Sha256;
use crate::files::version::Kind;
use crate::filing::folders::numbered;
use crate::ledger::ids::EntryId;
use crate::ledger::new_entry::NewEntry;
use crate::ledger::state::State;

/// Tells what a pass would do now, in the order in which it would.
pub(crate) fn rehearse(live: &Live) -> Result<Vec<Rehearsed>, EngineError> {
    live.load_known()?;
    let (complete, waiting) = candidates(live)?;
    let (mut candidates, over) = pick(live, complete)?;
    candidates.extend(over.into_iter().map(|over| over.candidate));
    let mut files = open_entries(live)?;
    files.extend(enter(live, &candidates, waiting)?);
    works(live, &mut files)?;
    places(live, &mut files);
    Ok(files.into_iter().map(|file| file.told).collect())
}

fn told(live: &Live, path: &str, place: &str, bytes: u64, will: Will) -> Rehearsed {
    Rehearsed {
        gate: live.gate.name.clone(),
        path: path.to_owned(),
        place: place.to_owned(),
        bytes,
        will,
        because: None,
        entry: None,
        output: None,
        also: Vec::new(),
        mode: None,
        program: None,
        filed_to: None,
    }
}

/// What lies in the drop folder and would be taken, in order; and what waits,
/// with the reason.
type Found = (Vec<Candidate>, Vec<(Candidate, String)>);

fn candidates(live: &Live) -> Result<Found, EngineError> {
    let clock = live.context.clock();
    let (mut found, mut waiting) = (Vec::new(), Vec::new());
    let mut seen = Vec::new();
    live.sweep(|one| seen.push(one))?;
    let seen = seen.iter().map(|one| live.followed(one).into_owned());
    for one in seen.filter(|one| one.kind == Kind::File && one.utf8) {
        let known = live.state().known.get(one.path.as_str()).copied();
        if known.is_some_and(|known| known.version == one.version)
            || out_of_bounds(&live.gate, &one.version, clock.wall_ns).is_some()
        {
            continue;
        }
        let Ok(fields) = live.gate.takes_at(&one.path) else { continue };
        let earlier = live.state().arriving.get(one.path.as_str()).cloned();
        let earlier = earlier.filter(|earlier| earlier.version == one.version);
        let arriving =
            earlier.unwrap_or_else(|| arriving(&one, fields.clone(), clock.monotonic_now));
        let complete = complete(live, &one.path, &one.version, &arriving.look, &fields, &clock);
        let candidate = Candidate::of(one.path, &arriving);
        match complete {
            Complete::Yes => found.push(candidate),
            Complete::After(_, why) | Complete::Waits(why) => waiting.push((candidate, why)),
        }
    }
    sort(&mut found, &live.gate);
    waiting.sort_by(|(a, _), (b, _)| crate::pattern::natural::natural_order(&a.path, &b.path));
    Ok((found, waiting))
}

/// Entries that were not finished by an earlier pass.
fn open_entries(live: &Live) -> Result<Vec<Rehearsing>, EngineError> {
    let ledger = &live.context.ledger;
    let name = &live.gate.name;
    let (ready, _) = live.ready()?;
    let to_file = ledger.to_file(name, live.gate.repeats == Repeats::Delete)?;
    // A worked one whose output is not in its place yet is filed by the same pass.
    let apart = to_file.into_iter().filter(|filing| filing.entry.state != State::Worked);
    let (repeats, over) = apart.partition(|filing| filing.entry.state == State::Repeat);
    let mut open = Vec::new();
    for (filings, will) in [
        (ledger.open_entries(name, State::Worked)?, Will::File),
        (repeats, Will::Repeat),
        (over, Will::PassOver),
        (ready, if live.gate.work.is_none() { Will::File } else { Will::Work }),
    ] {
        open.extend(filings.into_iter().map(|filing| {
            let entry = &filing.entry;
            let place = live.place_of(&entry.drop, &entry.path);
            let place = place.as_deref().unwrap_or(&entry.path);
            let mut told = told(live, &entry.path, place, entry.bytes, will);
            told.entry = Some(filing.entry.id);
            told.because = filing.entry.repeat_of.map(|first| format!("a repeat of entry {first}"));
            Rehearsing { entry: filing.entry, version: filing.version, told }
        }));
    }
    Ok(open)
}

/// What the ledger would make of the candidates.
fn enter(
    live: &Live,
    candidates: &[Candidate],
    mut waiting: Vec<(Candidate, String)>,
) -> Result<Vec<Rehearsing>, EngineError> {
    let ledger = &live.context.ledger;
    let buffer = &mut buffer_for(candidates.iter());
    let fingerprinted = fingerprint_all(live, 0, candidates, buffer, ToBe::Told);
    for (path, why) in fingerprinted.waiting {
        if let Some(candidate) = candidates.iter().find(|one| one.path == path) {
            waiting.push((candidate.clone(), why));
        }
    }
    let mut next = ledger.newest_entry()?;
    let mut holders: HashMap<Vec<u8>, String> = HashMap::new();
    let mut files = Vec::new();
    let mut new = new_entries(live, fingerprinted.settled);
    usual::judge(live, &mut new)?;
    let others = holders_of(live, &new)?;
    for (new, other) in new.into_iter().zip(others) {
        // What was only touched goes on as the entry that it is.
        let IdentityHolder::Other(other) = other else { continue };
        next = next.after();
        let holder = match holders.get(&new.identity) {
            Some(path) => Some(format!("a repeat of `{path}`, which comes before it")),
            None => other.map(|first| format!("a repeat of entry {first}")),
        };
        files.push(entered(live, &new, next, holder));
        if new.passed_over.is_none() {
            holders.entry(new.identity).or_insert(new.path);
        }
    }
    files.extend(waiting.into_iter().map(|(candidate, why)| {
        let version = candidate.version;
        let new = as_new(live, &candidate);
        let mut told = told(live, &new.path, &new.place, version.bytes, Will::Wait);
        told.because = Some(why);
        let entry = entry_of(&new, EntryId::of(0), State::Ready);
        Rehearsing { entry, version, told }
    }));
    Ok(files)
}

fn entered(live: &Live, new: &NewEntry, id: EntryId, repeat: Option<String>) -> Rehearsing {
    let will = match (&repeat, &new.held) {
        (Some(_), _) => Will::Repeat,
        (None, _) if new.passed_over.is_some() => Will::PassOver,
        (None, Some(_)) => Will::Hold,
        (None, None) if new.nothing_to_work => Will::File,
        (None, None) => Will::Work,
    };
    let mut told = told(live, &new.path, &new.place, new.version.bytes, will);
    told.because = repeat.or_else(|| new.passed_over.clone()).or_else(|| new.held.clone());
    Rehearsing { entry: entry_of(new, id, State::Ready), version: new.version, told }
}

fn as_new(live: &Live, candidate: &Candidate) -> NewEntry {
    let (drop_folder, path) = live.parts_of(&candidate.path);
    NewEntry {
        handed_in: None,
        gate: live.gate.name.clone(),
        drop_folder,
        path,
        place: candidate.path.clone(),
        version: candidate.version,
        sha256: Sha256::default(),
        fields: candidate.fields.clone(),
        seen_at: candidate.seen_at,
        space: live.gate.space(),
        policy: policy(&live.gate),
        identity: Vec::new(),
        replaces: None,
        nothing_to_work: false,
        held: None,
        unusual: None,
        passed_over: None,
        others_filed: false,
        mark: None,
    }
}

/// Where each file would be filed.
fn places(live: &Live, files: &mut [Rehearsing]) {
    let mut taken: HashSet<PathBuf> = HashSet::new();
    let others_filed = live.gate.pick.as_ref().is_some_and(|pick| pick.others == Others::File);
    for file in files {
        let place = match file.told.will {
            Will::Wait => continue,
            Will::PassOver if !others_filed => continue,
            Will::Repeat => live.repeat_path(&file.entry),
            Will::Hold => live.hold_path(&file.entry),
            _ => match live.archive_path(&file.entry) {
                Ok(place) => place.map(|place| place.path),
                Err(why) => {
                    hold(file, why.to_string());
                    live.hold_path(&file.entry)
                }
            },
        };
        let Some(wanted) = place.map(PathBuf::from) else { continue };
        let mut free = wanted.clone();
        for number in 2..100_000 {
            let reach = &live.context.config.reach;
            let there = reach.at(&free).is_ok_and(|at| matches!(at.look(), Ok(Some(_))));
            if !taken.contains(&free) && !there {
                break;
            }
            free = numbered(&wanted, number);
        }
        file.told.filed_to = Some(free.display().to_string());
        taken.insert(free);
    }
}
