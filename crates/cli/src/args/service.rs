//! Running: the service, the demo, a worker.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};

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
}

/// Which service is asked, and by whom
#[derive(Debug, ClapArgs)]
pub struct Which {
    /// The address of a service on another machine; by default the one of the configuration
    #[arg(long, global = true, value_name = "URL", help_heading = "Service")]
    pub service: Option<String>,
    /// The file with a token; by default VADEGATE_TOKEN, or that of the state folder
    #[arg(long, global = true, value_name = "FILE", help_heading = "Service")]
    pub token_file: Option<PathBuf>,
    /// Certificates (PEM) of who vouches for the service, beside those of the system
    #[arg(long, global = true, value_name = "FILE", help_heading = "Service")]
    pub certificates: Option<PathBuf>,
}
