//! The work `load` of a gate: into which table of which database, and how.

use std::path::{Path, PathBuf};
use std::time::Duration;

use postgres::config::Host;
use vadegate_tables::{Misfits, Options, Writing};

use crate::pattern::template::Template;
use crate::settings::keys::join;
use crate::settings::keys::{duration, path_template, template};
use crate::settings::reader::{Found, Section};
use crate::settings::secret::Secret;
use crate::work::tables::shaping;
use crate::work::tables::shaping::{TableSpec, names};

/// The `load` section of a gate.
#[derive(Debug, Clone)]
pub struct LoadConfig {
    /// How tables are read, and what their columns are.
    pub shaping: TableSpec,
    /// The database.
    pub to: Database,
    /// The table's name, perhaps with its schema before a point.
    pub table: Template,
    /// How rows meet those that are there.
    pub mode: Mode,
    /// Columns that make a row the same as another, for [`Mode::Upsert`].
    pub key: Vec<String>,
    /// Whether a table that is missing is made from the columns.
    pub create: bool,
    /// Where rows that are set aside go.
    pub rejects: Option<Template>,
    /// How long to wait before a database that is away is asked again; doubled each
    /// time. Default 1 s.
    pub wait: Duration,
    /// The longest wait. Default 1 min.
    pub wait_up_to: Duration,
}

/// How rows meet those that are in the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// They are added.
    Add,
    /// They take the place of all that are there.
    Replace,
    /// They take the place of those with the same key.
    Upsert,
}

impl Mode {
    /// The configuration's word for it.
    pub fn word(self) -> &'static str {
        match self {
            Mode::Add => "add",
            Mode::Replace => "replace",
            Mode::Upsert => "upsert",
        }
    }
}

/// A database.
#[derive(Debug, Clone)]
pub enum Database {
    /// A SQLite file.
    Sqlite(PathBuf),
    /// A PostgreSQL server.
    Postgres(Box<Server>),
}

/// A PostgreSQL server, and how one signs in to it.
#[derive(Debug, Clone)]
pub struct Server {
    /// Where it is, and as whom; without the password.
    pub config: postgres::Config,
    /// Where the password is found.
    pub password: Option<Secret>,
    /// Certificates of those who vouch for the server; those of the system when none are
    /// named.
    pub certificates: Option<PathBuf>,
}

impl Database {
    /// Its name for people and for the ledger: without user and password.
    pub fn shown(&self) -> String {
        let server = match self {
            Database::Sqlite(path) => return format!("sqlite:{}", path.display()),
            Database::Postgres(server) => server,
        };
        let ports = server.config.get_ports();
        let hosts = server.config.get_hosts().iter().enumerate().map(|(at, host)| {
            let port = ports.get(at).or(ports.first()).copied().unwrap_or(5432);
            match host {
                Host::Tcp(name) => format!("{name}:{port}"),
                Host::Unix(path) => format!("{}:{port}", path.display()),
            }
        });
        let hosts: Vec<String> = hosts.collect();
        let database = server.config.get_dbname().or(server.config.get_user()).unwrap_or("");
        format!("postgres://{}/{database}", hosts.join(","))
    }

    /// The name of one of its tables, as the ledger has it.
    pub fn output(&self, table: &str) -> String {
        format!("{}#{table}", self.shown())
    }
}

impl LoadConfig {
    /// How rows are shaped on their way.
    pub fn options(&self) -> Options {
        self.shaping.options(Writing::given())
    }

    /// The column in which the number of the entry stands, if there is one.
    pub fn entry_column(&self) -> Option<&str> {
        let found = self.shaping.add.iter().find(|(_, value)| value.is_template("<entry>"));
        found.map(|(column, _)| column.as_str())
    }
}

pub(crate) fn read(
    mut section: Section<'_>,
    folder: &Path,
    fields: &[String],
) -> Option<LoadConfig> {
    let to = read_database(&mut section, folder);
    let table = section.text("table");
    if table.is_none() {
        section.fault_here("`table` is missing: name the table into which rows go".into());
    }
    let table = table.and_then(|text| {
        check_table(&text);
        template(&text, fields)
    });
    let modes = [Mode::Add, Mode::Replace, Mode::Upsert].map(|mode| (mode.word(), mode));
    let mode = section.choice("mode", &modes).unwrap_or(Mode::Add);
    let key = names(section.texts("key"));
    match (mode, key.is_empty()) {
        (Mode::Upsert, true) => section.fault_here(
            "mode = \"upsert\" needs `key`: the columns that make a row the same as another".into(),
        ),
        (Mode::Add | Mode::Replace, false) => section.fault_here(
            "`key` is of no use without mode = \"upsert\"; say that, or take `key` out".into(),
        ),
        _ => {}
    }
    let create = section.choice("if_missing", &[("wait", false), ("create", true)]);
    let rejects =
        section.has("rejects").then(|| path_template(&mut section, "rejects", folder, fields));
    let shaping = shaping::read(&mut section, folder, fields, None);
    if shaping.misfits == Misfits::SetAside && rejects.is_none() {
        section.fault_here(
            "misfits = \"set aside\" needs `rejects`: the file into which such rows are written"
                .into(),
        );
    }
    let wait = duration(&mut section, "wait").unwrap_or(Duration::from_secs(1));
    let wait_up_to = duration(&mut section, "wait_up_to").unwrap_or(Duration::from_secs(60));
    section.finish();
    Some(LoadConfig {
        shaping,
        to: to?,
        table: table?,
        mode,
        key,
        create: create.unwrap_or(false),
        rejects: rejects.flatten(),
        wait: wait.max(Duration::from_millis(50)),
        wait_up_to,
    })
}

/// A name, or a schema and a name.
fn check_table(text: &Found<'_, String>) {
    let parts: Vec<&str> = text.value.split('.').collect();
    if parts.len() > 2 || parts.iter().any(|part| part.trim().is_empty()) {
        text.at.fault(format!(
            "`table` is \"{}\"; expected a table's name, perhaps with its schema: \"sea.waves\"",
            text.value
        ));
    }
}

fn read_database(section: &mut Section<'_>, folder: &Path) -> Option<Database> {
    let password =
        section.section("password").map(|inner| Secret::table(inner, folder, "a password"));
    let certificates = section.text("certificates").map(|text| join(folder, &text.value));
    let Some(to) = section.text("to") else {
        section.fault_here(
            "`to` is missing: say where rows go, such as to = \"sqlite:out/sound.db\"".into(),
        );
        return None;
    };
    if let Some(path) = to.value.strip_prefix("sqlite:").filter(|path| !path.is_empty()) {
        if password.is_some() || certificates.is_some() {
            to.at.fault("a SQLite file has no `password` and no `certificates`".into());
        }
        return Some(Database::Sqlite(join(folder, path)));
    }
    if !to.value.starts_with("postgres://") && !to.value.starts_with("postgresql://") {
        to.at.fault(
            "`to` names no database; expected \"sqlite:PATH\" or \"postgres://USER@HOST/DATABASE\""
                .into(),
        );
        return None;
    }
    let config: postgres::Config = match to.value.parse() {
        Ok(config) => config,
        Err(error) => {
            to.at.fault(format!("`to` is no address of a PostgreSQL server: {error}"));
            return None;
        }
    };
    if config.get_password().is_some() {
        // It is not repeated here: faults are logged and shown.
        to.at.fault(
            "`to` has a password in it, where it would be shown; take it out and say \
             password = { env = \"NAME\" } or { file = \"PATH\" }"
                .into(),
        );
        return None;
    }
    if config.get_hosts().is_empty() {
        to.at.fault("`to` names no host".into());
        return None;
    }
    let password = password.flatten();
    Some(Database::Postgres(Box::new(Server { config, password, certificates })))
}
