//! `[report.NAME]`: what is reported, when, and to whom.

use std::time::Duration;

use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::config::tell::Tell;
use crate::config::wall_clock::instant;
use crate::settings::keys::{check_name, duration};
use crate::settings::reader::{Section, nearest};

/// A report that goes out by the clock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportRule {
    /// Its name.
    pub name: String,
    /// At these times of each day.
    pub at: Vec<Time>,
    /// It is about so long a time before.
    pub since: Duration,
    /// The tells that it goes to.
    pub to: Vec<String>,
}

impl ReportRule {
    /// The newest of its times until now.
    pub(crate) fn last(&self, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let today = zone.to_datetime(now).date();
        let days = [Some(today), today.yesterday().ok()];
        let at = days.into_iter().flatten().flat_map(|day| {
            self.at.iter().filter_map(move |time| instant(zone, day.to_datetime(*time)))
        });
        at.filter(|at| *at <= now).max()
    }

    /// The next of its times.
    pub(crate) fn next(&self, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let today = zone.to_datetime(now).date();
        let days = [today, today.saturating_add(1.day())];
        let at = days.into_iter().flat_map(|day| {
            self.at.iter().filter_map(move |time| instant(zone, day.to_datetime(*time)))
        });
        at.filter(|at| *at > now).min()
    }
}

/// Reads all `[report.NAME]` sections.
pub(crate) fn read_all(sections: Vec<(String, Section<'_>)>, tells: &[Tell]) -> Vec<ReportRule> {
    let mut all: Vec<ReportRule> = Vec::new();
    for (name, mut section) in sections {
        check_name(&section, "report", &name);
        let mut at = Vec::new();
        for text in section.texts("at").unwrap_or_default() {
            match Time::strptime("%H:%M", &text.value) {
                Ok(time) => at.push(time),
                Err(_) => text.at.fault(format!(
                    "`at` is \"{}\"; expected a time of the day such as \"06:45\"",
                    text.value
                )),
            }
        }
        if at.is_empty() && !section.has("at") {
            section
                .fault_here(format!("the report `{name}` has no `at`; say when: at = \"06:45\""));
        }
        let since = duration(&mut section, "since").unwrap_or(Duration::from_secs(24 * 3600));
        let to = section.texts("to").unwrap_or_default();
        if to.is_empty() {
            section.fault_here(format!(
                "the report `{name}` has no `to`; name the tell that it goes to"
            ));
        }
        for one in &to {
            if !tells.iter().any(|tell| tell.name == one.value) {
                let near = nearest(&one.value, tells.iter().map(|tell| tell.name.as_str()));
                let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
                one.at.fault(format!("there is no tell `{}`{hint}", one.value));
            }
        }
        section.finish();
        let to = to.into_iter().map(|one| one.value).collect();
        all.push(ReportRule { name, at, since, to });
    }
    all
}
