//! The command line as it is written: plain values, nothing done yet.

mod tables;

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use vadegate_core::ledger::State;

pub use tables::{Dialect, IfThere, Merge, Misfits, Names, Sample};

/// Watches drop folders, works each file exactly once, archives it and keeps
/// the ledger.
#[derive(Debug, Parser)]
#[command(name = "vadegate", version, max_term_width = 100, propagate_version = true)]
#[command(after_help = "\
Exit status: 0 done, 1 something is held or failed, 2 wrong usage or configuration.
Environment: VADEGATE_CONFIG (as --config), VADEGATE_LOG (what is logged, such as `debug`), NO_COLOR.

Begin with `vadegate demo`, or with `vadegate init FOLDER` for a folder of your own.")]
pub struct Args {
    /// The configuration.
    #[arg(long, short, global = true, env = "VADEGATE_CONFIG", default_value = "vadegate.toml")]
    #[arg(value_name = "FILE")]
    pub config: PathBuf,
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service: pass all gates until told to stop, and serve the console
    #[command(after_help = "\
Examples:
  vadegate serve
  vadegate --config /etc/vadegate.toml serve --log json

It stops on SIGTERM or Ctrl-C after ending, or cleanly abandoning, what it is doing.")]
    Serve(Serve),
    /// Show it all on a made-up coast, in a fresh temporary folder
    #[command(after_help = "\
Examples:
  vadegate demo
  vadegate demo --folder /tmp/coast --listen 127.0.0.1:7500")]
    Demo(Demo),
    /// Test the configuration, and try its folders and programs on this machine
    #[command(after_help = "\
Exit status 2 when there is a fault; warnings alone give 0.

Examples:
  vadegate check
  vadegate check --json
  vadegate check --against /data/last-week     (which gate would take what lies there)")]
    Check(Check),
    /// Write a commented configuration for a drop folder
    #[command(after_help = "\
Examples:
  vadegate init drops/tide
  vadegate --config coast.toml init /data/incoming --gate supplier")]
    Init(Init),
    /// List the gates: what is waiting, working, filed, held
    #[command(after_help = "Examples:\n  vadegate gates\n  vadegate gates tide --json")]
    Gates(Gates),
    /// List what lies in drop folders, and what each gate makes of it
    #[command(after_help = "\
Verdicts: take, wait, leave, repeat, known, unreadable.

Examples:
  vadegate files
  vadegate files tide --verdict leave
  vadegate files tide --match '<station>_*.csv' --newest 5
  vadegate files tide --by ext
  vadegate files archive/tide --count          (any folder inside the roots)
  vadegate files tide --csv > listing.csv")]
    Files(Files),
    /// Tell what became of a file, or why it is not taken
    #[command(after_help = "\
Examples:
  vadegate why drops/tide/ullin-bay/ullin-bay_20260301T0500.csv
  vadegate why archive/tide/2026/03/ullin-bay_20260301T0500.csv
  vadegate why ullin-bay_20260301T0500.csv")]
    Why(Why),
    /// Tell what a pass would do now, file by file, and touch nothing
    #[command(after_help = "\
It goes the way of a pass up to the point where something would be written: files
are fingerprinted, tables are read to their end. Numbers of entries and batches in
names are those that would come next.

Examples:
  vadegate rehearse
  vadegate rehearse tide --json")]
    Rehearse(Rehearse),
    /// Have gates pass now: sweep, settle, work, file
    #[command(after_help = "\
The running service does it; without one, this command takes the state folder's
lock and works by itself, so that cron can use it.

Examples:
  vadegate pass
  vadegate pass tide manifests --json")]
    Pass(Pass),
    /// Have the running service take its changed configuration now
    #[command(after_help = "\
The service also takes it by itself, a moment after the file was saved, and on SIGHUP.
With a fault the configuration before stays in force.

Example:
  vadegate reload")]
    Reload(Json),
    /// Pause gates: they go on noticing, and take nothing
    #[command(after_help = "Example:\n  vadegate pause tide")]
    Pause(GateNames),
    /// Resume paused gates
    #[command(after_help = "Example:\n  vadegate resume tide")]
    Resume(GateNames),
    /// Merge files, or all tables of a folder, into one output
    #[command(after_help = "\
The same engine as a gate's, without service or ledger. What an output is follows from
its name: .csv, .tsv, .jsonl (also with .gz), .xlsx or .parquet. It stands in its place
whole, or not at all; an output is never one of its own sources.

Examples:
  vadegate merge drops/tide -o tide.csv --take '<station>_*.csv' --add station='<station>'
  vadegate merge soundings/*.xlsx -o soundings.xlsx --sheet-each '<stem>'
  vadegate merge drops/tide -o 'out/<station>.csv' --take '<station>_*.csv'   (one for each)
  vadegate merge a.csv b.tsv c.jsonl -o all.parquet --columns time,level_m")]
    Merge(Merge),
    /// Tell what is in a file: format, columns, types, first rows
    #[command(after_help = "\
Examples:
  vadegate sample drops/tide/ullin-bay_20260301.csv
  vadegate sample soundings.xlsx --sheet 'Ullin*'
  vadegate sample tide.csv --toml          (a gate for such files)
  vadegate sample tide.csv --schema        (a Table Schema)")]
    Sample(Sample),
    /// Search the ledger's entries, newest first
    #[command(args_conflicts_with_subcommands = true)]
    #[command(after_help = "\
Examples:
  vadegate ledger
  vadegate ledger --state held
  vadegate ledger ullin-bay --gate tide --since 2026-03-01
  vadegate ledger 3a7bd3e2 --json          (the beginning of a SHA-256)
  vadegate ledger --match '<station>_2026*.csv' --field station=ullin-bay
  vadegate ledger --of out/tide/ullin-bay_2026-03-01.csv    (which sources are in it)
  vadegate ledger --since 7d --by gate,day
  vadegate ledger export --gate tide > tide.jsonl")]
    Ledger(Ledger),
    /// Show one entry: its fields, history, batch and outputs, and where it lies
    #[command(after_help = "\
Examples:
  vadegate entry 42
  vadegate entry --sum delivery.csv        (have we ever had this file?)")]
    Entry(Entry),
    /// Have entries worked again that were worked, adopted or passed over
    #[command(after_help = "\
The file must be where the ledger has it, with its content. What it made when it was
last worked stays: rows that were appended are appended again.

Examples:
  vadegate reopen 42 --why 'the table was cut short'
  vadegate reopen --gate tide --since 2026-03-01 --why 'new station names' --yes")]
    Reopen(People),
    /// Release held entries: work them again, file them as they are, or delete them
    #[command(after_help = "\
Examples:
  vadegate release 42 --how again --why 'the share is back'
  vadegate release 42 43 --how file --why 'known to be empty'
  vadegate release --gate tide --state held --how delete --why 'test files' --yes")]
    Release(Release),
    /// Enter what lies in a gate's drop folders as already worked
    #[command(after_help = "\
For a gate that begins on a folder whose files were worked before. They stay where
they are, and the same content never is worked later.

Examples:
  vadegate adopt tide --why 'worked by the old script'
  vadegate adopt tide --match '*_2025*.csv' --why 'before our time' --yes")]
    Adopt(Adopt),
    /// Mark entries as forgotten: they stay, and their identity counts no more
    #[command(after_help = "Example:\n  vadegate forget 42 --why 'sent again on purpose'")]
    Forget(People),
    /// Take the rows of entries out of the database into which they were loaded
    #[command(after_help = "\
It needs a column in which the number of the entry stands: add = { entry = \"<entry>\" }.
The entries stay as they are; `vadegate reopen` has them loaded again.

Example:
  vadegate unload 42 --why 'the supplier sent the wrong day'")]
    Unload(People),
    /// Hold archive and outputs against the ledger
    #[command(after_help = "\
Tells what is missing, changed, or unknown to the ledger. Exit status 1 on any
difference.

Examples:
  vadegate verify
  vadegate verify --gate tide --deep       (reads every file)")]
    Verify(Verify),
    /// Copy the ledger to a file, while it is in use
    #[command(after_help = "Example:\n  vadegate backup /backups/ledger-monday.db")]
    Backup(Backup),
    /// Put a backup in the place of the ledger; the service must be stopped
    #[command(after_help = "\
What was there is moved aside. What was worked after the backup is not known then:
`vadegate verify` tells it.

Example:
  vadegate restore /backups/ledger-monday.db")]
    Restore(Restore),
    /// Trim the details of old entries; their identities are kept
    #[command(after_help = "\
Fields, history and places of entries whose life ended longer ago are removed. The
same content still is a repeat.

Example:
  vadegate trim --older 730d")]
    Trim(Trim),
    /// Work entries that a gate offers, with a program of this machine
    #[command(after_help = "\
Takes one entry after the other, fetches its file, and runs the program with the
file's path: in place of `<file>` among its arguments, or as the last. Exit status 0 is
done, 75 is try again later, any other holds the entry. Beside others, also on other
machines (--service, --token-file), no file is worked twice.

Examples:
  vadegate worker soundings -- bin/grid --out grids
  vadegate worker soundings --once -- sh -c 'wc -l <file>'")]
    Worker(Worker),
    /// List what happened to entries, oldest first, and go on with --follow
    #[command(after_help = "\
Examples:
  vadegate events
  vadegate events --after 1200 --json
  vadegate events --follow --json          (one JSON object a line)")]
    Events(Events),
}

/// How logs are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LogFormat {
    /// For people.
    Human,
    /// One JSON object a line.
    Json,
}

/// `serve`
#[derive(Debug, ClapArgs)]
pub struct Serve {
    /// How logs are written, to stderr
    #[arg(long, value_enum, default_value = "human", value_name = "FORMAT")]
    pub log: LogFormat,
    /// Listen here instead of where the configuration says; port 0 takes any
    #[arg(long, value_name = "ADDRESS")]
    pub listen: Option<String>,
}

/// `demo`
#[derive(Debug, ClapArgs)]
pub struct Demo {
    /// Use this folder and keep it, instead of a temporary one
    #[arg(long, value_name = "FOLDER")]
    pub folder: Option<PathBuf>,
    /// Listen here; when the port is taken any free one is used
    #[arg(long, default_value = "127.0.0.1:7411", value_name = "ADDRESS")]
    pub listen: String,
    /// Everything made depends on this number alone
    #[arg(long, default_value_t = 7, value_name = "N")]
    pub seed: u64,
    /// Milliseconds between two drops of the feeder
    #[arg(long, default_value_t = 900, value_name = "MS")]
    pub pace: u64,
    /// How logs are written, to stderr
    #[arg(long, value_enum, default_value = "human", value_name = "FORMAT")]
    pub log: LogFormat,
}

/// A command without other choices.
#[derive(Debug, ClapArgs)]
pub struct Json {
    /// Print one JSON document instead of text
    #[arg(long)]
    pub json: bool,
}

/// `check`
#[derive(Debug, ClapArgs)]
pub struct Check {
    /// Say which gate would take each file of this folder, by name
    #[arg(long, value_name = "FOLDER")]
    pub against: Option<PathBuf>,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `init`
#[derive(Debug, ClapArgs)]
pub struct Init {
    /// The drop folder
    #[arg(value_name = "FOLDER")]
    pub folder: PathBuf,
    /// Name of the gate; by default that of the folder
    #[arg(long, value_name = "NAME")]
    pub gate: Option<String>,
}

/// `gates`
#[derive(Debug, ClapArgs)]
pub struct Gates {
    /// Only these
    #[arg(value_name = "GATE")]
    pub gates: Vec<String>,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// In which order `files` lists.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FileOrder {
    /// By name, numbers as numbers.
    Name,
    /// By modification time, oldest first.
    Oldest,
    /// By modification time, newest first.
    Newest,
    /// Smallest first.
    Smallest,
    /// Largest first.
    Largest,
}

/// `files`
#[derive(Debug, ClapArgs)]
pub struct Files {
    /// Of these gates, or in these folders inside the roots; by default of all gates
    #[arg(value_name = "GATE|FOLDER")]
    pub gates: Vec<String>,
    /// Only what this pattern matches
    #[arg(long = "match", value_name = "PATTERN")]
    pub pattern: Option<String>,
    /// In this order
    #[arg(long, value_enum, value_name = "ORDER")]
    pub order: Option<FileOrder>,
    /// Only the newest so many
    #[arg(long, value_name = "N", conflicts_with = "order")]
    pub newest: Option<usize>,
    /// Only how many there are, and how large
    #[arg(long, conflicts_with_all = ["by", "csv"])]
    pub count: bool,
    /// How many there are of each kind, and how large
    #[arg(long, value_parser = ["ext"], value_name = "WHAT", conflicts_with = "csv")]
    pub by: Option<String>,
    /// Print delimited text with a header instead of a table
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Only with this verdict
    #[arg(long, value_name = "VERDICT")]
    #[arg(value_parser = ["take", "wait", "leave", "repeat", "known", "unreadable"])]
    pub verdict: Option<String>,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `why`
#[derive(Debug, ClapArgs)]
pub struct Why {
    /// A file in a drop folder or archive, or the bare name of one that was there
    #[arg(value_name = "PATH")]
    pub path: String,
    /// Print one JSON document instead of a sentence
    #[arg(long)]
    pub json: bool,
}

/// `rehearse`
#[derive(Debug, ClapArgs)]
pub struct Rehearse {
    /// Only these; by default all
    #[arg(value_name = "GATE")]
    pub gates: Vec<String>,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `pass`
#[derive(Debug, ClapArgs)]
pub struct Pass {
    /// Only these; by default all
    #[arg(value_name = "GATE")]
    pub gates: Vec<String>,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `pause` and `resume`
#[derive(Debug, ClapArgs)]
pub struct GateNames {
    /// Which gates
    #[arg(required = true, value_name = "GATE")]
    pub gates: Vec<String>,
}

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
    /// Whose rows are in this output
    #[arg(long = "of", value_name = "OUTPUT")]
    pub output: Option<String>,
    /// What --since and --until are about
    #[arg(long, value_enum, value_name = "TIME", default_value = "entered")]
    pub time: TimeOf,
    /// Then or later: a time, a date, or how long ago (`2h`)
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
    /// How many there are by `gate`, `state` and `day`, parted by commas
    #[arg(long, value_name = "WHAT", conflicts_with = "csv")]
    pub by: Option<String>,
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

/// `reopen`, `forget` and `unload`
#[derive(Debug, ClapArgs)]
pub struct People {
    /// These entries
    #[arg(value_name = "ENTRY")]
    pub entries: Vec<i64>,
    #[command(flatten)]
    pub filter: Filter,
    #[command(flatten)]
    pub by: ByWhom,
}

/// `release`
#[derive(Debug, ClapArgs)]
pub struct Release {
    /// These entries
    #[arg(value_name = "ENTRY")]
    pub entries: Vec<i64>,
    #[command(flatten)]
    pub filter: Filter,
    /// What becomes of them
    #[arg(long, value_enum, value_name = "HOW")]
    pub how: How,
    #[command(flatten)]
    pub by: ByWhom,
}

/// What becomes of a held entry
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum How {
    /// It is worked again
    Again,
    /// It is filed as it is
    File,
    /// Its file is deleted
    Delete,
}

/// Who, and why
#[derive(Debug, ClapArgs)]
pub struct ByWhom {
    /// Why: it stands in the history of each entry
    #[arg(long, value_name = "TEXT")]
    pub why: String,
    /// Who; by default the user's name
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Do it without asking
    #[arg(long, short)]
    pub yes: bool,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `adopt`
#[derive(Debug, ClapArgs)]
pub struct Adopt {
    /// Which gate
    #[arg(value_name = "GATE")]
    pub gate: String,
    /// Only files that fit this pattern
    #[arg(long = "match", value_name = "PATTERN")]
    pub pattern: Option<String>,
    #[command(flatten)]
    pub by: ByWhom,
}

/// `verify`
#[derive(Debug, ClapArgs)]
pub struct Verify {
    /// Only this gate
    #[arg(long, value_name = "GATE")]
    pub gate: Option<String>,
    /// Read every file and take its sum
    #[arg(long)]
    pub deep: bool,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
}

/// `backup`
#[derive(Debug, ClapArgs)]
pub struct Backup {
    /// A file that is not there yet
    #[arg(value_name = "FILE")]
    pub to: PathBuf,
}

/// `restore`
#[derive(Debug, ClapArgs)]
pub struct Restore {
    /// A backup
    #[arg(value_name = "FILE")]
    pub from: PathBuf,
}

/// `trim`
#[derive(Debug, ClapArgs)]
pub struct Trim {
    /// Whose life ended longer ago than this (`730d`), or before this date
    #[arg(long, value_name = "TIME")]
    pub older: String,
    /// Do it without asking
    #[arg(long, short)]
    pub yes: bool,
}

/// `worker`
#[derive(Debug, ClapArgs)]
pub struct Worker {
    /// A gate whose work is `offer`
    #[arg(value_name = "GATE")]
    pub gate: String,
    /// The program and its arguments, after `--`
    #[arg(value_name = "PROGRAM", last = true, required = true)]
    pub program: Vec<String>,
    /// The worker's name; by default that of the machine and process
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// How long the lease is; it is prolonged while the program runs
    #[arg(long, value_name = "TIME")]
    pub lease: Option<String>,
    /// End when there is nothing to work
    #[arg(long)]
    pub once: bool,
    /// The address of a service on another machine
    #[arg(long, value_name = "URL", requires = "token_file")]
    pub service: Option<String>,
    /// The file with its token
    #[arg(long, value_name = "FILE")]
    pub token_file: Option<PathBuf>,
}

fn state(word: &str) -> Result<State, String> {
    State::of(word).ok_or_else(|| {
        let words: Vec<&str> = State::ALL.iter().map(|state| state.word()).collect();
        format!("expected one of {}", words.join(", "))
    })
}

/// `entry`
#[derive(Debug, ClapArgs)]
pub struct Entry {
    /// Its number in the ledger
    #[arg(value_name = "ID", required_unless_present = "sum")]
    pub id: Option<i64>,
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
    pub after: Option<i64>,
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

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_command_line_is_sound_and_every_command_has_help() {
        let mut command = Args::command();
        command.build();
        command.clone().debug_assert();
        for sub in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
            assert!(sub.get_about().is_some(), "{} says nothing", sub.get_name());
            let help = sub.get_after_help().map(ToString::to_string).unwrap_or_default();
            assert!(help.contains("xample"), "{} has no example", sub.get_name());
            for arg in sub.get_arguments() {
                assert!(arg.get_help().is_some(), "{} {}", sub.get_name(), arg.get_id());
            }
        }
    }
}
