//! A server of WebDAV.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::{Running, answers_http, on_a_free_port};

/// A server of WebDAV, in which `keeper` signs in with `lighthouse`.
pub struct DavServer {
    _home: tempfile::TempDir,
    _running: Running,
    /// On loopback.
    pub port: u16,
}

const MODULES: [&str; 9] = [
    "mpm_event",
    "authn_core",
    "authn_file",
    "authz_core",
    "authz_user",
    "auth_basic",
    "dav",
    "dav_fs",
    "unixd",
];

impl DavServer {
    /// Starts one over a folder.
    pub fn start(root: &Path) -> DavServer {
        let home = tempfile::tempdir().expect("a folder");
        let at = home.path();
        let all = std::os::unix::fs::PermissionsExt::from_mode(0o777);
        fs::set_permissions(at, all).expect("a folder for its locks");
        let hash = Command::new("openssl").args(["passwd", "-apr1", "lighthouse"]).output();
        let hash = String::from_utf8(hash.expect("a hash").stdout).expect("text");
        fs::write(at.join("users"), format!("keeper:{hash}")).expect("the users");
        let (port, running) = on_a_free_port(
            |port| {
                fs::write(at.join("httpd.conf"), config(at, root, port)).expect("configuration");
                Running::start(
                    Command::new("/usr/sbin/apache2")
                        .args(["-X", "-f"])
                        .arg(at.join("httpd.conf"))
                        .stdout(Stdio::null())
                        .stderr(Stdio::null()),
                )
            },
            answers_http,
        );
        DavServer { _home: home, _running: running, port }
    }

    /// Its address.
    pub fn address(&self, folder: &str) -> String {
        format!("webdav://keeper@127.0.0.1:{}{folder}", self.port)
    }
}

fn config(at: &Path, root: &Path, port: u16) -> String {
    let mut config = String::new();
    for module in MODULES {
        let built_in = ["unixd"].contains(&module);
        let file = format!("/usr/lib/apache2/modules/mod_{module}.so");
        if !built_in || fs::metadata(&file).is_ok() {
            config.push_str(&format!("LoadModule {module}_module {file}\n"));
        }
    }
    let (at, root) = (at.display(), root.display());
    // It must not run as root; whoever runs the tests may be that.
    config.push_str(&format!(
        "ServerName localhost\nListen 127.0.0.1:{port}\nPidFile {at}/pid\nErrorLog {at}/log\n\
         ServerRoot {at}\nDocumentRoot {root}\nDAVLockDB {at}/locks\nDAVMinTimeout 1\n\
         LimitRequestBody 0\nLimitXMLRequestBody 0\nTimeout 30\nKeepAlive On\n\
         User #{user}\nGroup #{group}\n\
         <Directory \"{root}\">\nDav On\nAuthType Basic\nAuthName files\n\
         AuthBasicProvider file\nAuthUserFile {at}/users\nRequire valid-user\n</Directory>\n",
        user = owner(&at.to_string()).0,
        group = owner(&at.to_string()).1,
    ));
    config
}

/// Who owns a folder; root gives way to nobody, to whom the folders are given.
fn owner(path: &str) -> (u32, u32) {
    use std::os::unix::fs::MetadataExt;
    let meta = fs::metadata(path).expect("the folder");
    if meta.uid() == 0 { (65534, 65534) } else { (meta.uid(), meta.gid()) }
}
