//! What is expected, who is told, and the morning.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args as ClapArgs, Subcommand};
use jiff::civil::Date;
use vadegate_core::dues::DueState;
use vadegate_core::ledger::MessageState;

/// The commands about what should come and who hears of it.
#[derive(Debug, Subcommand)]
pub enum Watching {
    /// Show the morning on one screen: what needs a person, and what the night did
    #[command(after_help = "\
Exit status 1 when something needs a person: late or missing, held, a broken limit, a gate in
trouble, messages that do not arrive.

Examples:
  vadegate board
  vadegate board --json")]
    Board(Board),
    /// List what is expected, and whether it is here
    #[command(after_help = "\
States: missing, late, due-soon, expected, here-late, excused, here. Without a day: today,
and what is still open of days before.

Examples:
  vadegate due
  vadegate due tide-morning --since 2026-03-01..2026-03-31 --csv
  vadegate due --state missing --json
  vadegate due --learn tide                    (proposes a rule)")]
    Due(Due),
    /// Say that something that is expected need not come
    #[command(after_help = "\
Examples:
  vadegate excuse tide-morning garrow-light --day 2026-03-01 --why 'the gauge is repaired'
  vadegate excuse charts --day 2026-03-02 --why 'holiday of the office'")]
    Excuse(Excuse),
    /// List lookouts: what each saw last, and which limits are broken
    #[command(after_help = "\
With --breaches the exit status is 1 when a limit is broken.

Examples:
  vadegate lookouts
  vadegate lookouts --breaches
  vadegate lookouts outbox --events --follow
  vadegate lookouts masters --take-as-right --why 'the new charts of March'")]
    Lookouts(Lookouts),
    /// Tell what a night, a day or a week did, beside the same time a week before
    #[command(after_help = "\
Examples:
  vadegate report                              (the last 24 hours)
  vadegate report --day 2026-03-01 --html report.html
  vadegate report --since 2026-03-01..2026-03-07 --csv")]
    Report(Report),
    /// List who hears of what, and try whether a receiver takes it
    #[command(after_help = "\
With --test the exit status is 1 when the receiver does not take it.

Examples:
  vadegate tell
  vadegate tell harbour-desk --test")]
    Tell(Tell),
    /// List what was told, and what is waiting or was given up
    #[command(after_help = "\
Examples:
  vadegate told
  vadegate told harbour-desk --state failed
  vadegate told --newest 1 --json")]
    Told(Told),
}

/// `lookouts`
#[derive(Debug, ClapArgs)]
pub struct Lookouts {
    /// Only this one
    #[arg(value_name = "NAME", required_if_eq_any([("events", "true"), ("take_as_right", "true")]))]
    pub name: Option<String>,
    /// List the limits that are broken
    #[arg(long, conflicts_with = "events")]
    pub breaches: bool,
    /// List what happened there, newest first
    #[arg(long)]
    pub events: bool,
    /// Go on with what happens
    #[arg(long, short, requires = "events")]
    pub follow: bool,
    /// Take what it sees next as right
    #[arg(long, requires = "why", conflicts_with_all = ["events", "breaches"])]
    pub take_as_right: bool,
    /// Why it is right
    #[arg(long, value_name = "TEXT")]
    pub why: Option<String>,
    /// Who; by default the user's name
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Print JSON instead of a table; with --follow a document for each line
    #[arg(long)]
    pub json: bool,
}

/// `report`
#[derive(Debug, ClapArgs)]
pub struct Report {
    /// The time before now (`24h`), a first moment, or FIRST..LAST with the whole of its last day
    #[arg(long, value_name = "TIME", default_value = "24h")]
    pub since: String,
    /// This day
    #[arg(long, value_name = "DAY", conflicts_with = "since")]
    pub day: Option<Date>,
    /// Write a page that needs nothing from outside into this file
    #[arg(long, value_name = "FILE")]
    pub html: Option<std::path::PathBuf>,
    /// Print one JSON document
    #[arg(long, conflicts_with_all = ["html", "csv"])]
    pub json: bool,
    /// Print the gates as lines separated by commas
    #[arg(long, conflicts_with = "html")]
    pub csv: bool,
}

/// `tell`
#[derive(Debug, ClapArgs)]
pub struct Tell {
    /// Only this one
    #[arg(value_name = "NAME", required_if_eq("test", "true"))]
    pub name: Option<String>,
    /// Tell it that this is a test
    #[arg(long)]
    pub test: bool,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `told`
#[derive(Debug, ClapArgs)]
pub struct Told {
    /// Only what this one was told
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// Only messages in this state
    #[arg(long, value_name = "STATE", value_parser = message_state())]
    pub state: Option<MessageState>,
    /// So many of the newest
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    pub newest: u32,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `board`
#[derive(Debug, ClapArgs)]
pub struct Board {
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `due`
#[derive(Debug, ClapArgs)]
pub struct Due {
    /// Only this rule
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// Of this day, such as 2026-03-01
    #[arg(long, value_name = "DAY", conflicts_with = "since")]
    pub day: Option<Date>,
    /// Of these days: FIRST..LAST, or FIRST alone for those since then
    #[arg(long, value_name = "DAYS", value_parser = days)]
    pub since: Option<Days>,
    /// Only expectations in this state
    #[arg(long, value_name = "STATE", value_parser = due_state())]
    pub state: Option<DueState>,
    /// Propose a rule from what this gate has received so far
    #[arg(long, value_name = "GATE", conflicts_with_all = ["name", "day", "since", "state", "csv"])]
    pub learn: Option<String>,
    /// Print one JSON document instead of a table
    #[arg(long, conflicts_with = "csv")]
    pub json: bool,
    /// Print lines separated by commas instead of a table
    #[arg(long)]
    pub csv: bool,
}

/// Some days.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Days {
    pub first: Date,
    pub last: Option<Date>,
}

/// A text is no day.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no day; expected one such as 2026-03-01")]
pub struct NoDay(pub String);

/// Reads `2026-03-01`, `2026-03-01..2026-03-07` or `2026-03-01..`.
///
/// # Errors
/// [`NoDay`].
pub fn days(text: &str) -> Result<Days, NoDay> {
    let day = |text: &str| text.parse::<Date>().map_err(|_| NoDay(text.to_owned()));
    Ok(match text.split_once("..") {
        Some((first, last)) => Days { first: day(first)?, last: Some(day(last)?) },
        None => Days { first: day(text)?, last: None },
    })
}

/// `excuse`
#[derive(Debug, ClapArgs)]
pub struct Excuse {
    /// The rule
    #[arg(value_name = "DUE")]
    pub due: String,
    /// The value, where something is expected of each
    #[arg(value_name = "VALUE")]
    pub value: Option<String>,
    /// The day, such as 2026-03-01
    #[arg(long, value_name = "DAY")]
    pub day: Date,
    /// Why it need not come
    #[arg(long, value_name = "TEXT")]
    pub why: String,
    /// Who; by default the user's name
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// The words of the core, so that the two never differ.
fn due_state() -> impl TypedValueParser<Value = DueState> {
    let words = PossibleValuesParser::new(DueState::ALL.map(DueState::word));
    words.try_map(|word| DueState::of(&word).ok_or("no such state"))
}

fn message_state() -> impl TypedValueParser<Value = MessageState> {
    let words = PossibleValuesParser::new(MessageState::ALL.map(MessageState::word));
    words.try_map(|word| MessageState::of(&word).ok_or("no such state"))
}
