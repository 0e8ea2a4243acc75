//! Which service is asked, and by whom, where the command line says so.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use vadegate_core::ask::GateView;
use vadegate_core::config::Config;
use vadegate_service::ServiceInfo;

use super::remote::Remote;
use crate::args::Which;
use crate::failure::Failure;

/// What the command line says.
#[derive(Debug, Default)]
pub struct Asked {
    /// The address of a service.
    pub service: Option<String>,
    /// A token, in place of that of the state folder.
    pub token: Option<String>,
    /// Who is trusted to vouch for the service, beside those of the system.
    pub certificates: Option<PathBuf>,
}

static ASKED: OnceLock<Asked> = OnceLock::new();

/// What the command line says.
pub fn asked() -> &'static Asked {
    ASKED.get_or_init(Asked::default)
}

/// Takes what the command line and the environment say, for the rest of the command.
pub fn ask(which: &Which) -> Result<(), Failure> {
    let token = match &which.token_file {
        Some(file) => Some(std::fs::read_to_string(file).map_err(|error| {
            Failure::Wrong(format!("the token `{}` cannot be read: {error}", file.display()))
        })?),
        None => std::env::var("VADEGATE_TOKEN").ok(),
    };
    let token = token.map(|token| token.trim().to_owned()).filter(|token| !token.is_empty());
    if which.service.is_some() && token.is_none() {
        return Err(Failure::Wrong(
            "a service elsewhere wants a token: name its file with --token-file, or set VADEGATE_TOKEN; `vadegate token new` makes one there".into(),
        ));
    }
    if let Some(service) = &which.service
        && !service.starts_with("http://")
        && !service.starts_with("https://")
    {
        return Err(Failure::Wrong(format!(
            "`{service}` is no address of a service; expected one such as https://gate.sound.example"
        )));
    }
    let (service, certificates) = (which.service.clone(), which.certificates.clone());
    let _ = ASKED.set(Asked { service, token, certificates });
    Ok(())
}

/// The configuration by which a command works: for a service elsewhere only its time zone.
pub fn config(file: &Path) -> Result<Config, Failure> {
    let Some(remote) = Remote::elsewhere()? else { return Ok(Config::read(file)?) };
    let info: ServiceInfo = remote.get("/api/v1/service", &[])?;
    let text = format!("[service]\ntimezone = {:?}\n", info.timezone);
    Ok(Config::parse(file, &text)?)
}

/// Who does it: as said, or the user of this process.
pub fn who(by: Option<&str>) -> Option<String> {
    if by.is_none() && asked().token.is_some() {
        return None;
    }
    let named = || ["LOGNAME", "USER"].iter().find_map(|name| std::env::var(name).ok());
    let who = by.map(str::to_owned).or_else(named).filter(|who| !who.trim().is_empty());
    Some(who.unwrap_or_else(|| {
        // The number of the user, where no name is known.
        use std::os::unix::fs::MetadataExt;
        let user = std::fs::metadata("/proc/self").map_or(0, |meta| meta.uid());
        format!("user {user}")
    }))
}

/// The gates that there are: of a service elsewhere its own, which no file here names.
pub fn gate_names(config: &Config) -> Result<Vec<String>, Failure> {
    let Some(remote) = Remote::elsewhere()? else {
        return Ok(config.gates.iter().map(|gate| gate.name.clone()).collect());
    };
    let gates: Vec<GateView> = remote.get("/api/v1/gates", &[])?;
    Ok(gates.into_iter().map(|gate| gate.name).collect())
}
