//! Users, tokens, and the audit log.

use clap::{Args as ClapArgs, Subcommand};
use vadegate_core::ledger::TokenId;
use vadegate_core::people::Role;

/// The commands about who may do what, and who did it.
#[derive(Debug, Subcommand)]
pub enum Accounts {
    /// Add, list and remove users, who sign in by name
    #[command(after_help = "\
Roles: viewer (sees everything), operator (passes, pauses, releases, reopens, adopts, excuses),
admin (deletes, unloads, trims, clears; configuration and people).
A password is read from the terminal, or from standard input where that is no terminal.

Examples:
  vadegate user add mara --role operator
  vadegate user list
  vadegate user role mara viewer
  vadegate user password mara
  vadegate user remove mara")]
    #[command(subcommand)]
    User(User),
    /// Make, list and revoke tokens, with which machines ask the service
    #[command(after_help = "\
A token is shown once, when it is made; what is kept opens nothing. A worker's token is for
its gates alone.

Examples:
  vadegate token new --role worker --gate soundings --for 90d
  vadegate token new --role viewer --label graphs
  vadegate token list
  vadegate token revoke 3")]
    #[command(subcommand)]
    Token(Token),
    /// Show who did what, or prove that the log is as it was written
    #[command(after_help = "\
Each line has a sum over itself and the line before: one that is changed, removed or put
between shows. Who notes the last sum elsewhere can tell later with --known that nothing up
to it was changed, not even by somebody who may write the ledger's file.
Exit status 1 when --verify finds a fault.

Examples:
  vadegate audit
  vadegate audit --who mara --since 2026-03-01..2026-03-07
  vadegate audit --what sign-in --failed
  vadegate audit --verify
  vadegate audit --limit 100000 --json > audit.json")]
    Audit(Audit),
}

/// `user`
#[derive(Debug, Subcommand)]
pub enum User {
    /// Add a user
    Add {
        /// The name: letters, digits, `-`, `_`, `.` and `@`
        #[arg(value_name = "NAME")]
        name: String,
        /// What they may do: viewer, operator or admin
        #[arg(long, value_name = "ROLE")]
        role: Role,
    },
    /// List users
    List {
        /// Print one JSON document
        #[arg(long)]
        json: bool,
    },
    /// Give a user another role; their sessions end
    Role {
        /// The user
        #[arg(value_name = "NAME")]
        name: String,
        /// What they may do from now on
        #[arg(value_name = "ROLE")]
        role: Role,
    },
    /// Give a user another password; their sessions end
    Password {
        /// The user
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Remove a user, with sessions and tokens
    Remove {
        /// The user
        #[arg(value_name = "NAME")]
        name: String,
    },
}

/// `token`
#[derive(Debug, Subcommand)]
pub enum Token {
    /// Make a token
    New(NewToken),
    /// List tokens
    List {
        /// Print one JSON document
        #[arg(long)]
        json: bool,
    },
    /// Revoke a token
    Revoke {
        /// Its number
        #[arg(value_name = "TOKEN")]
        id: TokenId,
    },
}

/// `token new`
#[derive(Debug, ClapArgs)]
pub struct NewToken {
    /// What may be done with it: supplier, worker, viewer, operator or admin
    #[arg(long, value_name = "ROLE")]
    pub role: Role,
    /// At this gate alone, for the roles worker and supplier; several times for several
    #[arg(long = "gate", value_name = "GATE")]
    pub gates: Vec<String>,
    /// How long it is good, such as 90d; by default until it is revoked
    #[arg(long = "for", value_name = "TIME")]
    pub lasting: Option<String>,
    /// What it is called in logs and histories; by default as its role
    #[arg(long, value_name = "NAME")]
    pub label: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}

/// `audit`
#[derive(Debug, ClapArgs)]
pub struct Audit {
    /// Only of this person or token
    #[arg(long, value_name = "NAME")]
    pub who: Option<String>,
    /// Only this, such as sign-in, refused, release or user-add
    #[arg(long, value_name = "WORD")]
    pub what: Option<String>,
    /// Only lines with this text
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Only what was refused or failed
    #[arg(long)]
    pub failed: bool,
    /// From then on: a day, a time, how long ago, or FIRST..LAST
    #[arg(long, value_name = "WHEN")]
    pub since: Option<String>,
    /// At most so many, newest first
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    pub limit: u32,
    /// Go through the whole log and tell whether it is as it was written
    #[arg(long, conflicts_with_all = ["who", "what", "text", "failed", "since"])]
    pub verify: bool,
    /// With --verify: whether this sum, noted before, stands in the log
    #[arg(long, value_name = "SUM", requires = "verify")]
    pub known: Option<String>,
    /// Print one JSON document
    #[arg(long)]
    pub json: bool,
}
