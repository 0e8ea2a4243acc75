//! The configuration: one TOML file, read whole, every fault reported with its
//! line and column before anything runs.
//!
//! Reading goes in two rounds: [`crate::settings::reader`] takes typed values out of the
//! document and notes what is unknown or wrong, and the builders in
//! [`gate`](self) make plain data of them. Whether the folders are there is
//! asked later, by `check`.

pub(crate) mod batch;
pub mod calendar;
pub mod clear;
pub(crate) mod days_off;
pub mod draft;
pub(crate) mod drops;
pub mod due;
pub mod fetch;
pub(crate) mod gate;
pub(crate) mod gate_reading;
pub(crate) mod identity;
pub mod lookout;
pub(crate) mod pick;
pub mod report;
pub mod schedule;
pub mod service;
pub(crate) mod settle;
pub(crate) mod taking;
pub mod tell;
pub mod tell_words;
pub mod ticks;
pub(crate) mod wall_clock;
pub(crate) mod weekdays;
pub(crate) mod work;

use std::path::{Path, PathBuf};

use crate::afar::config as afar;
use crate::config::calendar::Calendars;
use crate::settings::fault::Fault;
pub use crate::settings::keys::Range;
pub use crate::settings::values::{parse_bytes, parse_duration, write_bytes, write_duration};
pub use crate::work::merge::config::{Exists, MergeConfig, WriteConfig};
pub use crate::work::tables::shaping::{TableSpec, Value};
pub use batch::{BatchConfig, BatchMarker, RequiredFile};
pub use drops::{Drops, FoundFolders, Placed};
pub use gate::{Archive, Bounds, Empty, Gate, Interrupted, Order};
pub use identity::{Once, Repeats};
pub use pick::{Others, Pick};
pub use service::ServiceConfig;
pub use settle::{After, Companion, MarkerFor, Settle, SettleBy};

use crate::files::roots::Reach;
use crate::settings::reader::{Document, Section};

/// Everything that a configuration file says.
#[derive(Debug, Clone)]
pub struct Config {
    /// The file it was read from.
    pub file: PathBuf,
    /// The `[service]` section.
    pub service: ServiceConfig,
    /// The gates, in the order of the file.
    pub gates: Vec<Gate>,
    /// Rules by which files are removed, in the order of the file.
    pub clears: Vec<clear::ClearRule>,
    /// What is expected, in the order of the file.
    pub dues: Vec<due::Due>,
    /// Limits of folders and files, in the order of the file.
    pub lookouts: Vec<lookout::Lookout>,
    /// Who hears of what, in the order of the file.
    pub tells: Vec<tell::Tell>,
    /// What is reported, in the order of the file.
    pub reports: Vec<report::ReportRule>,
    /// By which server mails go out.
    pub mail: Option<tell::MailServer>,
    /// Days off, by name.
    pub calendars: Calendars,
    /// Servers from which is fetched, and to which is delivered, in the order of the file.
    pub places: Vec<crate::afar::config::PlaceConfig>,
    /// What may be reached: the roots, without the state folder.
    pub reach: Reach,
}

/// Sections of all files, before they are read.
#[derive(Default)]
struct Parts<'a> {
    service: Option<ServiceConfig>,
    mail: Option<tell::MailServer>,
    likes: Vec<(String, Section<'a>)>,
    gates: Vec<(String, Section<'a>)>,
    clears: Vec<(String, Section<'a>)>,
    calendars: Vec<(String, Section<'a>)>,
    dues: Vec<(String, Section<'a>)>,
    tells: Vec<(String, Section<'a>)>,
    lookouts: Vec<(String, Section<'a>)>,
    reports: Vec<(String, Section<'a>)>,
    places: Vec<(String, Section<'a>)>,
}

impl<'a> Parts<'a> {
    /// Those of all files; what is of the service as a whole stands in the first.
    fn of(documents: &'a [Document], folder: &Path) -> Self {
        let mut parts = Parts::default();
        for (at, document) in documents.iter().enumerate() {
            let mut top = document.top();
            if at == 0 {
                parts.service = Some(service::read(top.section("service"), folder));
                parts.mail = tell::read_mail(top.section("mail"), folder);
            }
            parts.likes.extend(top.sections("like"));
            parts.gates.extend(top.sections("gate"));
            parts.clears.extend(top.sections("clear"));
            parts.calendars.extend(top.sections("calendar"));
            parts.dues.extend(top.sections("due"));
            parts.tells.extend(top.sections("tell"));
            parts.reports.extend(top.sections("report"));
            parts.lookouts.extend(top.sections("lookout"));
            parts.places.extend(top.sections("place"));
            top.finish();
        }
        parts
    }
}

/// Why a configuration cannot be used.
/// Why a folder is none of those that the service reads and writes.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum OutOfReach {
    /// It is the state folder, or lies in it.
    #[error("the folder `{}` is the state folder, which is never data", .0.display())]
    State(PathBuf),
    /// It lies in no root.
    #[error(
        "the folder `{}` lies outside the roots; add its folder to `roots` in [service]", .0.display()
    )]
    Outside(PathBuf),
    /// A link leads to it.
    #[error(
        "the folder `{}` is, or lies behind, a link, and links are not followed; name the folder to which it leads, and have it in `roots` in [service]", .0.display()
    )]
    Link(PathBuf),
}

/// Why there is no configuration.
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
        Config::read_with(file, None)
    }

    /// As [`Config::read`], with a text in the place of what stands in one of the files, or as
    /// one more of `gates.d`.
    pub(crate) fn read_with(
        file: &Path,
        edited: Option<(&Path, &str)>,
    ) -> Result<Self, ConfigError> {
        let read = |file: &Path| match edited {
            Some((path, text)) if path == file => Ok(text.to_owned()),
            _ => std::fs::read_to_string(file)
                .map_err(|source| ConfigError::Unreadable { file: file.to_owned(), source }),
        };
        let text = read(file)?;
        let file = std::path::absolute(file)
            .map_err(|source| ConfigError::Unreadable { file: file.to_owned(), source })?;
        // Paths are compared by name, so the folder must have one name.
        let folder = file.parent().unwrap_or(Path::new("/")).canonicalize();
        let file = match (folder, file.file_name()) {
            (Ok(folder), Some(name)) if file.components().any(|part| part.as_os_str() == "..") => {
                folder.join(name)
            }
            _ => file,
        };
        let mut more = Vec::new();
        let mut files = gate_files(&file)?;
        files.extend(edited.map(|(path, _)| path.to_owned()).filter(|path| *path != file));
        files.sort();
        files.dedup();
        for file in files {
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
        let broken: Vec<_> = broken.into_iter().filter_map(Result::err).collect();
        if !broken.is_empty() {
            return faulty(broken);
        }
        let documents: Vec<Document> = documents.into_iter().filter_map(Result::ok).collect();
        let folder = file.parent().unwrap_or(Path::new("/")).to_owned();
        let parts = Parts::of(&documents, &folder);
        let mail = parts.mail;
        let calendars = Calendars::read(parts.calendars, &folder);
        let places = afar::read_all(parts.places, &folder);
        let around =
            gate_reading::Around { calendars: &calendars, places: &places, folder: &folder };
        let gates = gate_reading::read_all(parts.gates, &parts.likes, around);
        let clears = clear::read_all(parts.clears, &folder);
        let dues = due::read_all(parts.dues, &gates, &calendars);
        let lookouts = lookout::read_all(parts.lookouts, &folder);
        let tells = tell::read_all(parts.tells, mail.is_some(), &folder);
        let reports = report::read_all(parts.reports, &tells);
        let faults: Vec<Fault> = documents.iter().flat_map(Document::faults).collect();
        match parts.service {
            Some(service) if faults.is_empty() => {
                let reach = Reach::below(&service.roots, &service.state);
                let file = file.to_owned();
                Ok(Config {
                    file,
                    service,
                    gates,
                    clears,
                    dues,
                    lookouts,
                    tells,
                    reports,
                    mail,
                    calendars,
                    places,
                    reach,
                })
            }
            _ => faulty(faults),
        }
    }

    /// The gate of this name.
    pub fn gate(&self, name: &str) -> Option<&Gate> {
        self.gates.iter().find(|gate| gate.name == name)
    }

    /// Sees that a folder lies in one of the roots, and is reached through no link. One
    /// that is not there is no fault: its reader will say so.
    ///
    /// # Errors
    /// [`OutOfReach`]: what is wrong and what to do.
    pub fn really_within_roots(&self, folder: &Path) -> Result<(), OutOfReach> {
        if self.reach.is_state(folder) {
            return Err(OutOfReach::State(folder.to_owned()));
        }
        if !self.within_roots(folder) {
            return Err(OutOfReach::Outside(folder.to_owned()));
        }
        match self.reach.folder(folder) {
            Err(error) if error.raw_os_error() == Some(libc::ELOOP) => {
                Err(OutOfReach::Link(folder.to_owned()))
            }
            _ => Ok(()),
        }
    }

    /// Whether `path` (absolute, without `..`) lies in one of the roots, and not in the
    /// state folder.
    pub fn within_roots(&self, path: &Path) -> bool {
        self.reach.allows(path)
    }
}

/// The files `gates.d/*.toml` beside the configuration, in order of name.
pub(crate) fn gate_files(file: &Path) -> Result<Vec<PathBuf>, ConfigError> {
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

#[cfg(test)]
mod tests;
