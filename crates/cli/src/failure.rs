//! How a command fails, and the exit status of each failure.

use std::process::ExitCode;

use vadegate_core::ask::WhyError;
use vadegate_core::config::ConfigError;
use vadegate_core::engine::EngineError;
use vadegate_core::ledger::LedgerError;
use vadegate_service::{Problem, ServeError, problem};

/// Something is held or has failed.
pub const FAILED: u8 = 1;
/// The command line or the configuration is wrong.
pub const WRONG: u8 = 2;

/// Why a command did not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// Wrong usage.
    #[error("{0}")]
    Wrong(String),
    /// It failed.
    #[error("{0}")]
    Failed(String),
    /// The service does not answer: it may be starting or stopping.
    #[error("{0}")]
    Away(String),
    /// The configuration cannot be used.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// The engine refused.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// Nothing is known of a file.
    #[error(transparent)]
    Why(#[from] WhyError),
    /// The service did not start.
    #[error(transparent)]
    Serve(#[from] ServeError),
    /// The running service answered with a problem.
    #[error("{}", .0.detail)]
    Problem(Problem),
    /// The output could not be written.
    #[error("the output cannot be written: {0}")]
    Output(#[from] std::io::Error),
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        Failure::Problem(problem)
    }
}

impl From<LedgerError> for Failure {
    fn from(error: LedgerError) -> Self {
        Failure::Engine(error.into())
    }
}

/// The exit status of a refusal with this status of HTTP, whether the service answered it
/// or the command asked the ledger itself.
fn of_status(status: u16) -> ExitCode {
    ExitCode::from(if matches!(status, 400 | 404) { WRONG } else { FAILED })
}

impl Failure {
    /// The exit status.
    pub fn code(&self) -> ExitCode {
        match self {
            Failure::Wrong(_) | Failure::Config(_) => ExitCode::from(WRONG),
            Failure::Engine(error) => of_status(problem::status(error).as_u16()),
            Failure::Why(error) => of_status(problem::status_of_why(error).as_u16()),
            Failure::Problem(problem) => of_status(problem.status),
            // Whoever read our output has gone, as `head` does: no failure.
            Failure::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe => {
                ExitCode::SUCCESS
            }
            _ => ExitCode::from(FAILED),
        }
    }

    /// Whether the same may go through a little later, without anybody's doing.
    pub fn is_passing(&self) -> bool {
        match self {
            Failure::Away(_) => true,
            Failure::Problem(problem) => matches!(problem.status, 408 | 429 | 500..=599),
            _ => false,
        }
    }

    /// Says on stderr what is wrong.
    pub fn print(&self) {
        if matches!(self, Failure::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe)
        {
            return;
        }
        crate::show::say(&format!("vadegate: {self}"));
    }
}
