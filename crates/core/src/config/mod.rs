//! The configuration: one TOML file, read whole, every fault reported with its
//! line and column before anything runs.
//!
//! Reading goes in two rounds: [`reader`] takes typed values out of the
//! document and notes what is unknown or wrong, and the builders in
//! [`gate`](self) make plain data of them. Whether the folders are there is
//! asked later, by [`check`].

mod batch;
mod check;
mod drops;
mod gate;
mod identity;
mod load;
mod merge;
mod overlap;
mod pick;
mod reader;
mod settle;
mod shaping;
mod taking;
mod values;

use std::fmt;
use std::path::{Component, Path, PathBuf};
use std::time::Duration;

use jiff::tz::TimeZone;

pub use batch::{BatchConfig, BatchMarker, Wanted};
pub(crate) use check::fixed_folder;
pub use check::{Finding, Weight, check};
pub use drops::{Drops, FoundFolders, Placed};
pub use identity::{Once, Repeats};
pub use load::{Database, LoadConfig, Mode, Password, Server};
pub use merge::{MergeConfig, WriteConfig};
pub use pick::{Others, Pick};
pub use settle::{After, Companion, MarkerFor, Settle, SettleBy};
pub use shaping::{Shaping, Value};
pub use values::{parse_bytes, parse_duration, write_bytes, write_duration};

use crate::pattern::{Pattern, Template};
use reader::{Document, Section};

/// Everything that a configuration file says.
#[derive(Debug, Clone)]
pub struct Config {
    /// The file it was read from.
    pub file: PathBuf,
    /// The `[service]` section.
    pub service: ServiceConfig,
    /// The gates, in the order of the file.
    pub gates: Vec<Gate>,
}

/// The `[service]` section.
#[derive(Debug, Clone)]
pub struct ServiceConfig {
    /// Address and port to listen on; port 0 takes any free one.
    /// Default `127.0.0.1:7411`.
    pub listen: String,
    /// Folder of ledger, lock and token. Default `state`.
    pub state: PathBuf,
    /// The only folders it may read or write. Default: the folder of the
    /// configuration file.
    pub roots: Vec<PathBuf>,
    /// Names of hosts under which it may be called, beside the address that it
    /// listens on and the local ones; a request for another is refused. Default
    /// none.
    pub hosts: Vec<String>,
    /// Time zone of dates in templates. Default `Etc/UTC`.
    pub timezone: TimeZone,
}

/// A gate: its drop folder, or several, and the rules for the files that pass it.
#[derive(Debug, Clone)]
pub struct Gate {
    /// Its name.
    pub name: String,
    /// The drop folders.
    pub drops: Drops,
    /// Which files it takes. Default: all.
    pub take: Vec<Pattern>,
    /// Which files it leaves, beside the built-in temporary names.
    pub leave: Vec<Pattern>,
    /// Whether folders below the drop folder are swept too. Default no.
    pub subfolders: bool,
    /// How far down: 1 is the folders in the drop folder. Default all the way.
    pub depth: u32,
    /// Whether links to files are followed. Default no.
    pub follow_links: bool,
    /// Whether the kernel's notices are listened to. Default yes, where they can
    /// be had.
    pub notices: bool,
    /// At most so many entries are merged together. Default all that are ready.
    pub at_once: Option<usize>,
    /// When a file counts as complete. Default 5 s unchanged.
    pub settle: Settle,
    /// Which sizes and ages it takes. Default any.
    pub bounds: Bounds,
    /// What it does with empty files. Default hold.
    pub empty: Empty,
    /// Time between two sweeps. Default 10 s.
    pub sweep: Duration,
    /// Which of the complete files are worked. Default all.
    pub pick: Option<Pick>,
    /// In which order files are worked. Default oldest first.
    pub order: Order,
    /// What makes two files the same. Default content.
    pub once: Once,
    /// The identity space that it shares with other gates; its own by default.
    pub once_across: Option<String>,
    /// After this time an identity may come again. Default never.
    pub once_for: Option<Duration>,
    /// What becomes of repeats. Default: filed like the others.
    pub repeats: Repeats,
    /// Whether a file of a name that was worked with other content is held.
    /// Default no.
    pub hold_revisions: bool,
    /// What is done with the files.
    pub work: Work,
    /// Which entries are worked together, and when. Default all that are ready.
    pub batch: Option<BatchConfig>,
    /// What happens when work was interrupted and nobody can know whether it
    /// was done: hold (default) or retry.
    pub interrupted: Interrupted,
    /// Where worked files go.
    pub archive: Archive,
    /// Where held files go; without it they stay where they are.
    pub hold: Option<Template>,
    /// The file of its section, for messages.
    pub file: PathBuf,
    /// Line of its section, for messages.
    pub line: usize,
}

/// Which sizes and ages of files a gate takes.
#[derive(Debug, Clone)]
pub struct Bounds {
    /// Size in bytes.
    pub bytes: Range<u64>,
    /// Time since the file was modified.
    pub age: Range<Duration>,
}

/// A range; both ends belong to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range<T> {
    /// The least, if there is one.
    pub least: Option<T>,
    /// The most, if there is one.
    pub most: Option<T>,
}

/// What a gate does with empty files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Empty {
    /// They are held.
    Hold,
    /// They are taken like any other.
    Take,
    /// They are left.
    Leave,
}

/// In which order the files of a pass are worked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Order {
    /// By modification time, oldest first.
    Oldest,
    /// By modification time, newest first.
    Newest,
    /// By name, numbers counting as numbers.
    Name,
    /// By size, smallest first.
    Smallest,
    /// By size, largest first.
    Largest,
    /// By a captured field, numbers counting as numbers.
    Field(String),
}

/// What a gate does when work was interrupted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Interrupted {
    /// The entry is held for a person.
    Hold,
    /// The work is done again.
    Retry,
}

/// What a gate does with its files.
#[derive(Debug, Clone)]
pub enum Work {
    /// Nothing: it only files them.
    None,
    /// Their rows are merged into an output.
    Merge(Box<MergeConfig>),
    /// Their rows are loaded into a table of a database.
    Load(Box<LoadConfig>),
    /// A program is run for each.
    Run(RunConfig),
    /// They are handed out to workers that ask.
    Offer(OfferConfig),
}

impl Work {
    /// The configuration's word for it; `none` for a gate that only files.
    pub fn word(&self) -> &'static str {
        match self {
            Work::None => "none",
            Work::Merge(_) => "merge",
            Work::Load(_) => "load",
            Work::Run(_) => "run",
            Work::Offer(_) => "offer",
        }
    }
}

/// What a merge does when its output exists.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exists {
    /// Rows are appended; the columns must agree.
    Append,
    /// The output is replaced.
    Replace,
    /// The new output gets a number.
    Number,
    /// The entries are held.
    Fail,
}

/// The `run` section of a gate.
#[derive(Debug, Clone)]
pub struct RunConfig {
    /// The program; one with a `/` is relative to the configuration file.
    pub program: PathBuf,
    /// Its arguments, one template each.
    pub args: Vec<Template>,
    /// How long it may take. Default 10 minutes.
    pub limit: Duration,
    /// How long to wait after "try again later"; doubled each time. Default 30 s.
    pub wait: Duration,
    /// The longest wait. Default 30 min.
    pub wait_up_to: Duration,
    /// How often "try again later" is accepted before the entry is held.
    /// Default 20.
    pub tries: u32,
}

/// The `offer` section of a gate.
#[derive(Debug, Clone)]
pub struct OfferConfig {
    /// How long a worker may have an entry without a word. Default 1 min.
    pub lease: Duration,
    /// How long to wait after "again"; doubled each time. Default 30 s.
    pub wait: Duration,
    /// The longest wait. Default 30 min.
    pub wait_up_to: Duration,
    /// How often "again" is accepted before the entry is held. Default 20.
    pub tries: u32,
}

/// What becomes of worked files.
#[derive(Debug, Clone)]
pub enum Archive {
    /// They are moved to this folder.
    Into(Template),
    /// They stay where they are.
    Leave,
}

/// One fault of a configuration file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The file in which it is.
    pub file: PathBuf,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// What is wrong, and what was expected.
    pub message: String,
}

/// Why a configuration cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// The file cannot be read.
    #[error("the configuration `{}` cannot be read: {source}; name another with --config, or make one with `vadegate init`", file.display())]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The file has faults.
    #[error("{}", list_faults(faults))]
    Faulty {
        /// The file.
        file: PathBuf,
        /// All faults found, in order of line.
        faults: Vec<Fault>,
    },
}

fn list_faults(faults: &[Fault]) -> String {
    let lines = faults.iter().map(|fault| {
        format!("{}:{}:{}: {}", fault.file.display(), fault.line, fault.column, fault.message)
    });
    lines.collect::<Vec<_>>().join("\n")
}

impl Config {
    /// Reads and builds the configuration of `file`, and of the files
    /// `gates.d/*.toml` beside it.
    ///
    /// # Errors
    /// [`ConfigError`], with every fault that was found.
    pub fn read(file: &Path) -> Result<Self, ConfigError> {
        let read = |file: &Path| {
            std::fs::read_to_string(file)
                .map_err(|source| ConfigError::Unreadable { file: file.to_owned(), source })
        };
        let text = read(file)?;
        let file = std::path::absolute(file)
            .map_err(|source| ConfigError::Unreadable { file: file.to_owned(), source })?;
        let mut more = Vec::new();
        for file in gate_files(&file)? {
            let text = read(&file)?;
            more.push((file, text));
        }
        Config::build(&file, &text, &more)
    }

    /// Builds the configuration from its text; `file` (absolute) gives the
    /// folder that relative paths start from.
    ///
    /// # Errors
    /// [`ConfigError::Faulty`].
    pub fn parse(file: &Path, text: &str) -> Result<Self, ConfigError> {
        Config::build(file, text, &[])
    }

    fn build(file: &Path, text: &str, more: &[(PathBuf, String)]) -> Result<Self, ConfigError> {
        let faulty = |faults| Err(ConfigError::Faulty { file: file.to_owned(), faults });
        let first = std::iter::once(Document::parse(file, text));
        let more = more.iter().map(|(file, text)| Document::parse(file, text));
        let (documents, broken): (Vec<_>, Vec<_>) = first.chain(more).partition(Result::is_ok);
        let broken: Vec<Fault> = broken.into_iter().filter_map(Result::err).collect();
        if !broken.is_empty() {
            return faulty(broken);
        }
        let documents: Vec<Document> = documents.into_iter().filter_map(Result::ok).collect();
        let folder = file.parent().unwrap_or(Path::new("/")).to_owned();
        let (mut sections, mut likes) = (Vec::new(), Vec::new());
        let mut first_service = None;
        for (at, document) in documents.iter().enumerate() {
            let mut top = document.top();
            if at == 0 {
                first_service = Some(service(top.section("service"), &folder));
            }
            likes.extend(top.sections("like"));
            sections.extend(top.sections("gate"));
            top.finish();
        }
        let gates = gate::read_all(sections, &likes, &folder);
        let faults: Vec<Fault> = documents.iter().flat_map(Document::faults).collect();
        match first_service {
            Some(service) if faults.is_empty() => {
                Ok(Config { file: file.to_owned(), service, gates })
            }
            _ => faulty(faults),
        }
    }

    /// The gate of this name.
    pub fn gate(&self, name: &str) -> Option<&Gate> {
        self.gates.iter().find(|gate| gate.name == name)
    }

    /// Sees that a folder lies in one of the roots when links are resolved. One
    /// that is not there is no fault: its reader will say so.
    ///
    /// # Errors
    /// What is wrong and what to do, in words.
    pub fn really_within_roots(&self, folder: &Path) -> Result<(), String> {
        let Ok(real) = folder.canonicalize() else { return Ok(()) };
        let mut roots = self.service.roots.iter().filter_map(|root| root.canonicalize().ok());
        if self.within_roots(folder) && roots.any(|root| real.starts_with(root)) {
            return Ok(());
        }
        let (shown, real) = (folder.display(), real.display());
        Err(format!(
            "the folder `{shown}` (really `{real}`) lies outside the roots; add its folder to `roots` in [service]"
        ))
    }

    /// Whether `path` (absolute, without `..`) lies in one of the roots.
    pub fn within_roots(&self, path: &Path) -> bool {
        self.service.roots.iter().any(|root| path.starts_with(root))
    }
}

/// The files `gates.d/*.toml` beside the configuration, in order of name.
fn gate_files(file: &Path) -> Result<Vec<PathBuf>, ConfigError> {
    let folder = file.with_file_name("gates.d");
    let unreadable = |source| ConfigError::Unreadable { file: folder.clone(), source };
    let entries = match std::fs::read_dir(&folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(source) => return Err(unreadable(source)),
    };
    let mut files = Vec::new();
    for entry in entries {
        let path = entry.map_err(unreadable)?.path();
        let hidden = path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."));
        if path.extension().is_some_and(|ext| ext == "toml") && !hidden {
            files.push(path);
        }
    }
    files.sort();
    Ok(files)
}

fn service(section: Option<Section<'_>>, folder: &Path) -> ServiceConfig {
    let mut service = ServiceConfig {
        listen: "127.0.0.1:7411".into(),
        state: join(folder, "state"),
        roots: vec![folder.to_owned()],
        hosts: Vec::new(),
        timezone: TimeZone::UTC,
    };
    let Some(mut section) = section else { return service };
    if let Some(listen) = section.text("listen") {
        if listen.value.parse::<std::net::SocketAddr>().is_err() {
            listen.at.fault(format!("`{}` is no address to listen on; expected an IP address and a port such as \"127.0.0.1:7411\"", listen.value));
        }
        service.listen = listen.value;
    }
    if let Some(state) = section.text("state") {
        service.state = join(folder, &state.value);
    }
    if let Some(roots) = section.texts("roots") {
        service.roots = roots.iter().map(|root| join(folder, &root.value)).collect();
    }
    if let Some(hosts) = section.texts("hosts") {
        service.hosts = hosts.into_iter().map(|host| host.value.to_lowercase()).collect();
    }
    if let Some(zone) = section.text("timezone") {
        match TimeZone::get(&zone.value) {
            Ok(found) => service.timezone = found,
            Err(_) => zone.at.fault(format!("the time zone `{}` is not known; expected a name such as \"Etc/UTC\" or \"Atlantic/Faroe\"", zone.value)),
        }
    }
    section.finish();
    service
}

/// Joins and removes `.` and `..` by name, so that a path can be compared with
/// the roots.
pub(crate) fn join(folder: &Path, path: &str) -> PathBuf {
    let mut clean = PathBuf::new();
    for part in folder.join(path).components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                clean.pop();
            }
            other => clean.push(other),
        }
    }
    clean
}

impl fmt::Display for Order {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Order::Oldest => f.write_str("oldest"),
            Order::Newest => f.write_str("newest"),
            Order::Name => f.write_str("name"),
            Order::Smallest => f.write_str("smallest"),
            Order::Largest => f.write_str("largest"),
            Order::Field(name) => write!(f, "<{name}>"),
        }
    }
}

#[cfg(test)]
mod tests;
