//! Keeping the ledger: verify, backup, restore, trim.

use std::path::PathBuf;

use clap::Args as ClapArgs;

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
