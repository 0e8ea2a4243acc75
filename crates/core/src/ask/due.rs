//! What is expected, and whether it is here.

use std::collections::HashMap;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::config::due::Due;
use crate::dues::cells::{bare_cells, cells, open_cells, tell};
use crate::dues::facts::Read;
use crate::dues::learn::{Learned, learn};
use crate::dues::types::{DueCell, DueCount, DueState, DueView};
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::By;
use crate::ledger::Excuse;

/// Which expectations are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DueQuery {
    /// Of this rule; all where it is not said.
    pub name: Option<String>,
    /// From this day on. Where no day is said: today, and what is still open of days before.
    pub since: Option<Date>,
    /// Until this day; the one from which on, or today.
    pub until: Option<Date>,
    /// In this state.
    pub state: Option<DueState>,
    /// So many at the most: those first that need a person.
    pub limit: Option<usize>,
}

/// So many days are told at once.
const MOST_DAYS: i64 = 400;

/// So many expectations are judged at once.
const MOST_CELLS: usize = 2_000_000;

impl Engine {
    fn zone(&self) -> TimeZone {
        self.context().config.service.timezone.clone()
    }

    /// The rule of this name.
    fn due(&self, name: &str) -> Result<Due, EngineError> {
        let config = &self.context().config;
        config.dues.iter().find(|due| due.name == name).cloned().ok_or_else(|| {
            let known: Vec<String> =
                config.dues.iter().map(|due| format!("`{}`", due.name)).collect();
            let known = if known.is_empty() { "none".into() } else { known.join(", ") };
            EngineError::NoDue { name: name.to_owned(), known }
        })
    }

    /// Expectations, in order of rule, day and value; with a limit, in order of urgency.
    ///
    /// # Errors
    /// [`EngineError::NoDue`], [`EngineError::Refused`] for days that make no sense, or the
    /// ledger's.
    pub fn due_cells(&self, query: &DueQuery) -> Result<Vec<DueCell>, EngineError> {
        let mut all = self.expected_now(query)?;
        if let Some(limit) = query.limit {
            // Fifty thousand are not put in order for the sake of the first thousand.
            let of = |state| all.iter().filter(move |cell| cell.state == state);
            all = DueState::ALL.into_iter().flat_map(of).take(limit).cloned().collect();
        }
        self.tell_due(&mut all);
        Ok(all)
    }

    /// Expectations that fit, without words.
    pub(crate) fn expected_now(&self, query: &DueQuery) -> Result<Vec<DueCell>, EngineError> {
        let (zone, now) = (self.zone(), Timestamp::now());
        let today = zone.to_datetime(now).date();
        let days = match (query.since, query.until) {
            (None, None) => None,
            (since, until) => {
                let last = until.unwrap_or(today);
                let first = since.unwrap_or(last);
                if first > last || (last - first).get_days() > MOST_DAYS as i32 {
                    return Err(EngineError::Refused(format!(
                        "from {first} to {last} are no days, or more than {MOST_DAYS}"
                    )));
                }
                Some((first, last))
            }
        };
        let mut all = self.judged(query.name.as_deref(), days)?;
        all.retain(|cell| query.state.is_none_or(|state| cell.state == state));
        Ok(all)
    }

    /// Gives expectations their words.
    pub(crate) fn tell_due(&self, cells: &mut [DueCell]) {
        let (context, zone) = (self.context(), self.zone());
        let dues: HashMap<&str, &Due> =
            context.config.dues.iter().map(|due| (due.name.as_str(), due)).collect();
        for cell in cells {
            if let Some(due) = dues.get(cell.due.as_str()) {
                tell(due, cell, &zone);
            }
        }
    }

    /// Expectations of one rule or all, for some days, without words; without days those of
    /// today, and what is still open of days before.
    pub(crate) fn judged(
        &self,
        name: Option<&str>,
        days: Option<(Date, Date)>,
    ) -> Result<Vec<DueCell>, EngineError> {
        let (context, zone, now) = (self.context(), self.zone(), Timestamp::now());
        let one;
        let dues = match name {
            Some(name) => {
                one = [self.due(name)?];
                &one[..]
            }
            None => &context.config.dues,
        };
        let mut read = Read::default();
        let mut all = Vec::new();
        for due in dues {
            all.extend(match days {
                Some(days) => bare_cells(&context.ledger, &mut read, due, days, now, &zone)?,
                None => open_cells(&context.ledger, &mut read, due, now, &zone)?,
            });
            if all.len() > MOST_CELLS {
                return Err(EngineError::Refused(format!(
                    "there are more than {MOST_CELLS} expectations in that time; ask for one rule, or for fewer days"
                )));
            }
        }
        Ok(all)
    }

    /// How many expectations are in each state, those first that need a person.
    ///
    /// # Errors
    /// As of [`Engine::due_cells`].
    pub fn count_due(&self, query: &DueQuery) -> Result<Vec<DueCount>, EngineError> {
        let query = DueQuery { limit: None, ..query.clone() };
        self.expected_now(&query).map(|cells| DueCount::of(&cells))
    }

    /// All rules of what is expected, and how each stands today.
    ///
    /// # Errors
    /// The ledger's.
    pub fn dues(&self) -> Result<Vec<DueView>, EngineError> {
        let (context, zone, now) = (self.context(), self.zone(), Timestamp::now());
        let mut read = Read::default();
        let view = |due: &Due| {
            Ok(DueView {
                name: due.name.clone(),
                gate: due.gate.clone(),
                words: due.words(),
                each: due.each.clone(),
                today: DueCount::of(&open_cells(&context.ledger, &mut read, due, now, &zone)?),
            })
        };
        context.config.dues.iter().map(view).collect()
    }

    /// Says that an expectation of a day need not come; gives it as it stands then. A value
    /// that is not expected is refused, so that a wrong letter excuses nothing in silence.
    ///
    /// # Errors
    /// [`EngineError::NoDue`], [`EngineError::Refused`], or the ledger's.
    pub fn excuse(
        &self,
        name: &str,
        value: Option<&str>,
        day: Date,
        by: &By,
    ) -> Result<(Excuse, DueCell), EngineError> {
        let due = self.due(name)?;
        let (context, zone) = (self.context(), self.zone());
        let find = || -> Result<Option<DueCell>, EngineError> {
            let (now, mut read) = (Timestamp::now(), Read::default());
            let all = cells(&context.ledger, &mut read, &due, (day, day), now, &zone)?;
            Ok(all.into_iter().find(|cell| cell.value.as_deref() == value))
        };
        let refused = |why: String| Err(EngineError::Refused(why));
        match (&due.each, value) {
            (Some(each), None) => {
                return refused(format!("`{name}` expects something of each {each}; say of which"));
            }
            (None, Some(value)) => {
                return refused(format!("`{name}` has no values; leave `{value}` out"));
            }
            _ => {}
        }
        if find()?.is_none() {
            let what = value.map_or(String::new(), |value| format!(" of `{value}`"));
            return refused(format!("`{name}` expects nothing{what} on {day}"));
        }
        let excuse = context.ledger.excuse(name, day, value.unwrap_or_default(), by)?;
        tracing::info!(due = name, value, %day, who = by.who, why = by.why, "excused");
        context.excused.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        context.pulse(&due.gate);
        match find()? {
            Some(cell) => Ok((excuse, cell)),
            None => refused(format!("`{name}` expects nothing on {day} any more")),
        }
    }

    /// Proposes a rule from what a gate has received.
    ///
    /// # Errors
    /// [`EngineError::NoGate`], or the ledger's.
    pub fn learn_due(&self, gate: &str) -> Result<Learned, EngineError> {
        let handle = self.handle(gate)?;
        let zone = self.zone();
        Ok(learn(&self.context().ledger, &handle.live.gate, Timestamp::now(), &zone)?)
    }
}
