//! The command line as it is written: plain values, nothing done yet.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use vadegate_core::ledger::State;

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
    /// Search the ledger's entries, newest first
    #[command(after_help = "\
Examples:
  vadegate ledger
  vadegate ledger --state held
  vadegate ledger ullin-bay --gate tide --since 2026-03-01
  vadegate ledger 3a7bd3e2 --json          (the beginning of a SHA-256)
  vadegate ledger --since 2h --limit 500")]
    Ledger(Ledger),
    /// Show one entry: its fields, history, batch and outputs
    #[command(after_help = "Example:\n  vadegate entry 42")]
    Entry(Entry),
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

/// `ledger`
#[derive(Debug, ClapArgs)]
pub struct Ledger {
    /// Whose path contains this, or whose SHA-256 begins with it
    #[arg(value_name = "TEXT")]
    pub text: Option<String>,
    /// Of this gate
    #[arg(long, value_name = "GATE")]
    pub gate: Option<String>,
    /// In this state: ready, working, worked, filed, repeat, held, gone, adopted
    #[arg(long, value_name = "STATE", value_parser = state)]
    pub state: Option<State>,
    /// Entered then or later: a time, a date, or how long ago (`2h`)
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Entered before: a time, a date, or how long ago
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Only repeats
    #[arg(long)]
    pub repeats: bool,
    /// At most so many, 1 to 1000
    #[arg(long, default_value_t = 50, value_name = "N")]
    #[arg(value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub limit: u32,
    /// Go on below this entry: the page before says which
    #[arg(long, value_name = "ENTRY")]
    pub cursor: Option<i64>,
    /// Print one JSON document instead of a table
    #[arg(long)]
    pub json: bool,
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
    #[arg(value_name = "ID")]
    pub id: i64,
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
