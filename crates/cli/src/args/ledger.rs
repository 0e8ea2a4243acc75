//! What is asked of the ledger.

use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use vadegate_core::ledger::{ChangeId, EntryId, State};

/// Which entries
#[derive(Debug, Clone, Default, ClapArgs)]
pub struct Filter {
    /// Of this gate
    #[arg(long, value_name = "GATE")]
    pub gate: Option<String>,
    /// In this state: ready, working, worked, filed, repeat, passed-over, held, gone, adopted
    #[arg(long, value_name = "STATE", value_parser = state)]
    pub state: Option<State>,
    /// Whose path fits this pattern
    #[arg(long = "match", value_name = "PATTERN")]
    pub pattern: Option<String>,
    /// With this SHA-256, or that of this file
    #[arg(long, value_name = "SHA256|FILE")]
    pub sum: Option<String>,
    /// With this field
    #[arg(long, value_name = "NAME=VALUE")]
    pub field: Vec<String>,
    /// That went into this output
    #[arg(long = "of", value_name = "OUTPUT")]
    pub output: Option<String>,
    /// What --since and --until are about
    #[arg(long, value_enum, value_name = "TIME", default_value = "entered")]
    pub time: TimeOf,
    /// Then or later: a time, a date, or how long ago (`2h`); or FIRST..LAST
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Before: a time, a date, or how long ago
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Only repeats
    #[arg(long)]
    pub repeats: bool,
    /// Only what was marked as forgotten
    #[arg(long)]
    pub forgotten: bool,
}

/// A time of an entry
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub enum TimeOf {
    /// When it was first noticed
    Seen,
    /// When it had settled
    #[default]
    Entered,
    /// When its work was done
    Worked,
    /// When it was filed
    Filed,
}

/// An order of entries
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum EntryOrder {
    /// By the time of entering
    Entered,
    /// By modification time
    Modified,
    /// By the time of their work
    Worked,
    /// By the time of filing
    Filed,
    /// By size
    Size,
    /// By path
    Name,
}

/// `ledger`
#[derive(Debug, ClapArgs)]
pub struct Ledger {
    /// Whose path contains this, or whose SHA-256 begins with it
    #[arg(value_name = "TEXT")]
    pub text: Option<String>,
    #[command(flatten)]
    pub filter: Filter,
    /// In this order, last first
    #[arg(long, value_enum, value_name = "ORDER", default_value = "entered")]
    pub sort: EntryOrder,
    /// First, oldest or smallest first
    #[arg(long)]
    pub reverse: bool,
    /// Only how many there are
    #[arg(long, conflicts_with_all = ["by", "csv"])]
    pub count: bool,
    /// How many there are by `gate`, `state`, `day` and fields, separated by commas (`field:day`
    /// where a field is called so)
    #[arg(long, value_name = "WHAT", conflicts_with = "csv")]
    pub by: Option<String>,
    /// These fields as columns, separated by commas
    #[arg(long, value_name = "FIELDS", conflicts_with_all = ["csv", "json", "by", "count"])]
    pub columns: Option<String>,
    /// At most so many, 1 to 1000
    #[arg(long, default_value_t = 50, value_name = "N")]
    #[arg(value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub limit: u32,
    /// Go on from there: the page before says where
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<i64>,
    /// Print delimited text with a header instead of a table
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
    /// What else to do
    #[command(subcommand)]
    pub doing: Option<LedgerDoing>,
}

/// What else is done with the ledger
#[derive(Debug, Subcommand)]
pub enum LedgerDoing {
    /// Print all entries that fit, oldest first, as JSON Lines or delimited text
    Export(Export),
}

/// `ledger export`
#[derive(Debug, ClapArgs)]
pub struct Export {
    #[command(flatten)]
    pub filter: Filter,
    /// As delimited text with a header
    #[arg(long)]
    pub csv: bool,
}

/// There is no such state of an entry.
#[derive(Debug, thiserror::Error)]
#[error("expected one of {}", State::ALL.map(State::word).join(", "))]
struct NoState;

fn state(word: &str) -> Result<State, NoState> {
    State::of(word).ok_or(NoState)
}

/// `entry`
#[derive(Debug, ClapArgs)]
pub struct Entry {
    /// Its number in the ledger
    #[arg(value_name = "ID", required_unless_present = "sum")]
    pub id: Option<EntryId>,
    /// All entries of this file, or with this SHA-256
    #[arg(long, value_name = "SHA256|FILE", conflicts_with = "id")]
    pub sum: Option<String>,
    /// The first rows of it in the database into which it was loaded; 100 when it is not
    /// said
    #[arg(long, value_name = "N", conflicts_with = "sum", num_args = 0..=1, default_missing_value = "100")]
    #[arg(value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub rows: Option<u32>,
    /// Print one JSON document instead of text
    #[arg(long)]
    pub json: bool,
}

/// `events`
#[derive(Debug, ClapArgs)]
pub struct Events {
    /// After this change; by default the newest
    #[arg(long, value_name = "CHANGE")]
    pub after: Option<ChangeId>,
    /// At most so many, 1 to 1000
    #[arg(long, default_value_t = 50, value_name = "N")]
    #[arg(value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub limit: u32,
    /// Go on with what happens, until interrupted; needs the running service
    #[arg(long, short)]
    pub follow: bool,
    /// Print one JSON document (with --follow: one object a line)
    #[arg(long)]
    pub json: bool,
}
