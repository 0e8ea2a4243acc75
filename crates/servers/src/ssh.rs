//! OpenSSH's server with its own server of files.

use std::ffi::OsString;
use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

use crate::{Running, on_a_free_port, run, says};

/// A server of files over SSH, in which whoever runs the test signs in by key.
pub struct SshServer {
    home: tempfile::TempDir,
    running: Running,
    /// On loopback.
    pub port: u16,
    /// Who signs in.
    pub user: String,
}

impl SshServer {
    /// Starts one.
    pub fn start() -> SshServer {
        let home = tempfile::tempdir().expect("a folder");
        // The keys are refused when others may write above them.
        for (name, bytes) in keys() {
            let mut file = fs::OpenOptions::new();
            let file = file.write(true).create_new(true).mode(0o600).open(home.path().join(name));
            file.and_then(|mut file| file.write_all(bytes)).expect("a key");
        }
        let keys = ["ed25519", "ecdsa", "rsa", "locked"].map(|kind| {
            fs::read_to_string(home.path().join(format!("{kind}.pub"))).expect("a key")
        });
        fs::write(home.path().join("authorized"), keys.concat()).expect("the keys");
        // As root it wants a folder to lock itself into.
        let _ = fs::create_dir_all("/run/sshd");
        let (port, running) = start(home.path(), "host_ed25519");
        let user = Command::new("id").arg("-un").output().expect("who runs this").stdout;
        let user = String::from_utf8(user).expect("a name").trim().to_owned();
        SshServer { home, running, port, user }
    }

    /// Its address, for a folder of this machine.
    pub fn address(&self, folder: &Path) -> String {
        format!("sftp://{}@127.0.0.1:{}{}", self.user, self.port, folder.display())
    }

    /// The file of a private key that it takes: `ed25519`, `ecdsa`, `rsa`, and `locked`, of
    /// which the passphrase is `lighthouse`.
    pub fn key(&self, kind: &str) -> PathBuf {
        self.home.path().join(kind)
    }

    /// The fingerprint of one of its own keys.
    pub fn host_key(&self, kind: &str) -> String {
        let key = self.home.path().join(format!("host_{kind}.pub"));
        let printed = Command::new("ssh-keygen").arg("-lf").arg(key).output().expect("a print");
        let printed = String::from_utf8(printed.stdout).expect("text");
        printed.split(' ').nth(1).expect("a print").to_owned()
    }

    /// Ends it, with all its connections.
    pub fn stop(&mut self) {
        // Each connection has a process of its own.
        let parent = self.running.0.id().to_string();
        let _ = Command::new("pkill").args(["-KILL", "-P", &parent]).status();
        self.running.kill();
    }

    /// Starts it again on another port, with another key of its own.
    pub fn start_anew(&mut self, kind: &str) {
        self.stop();
        (self.port, self.running) = start(self.home.path(), &format!("host_{kind}"));
    }

    /// Starts it again on its port.
    pub fn start_again(&mut self) {
        self.stop();
        let home = self.home.path();
        write_config(home, self.port, "host_ed25519");
        self.running = launch(home);
        while std::net::TcpStream::connect(("127.0.0.1", self.port)).is_err() {
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
    }
}

impl Drop for SshServer {
    fn drop(&mut self) {
        self.stop();
    }
}

/// The keys of all servers of a process, by the names of their files: to make those of RSA
/// takes longer than most tests.
fn keys() -> &'static [(OsString, Vec<u8>)] {
    static KEYS: OnceLock<Vec<(OsString, Vec<u8>)>> = OnceLock::new();
    KEYS.get_or_init(|| {
        let home = tempfile::tempdir().expect("a folder");
        for kind in ["ed25519", "ecdsa", "rsa"] {
            make_key(&home.path().join(format!("host_{kind}")), kind, "");
            make_key(&home.path().join(kind), kind, "");
        }
        make_key(&home.path().join("locked"), "ed25519", "lighthouse");
        let files = fs::read_dir(home.path()).expect("the keys").map(|file| file.expect("a key"));
        files.map(|file| (file.file_name(), fs::read(file.path()).expect("a key"))).collect()
    })
}

pub(crate) fn make_key(path: &Path, kind: &str, passphrase: &str) {
    run(Command::new("ssh-keygen").args(["-q", "-t", kind, "-N", passphrase, "-f"]).arg(path));
}

fn write_config(home: &Path, port: u16, first: &str) {
    let here = home.display();
    let mut config = format!("Port {port}\nListenAddress 127.0.0.1\nHostKey {here}/{first}\n");
    for kind in ["host_ecdsa", "host_rsa"] {
        if first == "host_ed25519" {
            config.push_str(&format!("HostKey {here}/{kind}\n"));
        }
    }
    config.push_str(&format!(
        "AuthorizedKeysFile {here}/authorized\nStrictModes no\nPermitRootLogin yes\n\
         PasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\n\
         MaxStartups 100:30:200\nMaxSessions 100\nPidFile none\nSubsystem sftp internal-sftp\n"
    ));
    fs::write(home.join("sshd_config"), config).expect("the configuration");
}

fn launch(home: &Path) -> Running {
    let log = fs::File::create(home.join("log")).expect("a log");
    Running::start(
        Command::new("/usr/sbin/sshd")
            .args(["-D", "-e", "-f"])
            .arg(home.join("sshd_config"))
            .stdout(Stdio::null())
            .stderr(log),
    )
}

fn start(home: &Path, first: &str) -> (u16, Running) {
    on_a_free_port(
        |port| {
            write_config(home, port, first);
            launch(home)
        },
        |stream| says(stream, "SSH-2.0-"),
    )
}
