//! Which limits are broken.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};

use crate::config::lookout::Lookout;
use crate::ledger::happenings::{EndOfHappening, NewHappening};
use crate::ledger::{Ledger, LedgerError};
use crate::settings::keys::Range;
use crate::settings::values::{write_bytes, write_duration};
use crate::watch::lookouts::kept::Kept;
use crate::watch::lookouts::look::{Found, FoundFolder, NAMED};
use crate::words::{counted, grouped};

/// What is broken: of which folder and limit, and how.
pub(crate) type Broken = BTreeMap<String, String>;

/// Holds what was found against the limits.
pub(crate) fn judge(lookout: &Lookout, found: &Found, kept: &Kept, now: Timestamp) -> Broken {
    let mut broken = Broken::new();
    if found.folders.is_empty() && lookout.there == Some(true) {
        broken.insert(
            format!("{} there", lookout.at.shown()),
            "there is no folder of that name, and so no file".into(),
        );
    }
    for folder in &found.folders {
        let mut breaks = |limit: &str, words: String| {
            broken.insert(format!("{} {limit}", folder.path), words);
        };
        if let Some(problem) = folder.problems.first() {
            breaks("folder", problem.clone());
            continue;
        }
        if let Some(words) = kept.replaced(&folder.path) {
            breaks("folder", words.to_owned());
        }
        of_folder(lookout, folder, &mut breaks);
        if let Some(words) = of_ages(lookout, folder, kept, now) {
            breaks("age", words);
        }
        if let Some(words) = kept.different(&folder.path) {
            breaks("unchanged", words);
        }
    }
    broken
}

fn of_folder(lookout: &Lookout, folder: &FoundFolder, breaks: &mut impl FnMut(&str, String)) {
    match lookout.there {
        Some(true) if folder.count == 0 => breaks("there", "no file is there".into()),
        Some(false) if folder.count > 0 => {
            breaks("there", format!("{} there, where none is to be", is_or_are(folder.count)));
        }
        _ => {}
    }
    if folder.outside_count > 0 {
        let named = folder
            .outside
            .iter()
            .map(|(path, bytes)| format!("{path} has {}", write_bytes(*bytes)));
        let named = named.collect::<Vec<_>>().join(", ");
        let more = folder.outside_count.saturating_sub(NAMED as u64);
        let more = if more > 0 { format!(" and {} more", grouped(more)) } else { String::new() };
        breaks("bytes", format!("{named}{more}; {}", limits(&lookout.bytes)));
    }
    if outside(&lookout.total, folder.total) {
        let is = write_bytes(folder.total);
        breaks("total", format!("all files have {is}; {}", limits(&lookout.total)));
    }
    if outside(&lookout.count, folder.count) {
        breaks("count", format!("{} there; {}", is_or_are(folder.count), limits(&lookout.count)));
    }
    if let Some(free) = folder.free.filter(|free| outside(&lookout.free, *free)) {
        breaks("free", format!("{} are free; {}", write_bytes(free), limits(&lookout.free)));
    }
}

fn is_or_are(count: u64) -> String {
    let verb = if count == 1 { "is" } else { "are" };
    format!("{} {verb}", counted(count, "file", "files"))
}

fn outside<T: PartialOrd + Copy>(range: &Range<T>, value: T) -> bool {
    range.least.as_ref().is_some_and(|end| value < end.at)
        || range.most.as_ref().is_some_and(|end| value > end.at)
}

/// A range as it was written.
fn limits<T>(range: &Range<T>) -> String {
    match (&range.least, &range.most) {
        (Some(least), Some(most)) => {
            format!("from {} to {} are right", least.written, most.written)
        }
        (Some(least), None) => format!("{} are the least", least.written),
        (None, Some(most)) => format!("{} are the most", most.written),
        (None, None) => String::new(),
    }
}

fn of_ages(lookout: &Lookout, folder: &FoundFolder, kept: &Kept, now: Timestamp) -> Option<String> {
    let age = &lookout.age;
    if age.least.is_none() && age.most.is_none() {
        return None;
    }
    let span = |of: Duration| SignedDuration::try_from(of).unwrap_or(SignedDuration::MAX);
    let mut wrong: Vec<(&str, SignedDuration)> = Vec::new();
    for (path, since) in kept.files(&folder.path) {
        let lain = now.duration_since(since);
        let short = age.least.as_ref().is_some_and(|end| lain < span(end.at));
        let long = age.most.as_ref().is_some_and(|end| lain > span(end.at));
        if short || long {
            wrong.push((path, lain));
        }
    }
    // The one that has lain longest first.
    wrong.sort_by_key(|(path, lain)| (std::cmp::Reverse(*lain), *path));
    let (first, lain) = wrong.first()?;
    let lain = write_duration(Duration::from_secs(lain.as_secs().max(0).unsigned_abs()));
    let more = match wrong.len() {
        1 => String::new(),
        count => format!(", and {} more", grouped(count as u64 - 1)),
    };
    Some(format!("{first} has lain there for {lain}{more}; {}", limits(age)))
}

/// What is broken, and since when.
#[derive(Default)]
pub(crate) struct Breaches {
    /// What was recorded.
    recorded: BTreeSet<String>,
    /// What is broken, and does not last long enough yet.
    since: BTreeMap<String, Instant>,
}

impl Breaches {
    /// Begins with what lasted when the service ended.
    pub fn begin(ledger: &Ledger, name: &str) -> Result<Self, LedgerError> {
        let lasting = ledger.lasting(Some(&format!("lookout:{name}")))?;
        let recorded = lasting.into_iter().map(|one| one.subject).collect();
        Ok(Breaches { recorded, since: BTreeMap::new() })
    }

    /// Takes what is broken now; gives what began and what ended.
    pub fn take(
        &mut self,
        broken: Broken,
        lasting: Duration,
        name: &str,
    ) -> (Vec<NewHappening>, Vec<EndOfHappening>) {
        let about = format!("lookout:{name}");
        let (mut begun, mut ended) = (Vec::new(), Vec::new());
        self.since.retain(|subject, _| broken.contains_key(subject));
        self.recorded.retain(|subject| {
            let still = broken.contains_key(subject);
            if !still {
                ended.push(EndOfHappening {
                    kind: "breach",
                    about: about.clone(),
                    subject: subject.clone(),
                    words: "it is as it should be again".into(),
                });
            }
            still
        });
        for (subject, words) in broken {
            if self.recorded.contains(&subject) {
                continue;
            }
            let since = *self.since.entry(subject.clone()).or_insert_with(Instant::now);
            if since.elapsed() < lasting {
                continue;
            }
            self.since.remove(&subject);
            self.recorded.insert(subject.clone());
            let (kind, about) = ("breach", about.clone());
            begun.push(NewHappening { kind, about, subject, words, entry: None, lasts: true });
        }
        (begun, ended)
    }
}
