//! A server of FTP, in clear and over TLS.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::{Running, certificate, first_line};

/// The server, which prints its port.
const PROGRAM: &str = r#"
import sys
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.servers import ThreadedFTPServer
root, tls, facts = sys.argv[1], sys.argv[2], sys.argv[3]
authorizer = DummyAuthorizer()
authorizer.add_user("keeper", "lighthouse", root, perm="elradfmwMT")
authorizer.add_user("reader", "lighthouse", root, perm="elr")
kind = TLS_FTPHandler if tls else FTPHandler
class Handler(kind):
    pass
Handler.authorizer = authorizer
Handler.use_sendfile = False
if tls:
    Handler.certfile, Handler.keyfile = tls + ".pem", tls + ".key"
    Handler.tls_control_required = Handler.tls_data_required = True
if not facts:
    Handler.proto_cmds = {k: v for k, v in Handler.proto_cmds.items() if k not in ("MLSD", "MLST")}
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
                .arg(tls)
                .arg(if facts { "yes" } else { "" })
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
