//! The `[service]` section.

use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::tz::TimeZone;

use crate::settings::keys::{duration, join};
use crate::settings::reader::Section;

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
    /// Folders that lookouts may look at, beside the roots. Default none.
    pub look: Vec<PathBuf>,
    /// Names of hosts under which it may be called, beside the address that it
    /// listens on and the local ones; a request for another is refused. Default
    /// none.
    pub hosts: Vec<String>,
    /// Under which address people reach the page, for links in what they are told. Default:
    /// none are told.
    pub address: Option<String>,
    /// Time zone of dates in templates. Default `Etc/UTC`.
    pub timezone: TimeZone,
    /// Certificate and key with which it speaks TLS itself. Default: it speaks none.
    pub tls: Option<TlsFiles>,
    /// Whether something before it speaks TLS for it. Default `false`.
    pub behind_proxy: bool,
    /// Addresses of what stands before it, which are believed when they say from where a
    /// request comes (`Forwarded`, RFC 7239). Default none.
    pub proxies: Vec<IpAddr>,
    /// How long lines of the audit log are kept. Default: for ever.
    pub audit_for: Option<Duration>,
}

/// Files in PEM.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TlsFiles {
    /// The certificate, and those that vouch for it, in their order.
    pub certificate: PathBuf,
    /// Its private key.
    pub key: PathBuf,
}

impl ServiceConfig {
    /// Whether it listens where others than this machine can reach it.
    pub fn is_open(&self) -> bool {
        let address = self.listen.parse::<SocketAddr>();
        !address.is_ok_and(|address| address.ip().is_loopback())
    }
}

pub(crate) fn read(section: Option<Section<'_>>, folder: &Path) -> ServiceConfig {
    let mut service = ServiceConfig {
        listen: "127.0.0.1:7411".into(),
        state: join(folder, "state"),
        roots: vec![folder.to_owned()],
        look: Vec::new(),
        hosts: Vec::new(),
        address: None,
        timezone: TimeZone::UTC,
        tls: None,
        behind_proxy: false,
        proxies: Vec::new(),
        audit_for: None,
    };
    let Some(mut section) = section else { return service };
    if let Some(listen) = section.text("listen") {
        if listen.value.parse::<SocketAddr>().is_err() {
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
    if let Some(look) = section.texts("look") {
        service.look = look.iter().map(|one| join(folder, &one.value)).collect();
    }
    if let Some(hosts) = section.texts("hosts") {
        service.hosts = hosts.into_iter().map(|host| host.value.to_lowercase()).collect();
    }
    if let Some(address) = section.text("address") {
        if !address.value.starts_with("http://") && !address.value.starts_with("https://") {
            address.at.fault(format!(
                "`address` is \"{}\"; expected one such as \"https://gate.sound.example\"",
                address.value
            ));
        }
        service.address = Some(address.value.trim_end_matches('/').to_owned());
    }
    if let Some(zone) = section.text("timezone") {
        match TimeZone::get(&zone.value) {
            Ok(found) => service.timezone = found,
            Err(_) => zone.at.fault(format!("the time zone `{}` is not known; expected a name such as \"Etc/UTC\" or \"Atlantic/Faroe\"", zone.value)),
        }
    }
    read_safety(&mut section, folder, &mut service);
    section.finish();
    service
}

/// Who reaches it, and what is kept of what they did.
fn read_safety(section: &mut Section<'_>, folder: &Path, service: &mut ServiceConfig) {
    service.behind_proxy = section.flag("behind_proxy").unwrap_or_default();
    for proxy in section.texts("proxies").unwrap_or_default() {
        match proxy.value.parse() {
            Ok(address) => service.proxies.push(address),
            Err(_) => proxy.at.fault(format!(
                "`{}` is no IP address; `proxies` names what stands before the service",
                proxy.value
            )),
        }
    }
    if !service.proxies.is_empty() && !service.behind_proxy {
        let why = "`proxies` are believed only with `behind_proxy = true`";
        section.fault_at("proxies", why.into());
    }
    service.audit_for = duration(section, "audit_for");
    if let Some(mut tls) = section.section("tls") {
        let mut file = |key| tls.text(key).map(|path| join(folder, &path.value));
        match (file("certificate"), file("key")) {
            (Some(certificate), Some(key)) => service.tls = Some(TlsFiles { certificate, key }),
            _ => tls
                .fault_here("[service.tls] has `certificate` and `key`, each a file in PEM".into()),
        }
        tls.finish();
    }
    if service.is_open() && service.tls.is_none() && !service.behind_proxy {
        section.fault_at(
            "listen",
            "others could reach this address, and listen: write [service.tls] with `certificate` \
             and `key`, or `behind_proxy = true` when something before it speaks TLS"
                .into(),
        );
    }
}
