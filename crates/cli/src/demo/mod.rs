//! `demo`: the made-up coast of Skerrow Sound, in a folder of its own, with a
//! feeder that drops files as real suppliers do.

mod archives;
mod coast;
mod feeder;
mod morning;
mod office;
mod people;
mod pictures;
mod pilots;
mod soundings;

use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use vadegate_core::config::Config;
use vadegate_service::read_token;

use crate::args::Demo;
use crate::failure::Failure;
use crate::service;
use feeder::Feeder;

const CONFIGURATION: &str = include_str!("../../../../demo/vadegate.toml");
const PROGRAMS: [(&str, &str); 2] = [
    ("check-manifest", include_str!("../../../../demo/bin/check-manifest")),
    ("tell-desk", include_str!("../../../../demo/bin/tell-desk")),
];

/// Makes the demo's folders, starts the service over them, and feeds it.
pub fn demo(args: &Demo) -> Result<(), Failure> {
    let temporary = match &args.folder {
        Some(_) => None,
        None => Some(tempfile::Builder::new().prefix("vadegate-demo-").tempdir()?),
    };
    let folder: PathBuf = match (&args.folder, &temporary) {
        (Some(folder), _) => std::path::absolute(folder)?,
        (None, Some(temporary)) => temporary.path().to_owned(),
        (None, None) => return Err(Failure::Failed("there is no folder for the demo".into())),
    };
    let office = office::Office::open(&folder)?;
    let pilots = pilots::Pilots::open(&folder)?;
    make(&folder, &[office::rule(&office), pilots::rule(&pilots)])?;
    let mut config = Config::read(&folder.join("vadegate.toml"))?;
    config.service.listen = free_address(&args.listen)?;
    let mut feeder = Feeder::new(&folder, args.seed, args.pace);
    feeder.backlog()?;
    morning::excuse(config.clone())?;
    people::people(config.clone())?;
    let mut running = None;
    let served = service::run(config, |base| {
        announce(&folder, base, temporary.is_some());
        running = Some(feeder.start());
    });
    if let Some(running) = running {
        running.stop();
    }
    drop((office, pilots));
    served
}

fn make(folder: &Path, places: &[String]) -> Result<(), Failure> {
    let failed = |error: std::io::Error| {
        Failure::Failed(format!("the demo's folder `{}` cannot be made: {error}", folder.display()))
    };
    let write = || -> std::io::Result<()> {
        let drops = [
            "manifests",
            "sea-state",
            "soundings",
            "waves",
            "buoys",
            "charts",
            "cover-sheets",
            "scratch",
            "berths",
        ];
        for drop in drops {
            std::fs::create_dir_all(folder.join("drops").join(drop))?;
        }
        std::fs::create_dir_all(folder.join("bin"))?;
        for station in coast::STATIONS {
            std::fs::create_dir_all(folder.join("drops/tide").join(station.id))?;
        }
        let configuration = format!("{CONFIGURATION}{}{}", morning::rule(), places.concat());
        std::fs::write(folder.join("vadegate.toml"), configuration)?;
        for (name, text) in PROGRAMS {
            let program = folder.join("bin").join(name);
            std::fs::write(&program, text)?;
            std::fs::set_permissions(&program, PermissionsExt::from_mode(0o755))?;
        }
        Ok(())
    };
    write().map_err(failed)
}

/// The address asked for, or a free port of the same host when it is taken.
fn free_address(wanted: &str) -> Result<String, Failure> {
    let address: std::net::SocketAddr = wanted.parse().map_err(|_| {
        Failure::Wrong(format!(
            "`{wanted}` is no address to listen on; expected an IP address and a port such as 127.0.0.1:7411"
        ))
    })?;
    Ok(match TcpListener::bind(address) {
        Ok(_) => wanted.to_owned(),
        Err(_) => std::net::SocketAddr::new(address.ip(), 0).to_string(),
    })
}

fn announce(folder: &Path, base: &str, temporary: bool) {
    // The part after `#` stays in the browser: it is never sent or logged.
    let token = read_token(&folder.join("state")).unwrap_or_default();
    let end = if temporary {
        "Ctrl-C ends the demo and removes its folder."
    } else {
        "Ctrl-C ends the demo."
    };
    let shown = folder.display();
    // Whoever started it may have closed the output; it goes on all the same.
    let _ = writeln!(
        std::io::stdout(),
        "\n  The coast of Skerrow Sound is at work in {shown}\n\n  \
         Open     {base}/sign-in#{token}\n  \
         Or       {}\n  \
         Ask      vadegate --config {shown}/vadegate.toml gates\n  \
         Drop     files of your own into {shown}/drops\n\n  {end}\n",
        people::told()
    );
}
