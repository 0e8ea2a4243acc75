//! The command line as it is written: plain values, nothing done yet.

mod accounts;
mod door;
mod files;
mod gates;
mod keeping;
mod ledger;
mod people;
mod service;
mod tables;
mod watching;

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand};

pub use accounts::{Accounts, Audit, NewToken, Token, User};
pub use door::{DropFiles, Handing, Place};
pub use files::{CellType, Clear, Compress, Deliver, Edit, IfFileThere, LineEnds, Removed, Unpack};
pub use gates::{Check, FileOrder, Files, Find, GateNames, Gates, Init, Pass, Rehearse, Why};
pub use keeping::{Backup, Restore, Trim, Verify};
pub use ledger::{Entry, EntryOrder, Events, Filter, Ledger, LedgerDoing, TimeOf};
pub use people::{Adopt, ByWhom, How, People, Release};
pub use service::{Demo, LogFormat, Serve, Which, Worker};
pub use tables::{Dialect, IfThere, Merge, Misfits, Names, Sample};
pub use watching::{Board, Due, Excuse, Lookouts, Report, Tell, Told, Watching};

/// Watches drop folders, works each file exactly once, archives it and keeps
/// the ledger.
#[derive(Debug, Parser)]
#[command(name = "vadegate", version, max_term_width = 100, propagate_version = true)]
#[command(after_help = "\
Exit status: 0 done, 1 something is held or failed, 2 wrong usage or configuration.
Environment: VADEGATE_CONFIG (as --config), VADEGATE_TOKEN (a token), VADEGATE_LOG (what is
logged, such as `debug`), NO_COLOR.

Begin with `vadegate demo`, or with `vadegate init FOLDER` for a folder of your own.")]
pub struct Args {
    /// The configuration.
    #[arg(long, short, global = true, env = "VADEGATE_CONFIG", default_value = "vadegate.toml")]
    #[arg(value_name = "FILE")]
    pub config: PathBuf,
    #[command(flatten)]
    pub which: Which,
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
    /// Find what a text is about: entries, gates, files, outputs, reasons
    #[command(after_help = "\
TEXT is the number of an entry, a path, a wildcard, a SHA-256 or its beginning, FIELD=VALUE, the
name of a gate or an output, or words of a reason.

Examples:
  vadegate find ullin-bay
  vadegate find 'station=ullin-bay'
  vadegate find '*_20260301*.csv' --json")]
    Find(Find),
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
its name: .csv, .tsv, .jsonl (also with .gz or .zst), .xlsx or .parquet. It stands in its place
whole, or not at all; an output is never one of its own sources.

Examples:
  vadegate merge drops/tide -o tide.csv --take '<station>_*.csv' --add station='<station>'
  vadegate merge soundings/*.xlsx -o soundings.xlsx --sheet-each '<stem>'
  vadegate merge drops/tide -o 'out/<station>.csv' --take '<station>_*.csv'   (one for each)
  vadegate merge a.csv b.tsv c.jsonl -o all.parquet --columns time,level_m")]
    Merge(Merge),
    /// Unpack archives, each whole or not at all
    #[command(after_help = "\
The same engine as a gate's, without service or ledger. What climbs out of its folder, is cut
off, or would fill the disk is left out with its reason, and the others are unpacked.

Examples:
  vadegate unpack night.zip -o night
  vadegate unpack drops/buoys -o 'unpacked/<stem>' --take '*.csv'
  vadegate unpack old.tar.gz -o old --exists leave --rehearse")]
    Unpack(Unpack),
    /// Copy files, or all files of a folder, to one place or several
    #[command(after_help = "\
The same engine as a gate's, without service or ledger. Of each file all copies come to
their names, or none; times and permissions are kept.

Examples:
  vadegate deliver archive/charts --to outbox/sound --to /media/backup/charts
  vadegate deliver *.txt --to 'packed/<stem>.gz' --compress gzip --exists replace
  vadegate deliver drops/charts --to 'by-harbour/<harbour>' --take '<harbour>_*.png' --rehearse")]
    Deliver(Deliver),
    /// Set cells of workbooks, or words of texts
    #[command(after_help = "\
The same engine as a gate's, without service or ledger. Everything else in a workbook stays
as it is, byte for byte. With -o the files themselves are left as they are.

Examples:
  vadegate edit covers -o stamped --set 'Cover!B2=<now:%F>' --set '*!Z1=checked'
  vadegate edit cover.xlsx --in-place --set '1!C4==SUM(A1:A9)' --type formula
  vadegate edit drops/notes -o mended --replace 'Ullin bay' 'Ullin Bay' --line-end lf
  vadegate edit levels.txt -o out --regex --replace '(\\d+) cm' '$1 m' --rehearse")]
    Edit(Edit),
    /// Read an archive for another process of this program
    #[command(name = vadegate_core::work::unpack::seven::COMMAND, hide = true)]
    ReadSeven,
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
    /// Remove files by a rule, and nothing that is under way
    #[command(after_help = "\
Never touched: what an entry that is ready, working, worked, held or a waiting repeat has, what
a gate is about to take, what is being written. Every removal is in the ledger.

Examples:
  vadegate clear scratch --why 'the disk is full'
  vadegate clear drops/scratch --match '*.tmp' --older 7d --rehearse
  vadegate clear archive/tide --match '*.csv' --older 730d --into removed --why 'retention'")]
    Clear(Clear),
    /// List files that were removed by clears
    #[command(
        after_help = "Examples:\n  vadegate removed\n  vadegate removed --rule scratch --json"
    )]
    Removed(Removed),
    #[command(flatten)]
    Handing(Handing),
    #[command(flatten)]
    Watching(Watching),
    #[command(flatten)]
    Accounts(Accounts),
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

/// A command without other choices.
#[derive(Debug, ClapArgs)]
pub struct Json {
    /// Print one JSON document instead of text
    #[arg(long)]
    pub json: bool,
}

#[cfg(test)]
mod tests;
