//! Changes of state of what is expected, each recorded once: also those whose time came
//! while the service was down.

use std::collections::HashMap;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};

use crate::config::due::Due;
use crate::dues::cells::{cells, next_change};
use crate::dues::facts::Read;
use crate::dues::types::{DueCell, DueState};
use crate::ledger::dues::DueKey;
use crate::ledger::happenings::{EndOfHappening, NewHappening};
use crate::ledger::ids::ChangeId;
use crate::ledger::{Happening, Ledger, LedgerError};
use crate::tell::follow::NOW_MISSING;

/// After a change of a gate its rules are judged again no sooner than this.
const PAUSE: SignedDuration = SignedDuration::from_millis(500);

/// What is due waits so long for a file that lies there and settles: it came in time.
const PATIENCE: SignedDuration = SignedDuration::from_secs(60);

/// That often it is recorded that a rule was judged, when nothing changes.
const MARK: SignedDuration = SignedDuration::from_mins(10);

/// So many days back it is judged what came true while the service was down.
const DOWN: i64 = 31;

/// The rules that are watched.
pub(crate) struct DueWatch {
    rules: Vec<Rule>,
    /// The newest change of an entry that was seen.
    change: Option<ChangeId>,
    /// How often something had been excused then.
    excused: u64,
    /// Whether what lasted of rules that are gone was ended.
    begun: bool,
}

struct Rule {
    due: Due,
    marks: Option<HashMap<DueKey, DueState>>,
    /// When it was last recorded that it was judged.
    marked: Timestamp,
    /// When it was judged last.
    judged: Timestamp,
    /// Whether something of its gate has changed since.
    changed: bool,
    next: Timestamp,
    /// Since when it waits for what settles.
    waits: Option<Timestamp>,
}

impl DueWatch {
    /// Watches these rules from now on.
    pub fn begin(dues: &[Due]) -> Self {
        let rule = |due: &Due| Rule {
            due: due.clone(),
            marks: None,
            marked: Timestamp::MIN,
            judged: Timestamp::MIN,
            changed: true,
            next: Timestamp::MIN,
            waits: None,
        };
        let rules = dues.iter().map(rule).collect();
        DueWatch { rules, change: None, excused: 0, begun: false }
    }

    /// Judges what may have changed; gives when there is to be looked again. `settling` tells of
    /// a gate whether it is about to enter what lies there.
    pub fn look(
        &mut self,
        ledger: &Ledger,
        excused: u64,
        (now, zone): (Timestamp, &TimeZone),
        settling: &dyn Fn(&str) -> bool,
    ) -> Result<Option<Timestamp>, LedgerError> {
        if !self.begun {
            let named = |about: &str| {
                self.rules.iter().any(|rule| about.strip_prefix("due:") == Some(&rule.due.name))
            };
            let lasting = ledger.lasting(None)?.into_iter();
            let of_none = lasting.filter(|one| one.about.starts_with("due:") && !named(&one.about));
            ledger.happened(Vec::new(), of_none.filter_map(gone).collect())?;
            self.begun = true;
        }
        if self.rules.is_empty() {
            return Ok(None);
        }
        if self.excused != excused {
            self.excused = excused;
            self.rules.iter_mut().for_each(|rule| rule.changed = true);
        }
        self.note_changes(ledger)?;
        let mut next: Option<Timestamp> = None;
        for rule in &mut self.rules {
            // A clock that was set back is noticed too.
            let long_ago = now.duration_since(rule.judged).abs() >= SignedDuration::from_secs(60);
            let rested = now.duration_since(rule.judged).abs() >= PAUSE;
            if now >= rule.next && rule.waits_for(settling, now) {
                let again = now.saturating_add(PAUSE).unwrap_or(now);
                next = Some(next.map_or(again, |next| next.min(again)));
                continue;
            }
            if long_ago || now >= rule.next || (rule.changed && rested) {
                rule.judge(ledger, now, zone)?;
            }
            let again = match rule.changed {
                true => rule.judged.saturating_add(PAUSE).unwrap_or(now),
                false => rule.next,
            };
            next = Some(next.map_or(again, |next| next.min(again)));
        }
        Ok(next)
    }

    fn note_changes(&mut self, ledger: &Ledger) -> Result<(), LedgerError> {
        const PIECE: u32 = 1000;
        let Some(mut last) = self.change else {
            self.change = Some(ledger.newest_change()?);
            return Ok(());
        };
        let changes = ledger.changes_after(last, PIECE)?;
        for change in &changes {
            last = change.id;
            for rule in self.rules.iter_mut().filter(|rule| rule.due.gate == change.gate) {
                rule.changed = true;
            }
        }
        if changes.len() == PIECE as usize {
            // With so many, every gate may be among those that were not read.
            self.rules.iter_mut().for_each(|rule| rule.changed = true);
            last = ledger.newest_change()?;
        }
        self.change = Some(last);
        Ok(())
    }
}

impl Rule {
    /// Whether its time has come, and a file may have come before it that is entered soon.
    fn waits_for(&mut self, settling: &dyn Fn(&str) -> bool, now: Timestamp) -> bool {
        if !settling(&self.due.gate) {
            return false;
        }
        let since = *self.waits.get_or_insert(now);
        now.duration_since(since).abs() < PATIENCE
    }

    fn judge(
        &mut self,
        ledger: &Ledger,
        now: Timestamp,
        zone: &TimeZone,
    ) -> Result<(), LedgerError> {
        let today = zone.to_datetime(now).date();
        let what = format!("due:{}", self.due.name);
        // A rule that is new speaks of today alone; one that was there of all since then.
        let since = match ledger.watched_at(&what)? {
            Some(at) => zone.to_datetime(at).date(),
            None => today,
        };
        let later = [Some(&self.due.by), self.due.give_up.as_ref()];
        let later = later.into_iter().flatten().map(|moment| moment.later).max().unwrap_or(0);
        let first = since.min(today).saturating_sub((later + 1).days());
        let first = first.max(today.saturating_sub((DOWN + later).days()));
        let marks = match &mut self.marks {
            Some(marks) => marks,
            None => self.marks.insert(read_marks(ledger, &self.due.name, first)?),
        };
        let mut read = Read::default();
        let cells = cells(ledger, &mut read, &self.due, (first, today), now, zone)?;
        let since_then = |cell: &DueCell| cell.day >= since.min(today) || later > 0;
        let (mut begun, mut ended, mut fresh) = (Vec::new(), Vec::new(), Vec::new());
        for cell in cells.iter().filter(|cell| since_then(cell)) {
            let key = (cell.day.to_string(), cell.value.clone().unwrap_or_default());
            let before = marks.get(&key).copied();
            if before == Some(cell.state) {
                continue;
            }
            // Of days before the first look nothing is told.
            let silent = before.is_none() && cell.day < since;
            if !silent {
                tell_change(cell, before, &mut begun, &mut ended);
            }
            marks.insert(key.clone(), cell.state);
            fresh.push((key, cell.state.word()));
        }
        ended.extend(not_expected(ledger, &self.due.name, &cells, &ended)?);
        // That nothing changed is worth no commit each minute.
        if !(fresh.is_empty() && ended.is_empty()) || now.duration_since(self.marked).abs() >= MARK
        {
            ledger.mark_dues(&self.due.name, &what, fresh, begun, ended)?;
            self.marked = now;
        }
        let oldest = first.to_string();
        marks.retain(|(day, _), _| *day >= oldest);
        self.judged = now;
        self.waits = None;
        self.changed = false;
        self.next = next_change(&cells, &self.due, now, zone).unwrap_or(Timestamp::MAX);
        Ok(())
    }
}

/// What lasts, and is not expected any more: the rule was changed, or its day is long ago.
fn not_expected(
    ledger: &Ledger,
    due: &str,
    cells: &[DueCell],
    ended: &[EndOfHappening],
) -> Result<Vec<EndOfHappening>, LedgerError> {
    let about = format!("due:{due}");
    let still = |one: &Happening| {
        cells.iter().any(|cell| cell.state.word() == one.kind && subject_of(cell) == one.subject)
    };
    let known = |one: &Happening| {
        ended.iter().any(|end| end.kind == one.kind && end.subject == one.subject)
    };
    let lasting = ledger.lasting(Some(&about))?.into_iter();
    Ok(lasting.filter(|one| !still(one) && !known(one)).filter_map(gone).collect())
}

/// The end of what is not expected any more.
fn gone(one: Happening) -> Option<EndOfHappening> {
    let kind = ["late", "missing"].into_iter().find(|kind| *kind == one.kind)?;
    let words = "it is not expected any more".to_owned();
    Some(EndOfHappening { kind, about: one.about, subject: one.subject, words })
}

fn subject_of(cell: &DueCell) -> String {
    match &cell.value {
        Some(value) => format!("{value} of {}", cell.day),
        None => cell.day.to_string(),
    }
}

fn read_marks(
    ledger: &Ledger,
    due: &str,
    first: Date,
) -> Result<HashMap<DueKey, DueState>, LedgerError> {
    let marks = ledger.due_marks(due, first)?.into_iter();
    Ok(marks.filter_map(|(key, word)| Some((key, DueState::of(&word)?))).collect())
}

fn tell_change(
    cell: &DueCell,
    before: Option<DueState>,
    begun: &mut Vec<NewHappening>,
    ended: &mut Vec<EndOfHappening>,
) {
    let about = format!("due:{}", cell.due);
    let subject = subject_of(cell);
    let mut end = |kind: &'static str, words: &str| {
        let (about, subject) = (about.clone(), subject.clone());
        ended.push(EndOfHappening { kind, about, subject, words: words.to_owned() });
    };
    match before {
        Some(DueState::Late) if cell.state == DueState::Missing => end("late", NOW_MISSING),
        Some(DueState::Late) => end("late", &cell.words),
        Some(DueState::Missing) => end("missing", &cell.words),
        _ => {}
    }
    let (kind, lasts) = match cell.state {
        DueState::Late => ("late", true),
        DueState::Missing => ("missing", true),
        DueState::DueSoon => ("due-soon", false),
        // What was late is told to be over; that it came late is told to who wants that.
        DueState::HereLate => ("here-late", false),
        DueState::Here | DueState::Expected | DueState::Excused => return,
    };
    let words = cell.words.clone();
    begun.push(NewHappening { kind, about, subject, words, entry: None, lasts });
}
