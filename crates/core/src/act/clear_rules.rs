//! The rules by which files are cleared, and when each has its turn.

use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::config::clear::ClearRule;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::settings::values::write_duration;
use crate::work::env::local;

/// A rule by which files are cleared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClearView {
    /// Its name.
    pub name: String,
    /// Folders in which is looked.
    pub folders: Vec<String>,
    /// Patterns of files that go.
    #[serde(rename = "match")]
    pub matches: Vec<String>,
    /// Patterns of files of these that stay.
    pub leave: Vec<String>,
    /// Only files that were not modified for so long, in words.
    pub older: Option<String>,
    /// So many of the newest stay …
    pub keep_newest: Option<u64>,
    /// … of each value of this.
    pub keep_per: Option<String>,
    /// Where files are moved instead.
    pub into: Option<String>,
    /// More than so many are not removed in one run.
    pub most: u64,
    /// When it runs by itself, in words; none when only people run it.
    pub runs: Option<String>,
    /// When it ran last, or was seen first.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_at: Option<Timestamp>,
    /// When it will run by itself.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next_at: Option<Timestamp>,
}

impl Engine {
    /// The rules by which files are cleared, as they are configured.
    ///
    /// # Errors
    /// The ledger's.
    pub fn clear_rules(&self) -> Result<Vec<ClearView>, EngineError> {
        let config = self.config();
        let now = Timestamp::now();
        let view = |rule: &ClearRule| {
            let last = self.context().ledger.cleared_at(&rule.name)?;
            let last = last.map(|at| Timestamp::from_millisecond(at).unwrap_or_default());
            Ok(ClearView {
                name: rule.name.clone(),
                folders: rule.folders.iter().map(|folder| folder.display().to_string()).collect(),
                matches: rule.matches.iter().map(|one| one.source().to_owned()).collect(),
                leave: rule.leave.iter().map(|one| one.source().to_owned()).collect(),
                older: rule.older.map(write_duration),
                keep_newest: rule.keep.as_ref().map(|keep| keep.newest as u64),
                keep_per: rule
                    .keep
                    .as_ref()
                    .and_then(|keep| keep.per.as_ref())
                    .map(|per| per.source().to_owned()),
                into: rule.into.as_ref().map(|into| into.source().to_owned()),
                most: rule.most,
                runs: runs(rule),
                last_at: last,
                next_at: next_at(rule, last.unwrap_or(now), now, &config.service.timezone),
            })
        };
        config.clears.iter().map(view).collect()
    }
}

fn runs(rule: &ClearRule) -> Option<String> {
    let every = rule.every.map(|every| format!("every {}", write_duration(every)));
    let at = rule.at.iter().map(|at| format!("at {}", at.strftime("%H:%M")));
    let all: Vec<String> = every.into_iter().chain(at).collect();
    (!all.is_empty()).then(|| all.join(", "))
}

/// When a rule that ran last at `last` has its turn next.
fn next_at(
    rule: &ClearRule,
    last: Timestamp,
    now: Timestamp,
    zone: &TimeZone,
) -> Option<Timestamp> {
    let every = rule.every.and_then(|every| last.checked_add(every).ok()).map(|at| at.max(now));
    let today = local(zone, now).date();
    let of_day = rule.at.iter().filter_map(|at| {
        let days = [Some(today), today.checked_add(1.day()).ok()];
        let moments = days.into_iter().flatten();
        let mut moments = moments.filter_map(|day| zone.to_timestamp(day.to_datetime(*at)).ok());
        moments.find(|moment| *moment > now)
    });
    of_day.chain(every).min()
}
