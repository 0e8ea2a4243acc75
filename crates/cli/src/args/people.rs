//! What people do to entries.

use clap::{Args as ClapArgs, ValueEnum};
use vadegate_core::ledger::EntryId;

use super::Filter;

/// `reopen`, `forget` and `unload`
#[derive(Debug, ClapArgs)]
pub struct People {
    /// These entries
    #[arg(value_name = "ENTRY")]
    pub entries: Vec<EntryId>,
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
    pub entries: Vec<EntryId>,
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
    /// Have repeats worked too: their rows may stand twice then
    #[arg(long)]
    pub twice: bool,
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
