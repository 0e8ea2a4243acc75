//! The `[service]` section.

use std::path::{Path, PathBuf};

use jiff::tz::TimeZone;

use crate::settings::keys::join;
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
    };
    let Some(mut section) = section else { return service };
    if let Some(listen) = section.text("listen") {
        if listen.value.parse::<std::net::SocketAddr>().is_err() {
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
    section.finish();
    service
}
