//! A coast for a test: a temporary folder with a configuration, the binary, and
//! a service that ends with it.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use serde_json::Value;

/// How long a test waits for what must come, before it fails.
pub const PATIENCE: Duration = Duration::from_secs(40);

/// A folder with a configuration.
pub struct TestHome {
    home: tempfile::TempDir,
}

/// What a command printed, and its exit status.
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl TestHome {
    /// A coast with these gates; the service listens on any free port.
    pub fn new(gates: &str) -> Self {
        let home = tempfile::tempdir().unwrap();
        let coast = TestHome { home };
        coast.configure(gates);
        coast
    }

    pub fn configure(&self, gates: &str) {
        let service = "[service]\nlisten = \"127.0.0.1:0\"\nroots = [\".\"]\n";
        fs::write(self.path("vadegate.toml"), format!("{service}{gates}")).unwrap();
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.home.path().join(below)
    }

    /// Makes a folder.
    pub fn folder(&self, below: &str) -> PathBuf {
        let folder = self.path(below);
        fs::create_dir_all(&folder).unwrap();
        folder
    }

    /// Drops a file as a careful supplier does: under another name, renamed.
    pub fn drop(&self, below: &str, content: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(below);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        let part = path.with_file_name(".under-way");
        fs::write(&part, content).unwrap();
        fs::rename(&part, &path).unwrap();
        path
    }

    pub fn read(&self, below: &str) -> String {
        let path = self.path(below);
        fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
    }

    /// Paths of all files below a folder, sorted; none when it is not there.
    pub fn files(&self, below: &str) -> Vec<String> {
        let mut found = Vec::new();
        let mut folders = vec![self.path(below)];
        while let Some(folder) = folders.pop() {
            let Ok(entries) = fs::read_dir(&folder) else { continue };
            for entry in entries {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path);
                } else {
                    let below = path.strip_prefix(self.home.path()).unwrap();
                    found.push(below.display().to_string());
                }
            }
        }
        found.sort();
        found
    }

    pub fn command(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_vadegate"));
        command
            .current_dir(self.home.path())
            .env_remove("VADEGATE_CONFIG")
            .env_remove("VADEGATE_TOKEN")
            .env("VADEGATE_LOG", "info");
        command
    }

    /// Runs a command line to its end.
    pub fn run(&self, line: &str) -> Ran {
        self.run_args(&line.split_whitespace().collect::<Vec<_>>())
    }

    pub fn run_args(&self, args: &[&str]) -> Ran {
        Ran::of(&self.command().args(args).output().unwrap())
    }

    /// What a command that must succeed prints as JSON.
    pub fn json(&self, line: &str) -> Value {
        let ran = self.run(&format!("{line} --json"));
        assert_eq!(ran.code, 0, "{line}: {}{}", ran.out, ran.err);
        serde_json::from_str(&ran.out).unwrap()
    }

    /// The entries of the ledger, newest first.
    pub fn ledger(&self) -> Vec<Value> {
        self.json("ledger --limit 1000").as_array().unwrap().clone()
    }

    /// The entry whose path ends so.
    pub fn entry(&self, path: &str) -> Value {
        let ledger = self.ledger();
        let found = ledger.iter().find(|entry| text(entry, "path").ends_with(path));
        found.unwrap_or_else(|| panic!("no entry {path} in {ledger:#?}")).clone()
    }

    pub fn serve(&self) -> Service {
        Service::start(self, |_| {})
    }

    /// Waits until something holds of this coast.
    pub fn wait(&self, what: &str, holds: impl Fn(&TestHome) -> bool) {
        wait(what, || holds(self).then_some(()));
    }
}

impl Ran {
    pub fn of(output: &Output) -> Self {
        Ran {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}

pub fn text<'a>(value: &'a Value, name: &str) -> &'a str {
    value[name].as_str().unwrap_or_default()
}

/// Looks again and again, until there is an answer. The files of a folder and
/// the pages of a service give no event to wait for.
pub fn wait<T>(what: &str, look: impl FnMut() -> Option<T>) -> T {
    wait_for(PATIENCE, what, look)
}

/// The same for longer.
pub fn wait_for<T>(patience: Duration, what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let begun = Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(begun.elapsed() < patience, "in vain waited until {what}");
        std::thread::sleep(Duration::from_millis(25));
    }
}

/// A running service; it is killed with its test.
pub struct Service {
    child: Option<Child>,
    pub base: String,
    pub token: String,
    log: Arc<Mutex<String>>,
    agent: ureq::Agent,
}

impl Service {
    pub fn start(coast: &TestHome, change: impl FnOnce(&mut Command)) -> Self {
        let mut command = coast.command();
        command.arg("serve").stderr(Stdio::piped()).stdout(Stdio::null());
        change(&mut command);
        let mut child = command.spawn().unwrap();
        let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let log = Arc::new(Mutex::new(String::new()));
        let mut base = None;
        for line in lines.by_ref() {
            let line = line.unwrap();
            base = line.strip_prefix("Vadegate serves at ").map(str::to_owned);
            add(&log, &line);
            if base.is_some() {
                break;
            }
        }
        let Some(base) = base else { panic!("no service: {}", log.lock().unwrap()) };
        let to_log = Arc::clone(&log);
        // It ends when the child's stderr does.
        std::thread::spawn(move || {
            lines.map_while(Result::ok).for_each(|line| add(&to_log, &line));
        });
        let token = fs::read_to_string(coast.path("state/token")).unwrap().trim().to_owned();
        Service { child: Some(child), base, token, log, agent: agent() }
    }

    /// A service that somebody else started, for asking.
    pub fn elsewhere(base: &str, token: &str) -> Self {
        let log = Arc::default();
        Service { child: None, base: base.into(), token: token.into(), log, agent: agent() }
    }

    pub fn log(&self) -> String {
        self.log.lock().unwrap().clone()
    }

    pub fn url(&self, path: &str) -> String {
        format!("{}{path}", self.base)
    }

    /// Status and body of a request; with the token unless `headers` has an
    /// authorization of its own.
    pub fn ask(&self, method: &str, path: &str, headers: &[(&str, &str)]) -> (u16, String) {
        let mut request = http::Request::builder().method(method).uri(self.url(path));
        if !headers.iter().any(|(name, _)| *name == "Authorization") {
            request = request.header("Authorization", format!("Bearer {}", self.token));
        }
        for (name, value) in headers.iter().filter(|(_, value)| !value.is_empty()) {
            request = request.header(*name, *value);
        }
        let mut answer = self.agent.run(request.body(()).unwrap()).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    }

    /// Status and body of a request that sends a JSON document.
    pub fn send(&self, path: &str, body: &Value) -> (u16, String) {
        let mut answer = self
            .agent
            .post(self.url(path))
            .header("Authorization", format!("Bearer {}", self.token))
            .header("Content-Type", "application/json")
            .send(body.to_string())
            .unwrap();
        let text = answer.body_mut().read_to_string().unwrap();
        (answer.status().as_u16(), text)
    }

    pub fn get(&self, path: &str) -> Value {
        let (status, body) = self.ask("GET", path, &[]);
        assert_eq!(status, 200, "{path}: {body}");
        serde_json::from_str(&body).unwrap()
    }

    pub fn post(&self, path: &str) -> Value {
        let (status, body) = self.ask("POST", path, &[]);
        assert_eq!(status, 200, "{path}: {body}");
        serde_json::from_str(&body).unwrap()
    }

    pub fn agent(&self) -> &ureq::Agent {
        &self.agent
    }

    pub fn pid(&self) -> i32 {
        i32::try_from(self.child.as_ref().unwrap().id()).unwrap()
    }

    /// kill -9.
    pub fn kill(mut self) {
        let child = self.child.as_mut().unwrap();
        child.kill().unwrap();
        child.wait().unwrap();
    }

    /// SIGTERM, and waits for the end; gives the exit status.
    pub fn stop(mut self) -> Option<i32> {
        signal(self.pid(), libc::SIGTERM);
        let child = self.child.as_mut().unwrap();
        wait("the service has stopped", || child.try_wait().unwrap()).code()
    }
}

fn agent() -> ureq::Agent {
    ureq::Agent::config_builder()
        .http_status_as_error(false)
        .timeout_global(Some(PATIENCE))
        .build()
        .into()
}

pub fn signal(pid: i32, signal: i32) {
    // SAFETY: a plain system call on a child that was not waited for.
    assert_eq!(unsafe { libc::kill(pid, signal) }, 0);
}

fn add(log: &Mutex<String>, line: &str) {
    let mut log = log.lock().unwrap();
    log.push_str(line);
    log.push('\n');
}

impl Drop for Service {
    fn drop(&mut self) {
        if let Some(child) = &mut self.child {
            // It may have ended already.
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// SHA-256 in hexadecimal.
pub fn sum(content: impl AsRef<[u8]>) -> String {
    use sha2::{Digest, Sha256};
    Sha256::digest(content).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A path as text.
pub fn shown(path: &Path) -> String {
    path.display().to_string()
}

/// A gate that only files: quiet time 50 ms, archive `archive/NAME`.
pub fn filing_gate(name: &str, more: &str) -> String {
    format!(
        "[gate.{name}]\ndrop = \"drops/{name}\"\nsettle = \"50ms\"\nsweep = \"500ms\"\n{more}\n\
         [gate.{name}.archive]\ninto = \"archive/{name}\"\n"
    )
}

/// Commands that run beside the test.
pub trait InBackground {
    /// Runs it to its end on a thread.
    fn output_in_background(&mut self) -> std::thread::JoinHandle<Output>;
}

impl InBackground for Command {
    fn output_in_background(&mut self) -> std::thread::JoinHandle<Output> {
        let child = self.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        std::thread::spawn(move || child.wait_with_output().unwrap())
    }
}
