//! Handing files in, and places.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

/// The commands that hand in files, and look at places.
#[derive(Debug, Subcommand)]
pub enum Handing {
    /// Hand files in at the door of a gate: the running service takes them
    #[command(after_help = "\
Each file is checked by its SHA-256, durable when it is told to be there, and complete at once,
whatever `settle` says. What is cut off goes on where it was, also by a second call. A file
of which the gate takes none of that name is refused, with the pattern that comes closest.
Exit status 1 when one was refused, or is held.

Examples:
  vadegate drop tide ullin-bay_20260301T0500.csv
  vadegate drop tide today.csv --as ullin-bay/ullin-bay_20260301T0500.csv
  vadegate drop tide mended.csv --mends 42       (in the place of a held entry)
  vadegate --service https://files.sound.example --token-file supplier.token drop tide *.csv")]
    Drop(DropFiles),
    /// List places: servers from which is fetched and to which is delivered, and what lies there
    #[command(after_help = "\
The place is asked: a folder that a gate fetches from, or any other below that of its address.

Examples:
  vadegate place
  vadegate place harbour-office
  vadegate place harbour-office tide/garrow-light --json")]
    Place(Place),
}

/// Which place, and which folder of it.
#[derive(Debug, ClapArgs)]
pub struct Place {
    /// The place; without it all places are listed
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// The folder, below that of its address
    #[arg(value_name = "FOLDER")]
    pub folder: Option<String>,
    /// Print one JSON document instead of text
    #[arg(long)]
    pub json: bool,
}

/// Which files are handed in.
#[derive(Debug, ClapArgs)]
pub struct DropFiles {
    /// The gate
    #[arg(value_name = "GATE")]
    pub gate: String,
    /// The files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Under this path below the drop folder; of one file
    #[arg(long = "as", value_name = "PATH")]
    pub path: Option<String>,
    /// In the place of this held entry, which is filed as it is; of one file
    #[arg(long, value_name = "ENTRY", conflicts_with = "path")]
    pub mends: Option<i64>,
    /// Who does it; by default the user of this process
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Print one JSON document instead of text
    #[arg(long)]
    pub json: bool,
}
