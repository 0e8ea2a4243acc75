//! What is asked of gates and of the files in their drop folders.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};

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
    /// Pass again until no file is still arriving, at most for this time
    #[arg(long, value_name = "TIME", num_args = 0..=1, default_missing_value = "1m", require_equals = true)]
    pub wait: Option<String>,
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
    /// Who; by default the user's name
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
}

/// `find`
#[derive(Debug, ClapArgs)]
pub struct Find {
    /// What is searched for
    #[arg(value_name = "TEXT")]
    pub text: String,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}
