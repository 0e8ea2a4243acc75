//! Servers of open protocols for the tests: each is started on a free port of loopback, without
//! root, and goes when it is dropped. What goes wrong at their start ends the test.

mod asking;
mod bucket;
mod dav;
mod ftp;
mod proxy;
mod ssh;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

pub use asking::AskingServer;
pub use bucket::BucketServer;
pub use dav::DavServer;
pub use ftp::FtpServer;
pub use proxy::{Proxy, Trouble};
pub use ssh::SshServer;

/// A process that ends when it is dropped.
pub(crate) struct Running(Child);

impl Running {
    fn start(command: &mut Command) -> Running {
        let started = command.stdin(Stdio::null()).spawn();
        Running(started.unwrap_or_else(|error| panic!("{command:?} does not start: {error}")))
    }

    /// Whether it has ended, for example because another had the port first.
    fn has_ended(&mut self) -> bool {
        self.0.try_wait().is_ok_and(|ended| ended.is_some())
    }

    /// Ends it at once.
    pub fn kill(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.kill();
    }
}

/// A port that nobody has now.
pub(crate) fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
    listener.local_addr().expect("its address").port()
}

/// Starts a server on a free port, again if another was quicker, until it answers.
pub(crate) fn on_a_free_port(
    start: impl Fn(u16) -> Running,
    answers: impl Fn(&mut TcpStream) -> bool,
) -> (u16, Running) {
    for _ in 0..10 {
        let port = free_port();
        let mut running = start(port);
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(20) && !running.has_ended() {
            if let Ok(mut stream) = TcpStream::connect(("127.0.0.1", port)) {
                let _ = stream.set_read_timeout(Some(Duration::from_secs(5)));
                if answers(&mut stream) {
                    return (port, running);
                }
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
    panic!("a server does not start on any port");
}

/// Whether what a server says first begins so.
pub(crate) fn says(stream: &mut TcpStream, beginning: &str) -> bool {
    let mut said = vec![0; beginning.len()];
    stream.read_exact(&mut said).is_ok() && said == beginning.as_bytes()
}

/// Whether a server answers a request of HTTP.
pub(crate) fn answers_http(stream: &mut TcpStream) -> bool {
    stream.write_all(b"OPTIONS / HTTP/1.0\r\n\r\n").is_ok() && says(stream, "HTTP/1.")
}

/// Runs a command to its end.
pub(crate) fn run(command: &mut Command) {
    let output = command.output();
    let output = output.unwrap_or_else(|error| panic!("{command:?} does not start: {error}"));
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// Makes a certificate for loopback that vouches for itself, and its key.
pub(crate) fn certificate(folder: &Path) -> (std::path::PathBuf, std::path::PathBuf) {
    let (certificate, key) = (folder.join("server.pem"), folder.join("server.key"));
    run(Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2"])
        .args(["-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1"])
        .args(["-addext", "basicConstraints=critical,CA:FALSE"])
        .arg("-keyout")
        .arg(&key)
        .arg("-out")
        .arg(&certificate));
    (certificate, key)
}

/// The first line that a process prints.
pub(crate) fn first_line(running: &mut Running) -> String {
    let output = running.0.stdout.take().expect("its output");
    let mut line = String::new();
    let mut lines = BufReader::new(output);
    lines.read_line(&mut line).expect("a line");
    // Whatever it prints later must not stop it.
    std::thread::spawn(move || std::io::copy(&mut lines, &mut std::io::sink()));
    line.trim().to_owned()
}
