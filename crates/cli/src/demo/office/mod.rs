//! The harbour office's own server: a small server of SFTP on loopback over a folder of the
//! demo, so that fetching and delivering are seen without any other.

mod files;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use russh::keys::{Algorithm, HashAlg, PrivateKey};
use russh::server::{Auth, ChannelOpenHandle, Msg, Server as _, Session};
use russh::{Channel, ChannelId};
use tokio::net::TcpListener;

use crate::failure::Failure;
use files::Files;

/// The part of the configuration that has the office: its address and its key are of today.
pub fn rule(office: &Office) -> String {
    format!(
        r#"
# The harbour office keeps its berth lists on a server of its own (here a stand-in, on this
# machine): they are fetched, a receipt of each goes back, and the pilots get them too.
[place.harbour-office]
at       = "sftp://keeper@127.0.0.1:{port}"
password = {{ file = "office.password" }}
host_key = "{host_key}"

[gate.berths]
drop    = "drops/berths"
take    = ["berths_<day:%Y%m%d>_<number>.csv"]
archive = {{ into = "archive/berths" }}

[gate.berths.fetch]
place  = "harbour-office"
folder = "berths"
every  = "5s"
settle = "2s"
after  = {{ move = "fetched" }}

[gate.berths.deliver]
to = [
  "out/berths",
  {{ place = "harbour-office", into = "receipts/<name>" }},
  {{ place = "pilots", into = "<day:%Y-%m>/<name>" }},
]
"#,
        port = office.port,
        host_key = office.host_key,
    )
}

/// The server, until it is dropped.
pub struct Office {
    port: u16,
    host_key: String,
    runtime: Option<tokio::runtime::Runtime>,
}

impl Office {
    /// Starts it over the folder `office` of the demo; its password is a file beside the
    /// configuration.
    pub fn open(folder: &Path) -> Result<Office, Failure> {
        let failed =
            |why: String| Failure::Failed(format!("the demo's own server does not start: {why}"));
        let root = folder.join("office");
        std::fs::create_dir_all(root.join("berths"))?;
        let mut random = [0_u8; 16];
        rand::fill(&mut random);
        let password: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        std::fs::write(folder.join("office.password"), format!("{password}\n"))?;
        let seed: [u8; 32] = rand::random();
        let key = russh::keys::ssh_key::private::Ed25519Keypair::from_seed(&seed);
        let key = PrivateKey::from(key);
        debug_assert_eq!(key.algorithm(), Algorithm::Ed25519);
        let host_key = key.public_key().fingerprint(HashAlg::Sha256).to_string();
        let config = russh::server::Config {
            auth_rejection_time: Duration::from_millis(200),
            keys: vec![key],
            nodelay: true,
            ..russh::server::Config::default()
        };
        let mut builder = tokio::runtime::Builder::new_multi_thread();
        let runtime = builder.worker_threads(1).thread_name("office").enable_all().build();
        let runtime = runtime.map_err(|error| failed(error.to_string()))?;
        let listener = runtime.block_on(TcpListener::bind("127.0.0.1:0"));
        let listener = listener.map_err(|error| failed(error.to_string()))?;
        let port = listener.local_addr().map_err(|error| failed(error.to_string()))?.port();
        let mut server = Server { root, password };
        runtime.spawn(async move {
            if let Err(error) = server.run_on_socket(Arc::new(config), &listener).await {
                tracing::error!("the demo's own server has ended: {error}");
            }
        });
        Ok(Office { port, host_key, runtime: Some(runtime) })
    }
}

impl Drop for Office {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

#[derive(Clone)]
struct Server {
    root: PathBuf,
    password: String,
}

impl russh::server::Server for Server {
    type Handler = Visitor;

    fn new_client(&mut self, _: Option<std::net::SocketAddr>) -> Visitor {
        Visitor { server: self.clone(), channel: None }
    }
}

/// Somebody who is connected.
struct Visitor {
    server: Server,
    channel: Option<Channel<Msg>>,
}

impl russh::server::Handler for Visitor {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        let known = user == "keeper" && password == self.server.password;
        Ok(if known { Auth::Accept } else { Auth::reject() })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), russh::Error> {
        self.channel = Some(channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        id: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        match self.channel.take().filter(|_| name == "sftp") {
            Some(channel) => {
                session.channel_success(id)?;
                let files = Files::of(self.server.root.clone());
                russh_sftp::server::run(channel.into_stream(), files).await;
                Ok(())
            }
            None => session.channel_failure(id),
        }
    }
}
