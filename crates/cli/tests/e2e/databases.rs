//! Real databases for tests: a SQLite file, and a PostgreSQL server in a folder and on a
//! socket of its own, which ends when the test process does.

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU32, Ordering};

use postgres::{Client, NoTls, SimpleQueryMessage};

use crate::support::wait;

/// Runs until its standard input is closed, which happens when the test process ends,
/// however that does.
const WATCHED: &str = r#"
trap '' INT TERM
"$1/postgres" -D "$2/data" -k "$2" -c listen_addresses=$4 -c port=$3 -c fsync=off >>"$2/log" 2>&1 &
server=$!
cat >/dev/null
kill -QUIT $server 2>/dev/null
wait $server
[ -e "$2/keep" ] || rm -rf "$2"
"#;

/// A PostgreSQL server.
pub struct Server {
    programs: PathBuf,
    pub folder: PathBuf,
    user: Option<(u32, u32)>,
    running: Option<(Child, ChildStdin)>,
    port: u16,
    listen: &'static str,
}

fn programs() -> PathBuf {
    let versions = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let found =
        versions.map(|entry| entry.path().join("bin")).filter(|bin| bin.join("initdb").is_file());
    found.max().expect("a PostgreSQL server is installed by `make test`")
}

/// The user that runs the server: it refuses to be run by root.
fn user() -> Option<(u32, u32)> {
    let number = |what: &str| {
        let output = Command::new("id").args([what, "postgres"]).output().ok()?;
        String::from_utf8_lossy(&output.stdout).trim().parse::<u32>().ok()
    };
    // SAFETY: a plain system call without arguments.
    if unsafe { libc::geteuid() } != 0 {
        return None;
    }
    Some((number("-u").unwrap_or(65534), number("-g").unwrap_or(65534)))
}

impl Server {
    /// A server with nothing in it; `auth` is how one signs in (`trust`,
    /// `scram-sha-256`), the password of its user is in `password`.
    pub fn start(auth: &str, password: &str) -> Self {
        let folder = tempfile::tempdir().unwrap().keep();
        fs::set_permissions(&folder, PermissionsExt::from_mode(0o755)).unwrap();
        fs::write(folder.join("password"), format!("{password}\n")).unwrap();
        let user = user();
        if let Some((uid, gid)) = user {
            chown(&folder, Some(uid), Some(gid)).unwrap();
            chown(folder.join("password"), Some(uid), Some(gid)).unwrap();
        }
        let mut server =
            Server { programs: programs(), folder, user, running: None, port: 5432, listen: "''" };
        let mut init = server.command("initdb");
        init.args(["-U", "vadegate", "-A", auth, "-E", "UTF8", "--no-sync", "--locale=C"]);
        init.arg("-D").arg(server.folder.join("data"));
        init.arg("--pwfile").arg(server.folder.join("password"));
        let made = init.output().unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        server.go_on();
        server
    }

    /// Has it listen on a port of loopback too, encrypted, from its next start on. Gives
    /// the port and the certificate that vouches for it.
    pub fn listen_encrypted(&mut self) -> (u16, PathBuf) {
        let (key, certificate) =
            (self.folder.join("data/server.key"), self.folder.join("data/server.crt"));
        let mut make = self.command("/usr/bin/openssl");
        make.args([
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "2",
            "-subj",
            "/CN=localhost",
        ]);
        make.args([
            "-addext",
            "subjectAltName=DNS:localhost",
            "-addext",
            "basicConstraints=critical,CA:FALSE",
        ]);
        make.arg("-keyout").arg(&key).arg("-out").arg(&certificate);
        let made = make.output().unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let settings = self.folder.join("data/postgresql.auto.conf");
        fs::write(settings, "ssl = on\n").unwrap();
        let access = self.folder.join("data/pg_hba.conf");
        fs::write(access, "local all all trust\nhostssl all all all trust\n").unwrap();
        (self.listen(), certificate)
    }

    fn listen(&mut self) -> u16 {
        let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        self.port = free.local_addr().unwrap().port();
        self.listen = "127.0.0.1";
        self.port
    }

    fn command(&self, program: &str) -> Command {
        let mut command = Command::new(self.programs.join(program));
        self.as_user(&mut command);
        command
    }

    fn as_user(&self, command: &mut Command) {
        command.current_dir(&self.folder).env("LC_ALL", "C");
        if let Some((uid, gid)) = self.user {
            command.uid(uid).gid(gid);
        }
    }

    /// Starts it, and waits until it answers.
    pub fn go_on(&mut self) {
        let mut shell = Command::new("sh");
        let (port, listen) = (self.port.to_string(), self.listen.trim_matches('\''));
        shell
            .args(["-c", WATCHED, "sh"])
            .arg(&self.programs)
            .arg(&self.folder)
            .args([&port, listen]);
        shell.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        self.as_user(&mut shell);
        let mut child = shell.spawn().unwrap();
        let stdin = child.stdin.take().unwrap();
        self.running = Some((child, stdin));
        let socket = self.folder.join(format!(".s.PGSQL.{}", self.port));
        wait("the server is up", || {
            let signed_in = socket
                .symlink_metadata()
                .is_ok()
                .then(|| Client::connect(&self.url("postgres"), NoTls))?;
            match signed_in {
                Ok(_) => Some(()),
                // A server that asks for a password is up too.
                Err(error) => format!("{error:?}").contains("password").then_some(()),
            }
        });
    }

    /// Has it end at once, as after a crash: what it was doing is lost.
    pub fn crash(&mut self) {
        let Some((mut child, stdin)) = self.running.take() else { return };
        fs::write(self.folder.join("keep"), "").unwrap();
        drop(stdin);
        child.wait().unwrap();
        let _ = fs::remove_file(self.folder.join("keep"));
    }

    /// The address of one of its databases.
    pub fn url(&self, database: &str) -> String {
        let (folder, port) = (self.folder.display(), self.port);
        format!("postgres://vadegate@/{database}?host={folder}&port={port}")
    }

    /// A new database.
    pub fn database(&self) -> Db {
        static NUMBER: AtomicU32 = AtomicU32::new(1);
        let name = format!("sound{}", NUMBER.fetch_add(1, Ordering::Relaxed));
        Db::Postgres(self.url("postgres")).run(&format!("CREATE DATABASE {name}"));
        Db::Postgres(self.url(&name))
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some((mut child, stdin)) = self.running.take() {
            drop(stdin);
            let _ = child.wait();
        }
    }
}

/// A server for all tests that do not stop it.
pub fn shared() -> &'static Server {
    static SERVER: LazyLock<Server> = LazyLock::new(|| Server::start("trust", "none"));
    &SERVER
}

/// A database into which rows are loaded.
pub enum Db {
    Sqlite(PathBuf),
    Postgres(String),
}

impl Db {
    pub fn sqlite(path: &Path) -> Self {
        Db::Sqlite(path.to_owned())
    }

    /// How the configuration names it.
    pub fn to(&self) -> String {
        match self {
            Db::Sqlite(path) => format!("sqlite:{}", path.display()),
            Db::Postgres(url) => url.clone(),
        }
    }

    pub fn is_postgres(&self) -> bool {
        matches!(self, Db::Postgres(_))
    }

    pub fn has(&self, table: &str) -> bool {
        let tables = if self.is_postgres() {
            "pg_tables WHERE tablename"
        } else {
            "sqlite_schema WHERE name"
        };
        !self.rows(&format!("SELECT 1 FROM {tables} = '{table}'")).is_empty()
    }

    pub fn run(&self, sql: &str) {
        match self {
            Db::Sqlite(path) => {
                fs::create_dir_all(path.parent().unwrap()).unwrap();
                rusqlite::Connection::open(path).unwrap().execute_batch(sql).unwrap();
            }
            Db::Postgres(url) => Client::connect(url, NoTls).unwrap().batch_execute(sql).unwrap(),
        }
    }

    /// Rows of a query, their values separated by bars.
    pub fn rows(&self, sql: &str) -> Vec<String> {
        match self {
            Db::Sqlite(path) => {
                let connection = rusqlite::Connection::open(path).unwrap();
                let mut select = connection.prepare(sql).unwrap();
                let width = select.column_count();
                let row = |row: &rusqlite::Row<'_>| {
                    let values = (0..width).map(|at| match row.get_ref(at).unwrap() {
                        rusqlite::types::ValueRef::Null => "null".to_owned(),
                        rusqlite::types::ValueRef::Integer(number) => number.to_string(),
                        rusqlite::types::ValueRef::Real(number) => number.to_string(),
                        rusqlite::types::ValueRef::Text(text) => {
                            String::from_utf8_lossy(text).into()
                        }
                        rusqlite::types::ValueRef::Blob(_) => "blob".to_owned(),
                    });
                    Ok(values.collect::<Vec<_>>().join("|"))
                };
                select.query_map([], row).unwrap().map(Result::unwrap).collect()
            }
            Db::Postgres(url) => {
                let mut client = Client::connect(url, NoTls).unwrap();
                let rows = client.simple_query(sql).unwrap();
                let row = |message: &SimpleQueryMessage| match message {
                    SimpleQueryMessage::Row(row) => {
                        let values = (0..row.len()).map(|at| row.get(at).unwrap_or("null"));
                        Some(values.collect::<Vec<_>>().join("|"))
                    }
                    _ => None,
                };
                rows.iter().filter_map(row).collect()
            }
        }
    }

    /// Rows of a table; none when it is not there.
    pub fn count(&self, table: &str) -> usize {
        if !self.has(table) {
            return 0;
        }
        self.rows(&format!("SELECT count(*) FROM {table}"))[0].parse().unwrap()
    }
}
