//! Arguments of the commands that work files by hand.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// What is done when a file is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum IfFileThere {
    /// That file is not delivered, unless the same bytes are there
    Fail,
    /// It takes the place of what is there
    Replace,
    /// It gets a number
    Number,
    /// What is there stays
    Leave,
}

/// How copies are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Compress {
    Gzip,
    Zstd,
    Zip,
}

/// `deliver`.
#[derive(Debug, Args)]
pub struct Deliver {
    /// Files, and folders of which all files are taken
    #[arg(required = true, value_name = "FILE|FOLDER")]
    pub sources: Vec<PathBuf>,
    /// Where each is copied to: a folder, or a path with `<name>` or `<stem>`; several times
    #[arg(long, required = true, value_name = "TEMPLATE")]
    pub to: Vec<String>,
    /// What is done when something is there
    #[arg(long, value_enum, default_value_t = IfFileThere::Fail)]
    pub exists: IfFileThere,
    /// Compress the copies
    #[arg(long, value_enum)]
    pub compress: Option<Compress>,
    /// Encrypt the copies for the public key in this file (OpenPGP); several times
    #[arg(long, value_name = "FILE")]
    pub encrypt_for: Vec<PathBuf>,
    /// Sign the copies with the key in this file (OpenPGP)
    #[arg(long, value_name = "FILE")]
    pub sign_with: Option<PathBuf>,
    /// A file with the passphrase of that key in its first line
    #[arg(long, value_name = "FILE", requires = "sign_with")]
    pub passphrase_file: Option<PathBuf>,
    /// Only files of folders that match; its fields can be used in names
    #[arg(long, value_name = "PATTERN")]
    pub take: Option<String>,
    /// Look into the folders below too
    #[arg(long)]
    pub subfolders: bool,
    /// Tell what would be done, and do nothing
    #[arg(long)]
    pub rehearse: bool,
    /// Print the copies as JSON
    #[arg(long)]
    pub json: bool,
}

/// As what a value is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum CellType {
    /// As what it looks like
    Guess,
    Text,
    Number,
    Date,
    Boolean,
    Formula,
}

/// How lines end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LineEnds {
    Lf,
    Crlf,
}

/// `edit`.
#[derive(Debug, Args)]
pub struct Edit {
    /// Files, and folders of which all files are taken
    #[arg(required = true, value_name = "FILE|FOLDER")]
    pub sources: Vec<PathBuf>,
    /// Set a cell of workbooks: 'SHEET!CELL=VALUE'; the sheet's name, its number, or *; several times
    #[arg(long, value_name = "CELL=VALUE")]
    pub set: Vec<String>,
    /// As what the values are set
    #[arg(long = "type", value_enum, default_value_t = CellType::Guess)]
    pub as_type: CellType,
    /// Replace words of texts; several times
    #[arg(long, num_args = 2, value_names = ["FIND", "WITH"])]
    pub replace: Vec<String>,
    /// What is to be replaced is a regular expression; $1 is its first group
    #[arg(long)]
    pub regex: bool,
    /// How the lines of texts end
    #[arg(long, value_enum)]
    pub line_end: Option<LineEnds>,
    /// Where each comes: a folder, or a path with `<name>` or `<stem>`
    #[arg(long, short, value_name = "TEMPLATE", conflicts_with = "in_place")]
    pub output: Option<String>,
    /// Each takes the place of its file
    #[arg(long)]
    pub in_place: bool,
    /// What is done when something is there
    #[arg(long, value_enum, default_value_t = IfFileThere::Fail)]
    pub exists: IfFileThere,
    /// Only files of folders that match; its fields can be used in values and names
    #[arg(long, value_name = "PATTERN")]
    pub take: Option<String>,
    /// Look into the folders below too
    #[arg(long)]
    pub subfolders: bool,
    /// Tell what would be done, and do nothing
    #[arg(long)]
    pub rehearse: bool,
    /// Print what was edited as JSON
    #[arg(long)]
    pub json: bool,
}

/// `unpack`.
#[derive(Debug, Args)]
pub struct Unpack {
    /// Archives, and folders of which all archives are taken
    #[arg(required = true, value_name = "FILE|FOLDER")]
    pub sources: Vec<PathBuf>,
    /// The folder into which they are unpacked; with `<stem>` in it, one for each archive
    #[arg(long, short, value_name = "FOLDER")]
    pub output: String,
    /// Only members that match; several times
    #[arg(long = "take", value_name = "PATTERN")]
    pub members: Vec<String>,
    /// Leave members out that match; several times
    #[arg(long, value_name = "PATTERN")]
    pub leave: Vec<String>,
    /// What is done when something is there
    #[arg(long, value_enum, default_value_t = IfFileThere::Fail)]
    pub exists: IfFileThere,
    /// Drop folders in the archive
    #[arg(long)]
    pub flat: bool,
    /// Unpack archives in archives, so deep
    #[arg(long, value_name = "DEPTH", default_value_t = 0)]
    pub nested: u32,
    /// The most members that an archive may have; 10,000 when it is not said
    #[arg(long, value_name = "COUNT")]
    pub most_members: Option<u64>,
    /// A file with the password in its first line
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
    /// The key in this file reads messages that are encrypted for it (OpenPGP)
    #[arg(long, value_name = "FILE")]
    pub key: Option<PathBuf>,
    /// A file with the passphrase of that key in its first line
    #[arg(long, value_name = "FILE", requires = "key")]
    pub passphrase_file: Option<PathBuf>,
    /// Look into the folders below too
    #[arg(long)]
    pub subfolders: bool,
    /// Tell what would be done, and do nothing
    #[arg(long)]
    pub rehearse: bool,
    /// Print what was unpacked as JSON
    #[arg(long)]
    pub json: bool,
}

/// `clear`.
#[derive(Debug, Args)]
pub struct Clear {
    /// A rule of the configuration; with --match a folder
    #[arg(value_name = "NAME|FOLDER")]
    pub what: String,
    /// Files of the folder that go; several times
    #[arg(long = "match", value_name = "PATTERN")]
    pub matches: Vec<String>,
    /// Files of these that stay; several times
    #[arg(long, value_name = "PATTERN")]
    pub leave: Vec<String>,
    /// Only files that were not modified for so long, such as 7d
    #[arg(long, value_name = "DURATION")]
    pub older: Option<String>,
    /// So many of the newest stay
    #[arg(long, value_name = "COUNT")]
    pub keep_newest: Option<u32>,
    /// Look into the folders below too
    #[arg(long)]
    pub subfolders: bool,
    /// Remove folders that are empty
    #[arg(long)]
    pub empty_folders: bool,
    /// Move files into this folder instead
    #[arg(long, value_name = "FOLDER")]
    pub into: Option<String>,
    /// The most files that may go; 10,000 when it is not said
    #[arg(long, value_name = "COUNT")]
    pub most: Option<u64>,
    /// Tell what would go, and do nothing
    #[arg(long)]
    pub rehearse: bool,
    /// Do it without asking
    #[arg(long, short)]
    pub yes: bool,
    /// Why: it stands with each removal
    #[arg(long, value_name = "TEXT", required_unless_present = "rehearse")]
    pub why: Option<String>,
    /// Who; by default the user's name
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `removed`.
#[derive(Debug, Args)]
pub struct Removed {
    /// Of this rule, or of this folder
    #[arg(long, value_name = "NAME")]
    pub rule: Option<String>,
    /// At most so many, newest first
    #[arg(long, value_name = "COUNT", default_value_t = 100)]
    pub limit: u32,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}
