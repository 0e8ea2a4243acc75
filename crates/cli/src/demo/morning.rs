//! What the demo expects of its stations: most come, one late, one never, and one need not.

use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use vadegate_core::config::Config;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::By;

use super::coast::STATIONS;
use crate::failure::Failure;

/// The station that comes late.
pub const LATE: &str = "hollow-head";

/// The one that never comes, and the one that need not.
const NEVER: &str = "morrow-skerry";
const EXCUSED: &str = "outer-stack";

/// The rule, with times that come while one looks.
pub fn rule() -> String {
    let now = TimeZone::UTC.to_datetime(Timestamp::now());
    let last = |seconds: i8| Time::constant(23, 59, 57, 0).saturating_add(seconds.seconds());
    // Before midnight all of it is of one day.
    let at = |later: i64, seconds: i8| {
        let at = now.saturating_add(SignedDuration::from_secs(later));
        let time = if at.date() == now.date() { at.time() } else { last(seconds) };
        time.strftime("%H:%M:%S").to_string()
    };
    let stations = STATIONS.iter().map(|station| station.id).chain([LATE, NEVER, EXCUSED]);
    let stations: Vec<String> = stations.map(|station| format!("{station:?}")).collect();
    format!(
        "\n# What is expected of the stations today.\n[due.tide-morning]\ngate    = \"tide\"\n\
         each    = \"<station>\"\nof      = [{}]\nwarn    = \"{}\"\nby      = \"{}\"\n\
         give_up = \"{}\"\n",
        stations.join(", "),
        at(8, 0),
        at(20, 1),
        at(75, 2)
    )
}

/// Says of one station that it need not come.
pub fn excuse(config: Config) -> Result<(), Failure> {
    let today = config.service.timezone.to_datetime(Timestamp::now()).date();
    let by = By { who: "Ada".into(), why: "its gauge is being repaired".into() };
    Engine::open(config)?.excuse("tide-morning", Some(EXCUSED), today, &by)?;
    Ok(())
}
