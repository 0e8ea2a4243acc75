//! `serve`: the service in the foreground.

use vadegate_core::config::Config;
use vadegate_service::TOKEN_FILE;

use crate::failure::Failure;
use crate::service;

pub fn serve(mut config: Config, listen: Option<String>) -> Result<(), Failure> {
    if let Some(listen) = listen {
        if listen.parse::<std::net::SocketAddr>().is_err() {
            return Err(Failure::Wrong(format!(
                "`{listen}` is no address to listen on; expected an IP address and a port such as 127.0.0.1:7411"
            )));
        }
        config.service.listen = listen;
    }
    let token = config.service.state.join(TOKEN_FILE);
    service::run(config, |base| {
        eprintln!("Vadegate serves at {base}");
        eprintln!("Sign in to the console with the token in {}", token.display());
    })
}
