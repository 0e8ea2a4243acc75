//! A server of FTP, in clear and over TLS.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::{Running, certificate, first_line};

/// The server, which prints its port.
const PROGRAM: &str = r#"
import os, stat, sys
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.filesystems import AbstractedFS
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.servers import ThreadedFTPServer
root, words, tls = sys.argv[1], set(sys.argv[2].split()), sys.argv[3]
lie = 7 if "bigger" in words else -7 if "smaller" in words else 2**64 - 100 if "huge" in words else 0
ahead = 6 * 3600 if "ahead" in words else -9 * 3600 if "behind" in words else 0
authorizer = DummyAuthorizer()
authorizer.add_user("keeper", "lighthouse", root, perm="elradfmwMT")
authorizer.add_user("reader", "lighthouse", root, perm="elr")
class Files(AbstractedFS):
    def told(self, found):
        if not stat.S_ISREG(found.st_mode):
            return found
        whole = list(found)[:10]
        whole[6] += lie
        whole[8] += ahead
        return os.stat_result(whole)
    def stat(self, path):
        return self.told(super().stat(path))
    def lstat(self, path):
        return self.told(super().lstat(path))
    def getsize(self, path):
        return self.stat(path).st_size
    def getmtime(self, path):
        return self.stat(path).st_mtime
class Handler(TLS_FTPHandler if tls else FTPHandler):
    def handle(self):
        if "implicit" in words:
            self.secure_connection(self.ssl_context)
        else:
            super().handle()
    def handle_ssl_established(self):
        if "implicit" in words:
            FTPHandler.handle(self)
Handler.authorizer = authorizer
Handler.abstracted_fs = Files
Handler.use_sendfile = False
if tls:
    Handler.certfile, Handler.keyfile = tls + ".pem", tls + ".key"
    Handler.tls_control_required = "implicit" not in words
    Handler.tls_data_required = True
without = set()
if "old" in words:
    without |= {"MLSD", "MLST"}
if "no-times" in words:
    without |= {"MDTM", "MFMT"}
if "no-rename" in words:
    without |= {"RNFR", "RNTO"}
Handler.proto_cmds = {k: v for k, v in Handler.proto_cmds.items() if k not in without}
server = ThreadedFTPServer(("127.0.0.1", 0), Handler)
server.max_cons = 512
print(server.address[1], flush=True)
server.serve_forever()
"#;

/// A server of FTP: `keeper` may write, `reader` only read; both say `lighthouse`.
pub struct FtpServer {
    home: tempfile::TempDir,
    _running: Running,
    secure: bool,
    /// On loopback.
    pub port: u16,
}

impl FtpServer {
    /// Starts one over a folder; with `facts` it tells facts of files (`MLSD`).
    pub fn start(root: &Path, secure: bool, facts: bool) -> FtpServer {
        FtpServer::odd(root, secure, if facts { "" } else { "old" })
    }

    /// Starts one with oddities: `implicit` over TLS, `old` without facts, `no-times`,
    /// `no-rename`, `bigger`, `smaller` and `huge` where lengths are lies, `ahead` and `behind` where
    /// its clock is hours off.
    pub fn odd(root: &Path, secure: bool, words: &str) -> FtpServer {
        let home = tempfile::tempdir().expect("a folder");
        let program = home.path().join("server.py");
        fs::write(&program, PROGRAM).expect("the program");
        let tls = if secure {
            certificate(home.path());
            home.path().join("server").display().to_string()
        } else {
            String::new()
        };
        let mut running = Running::start(
            Command::new("/usr/bin/python3")
                .arg(program)
                .arg(root)
                .arg(words)
                .arg(tls)
                .stdout(Stdio::piped())
                .stderr(Stdio::null()),
        );
        let port = first_line(&mut running).parse().expect("a port; is python3-pyftpdlib there?");
        FtpServer { home, _running: running, secure, port }
    }

    /// Its address.
    pub fn address(&self, folder: &str) -> String {
        let scheme = if self.secure { "ftps" } else { "ftp" };
        format!("{scheme}://keeper@127.0.0.1:{}{folder}", self.port)
    }

    /// The certificate by which it is known.
    pub fn certificate(&self) -> PathBuf {
        self.home.path().join("server.pem")
    }
}
