//! A server of files over SSH that asks questions instead of taking a password, as those with
//! one-time codes and those behind a directory do (RFC 4256).

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;

use russh::keys::{HashAlg, load_secret_key};
use russh::server::{Auth, ChannelOpenHandle, Config, Handler, Msg, Response, Session, run_stream};
use russh::{Channel, ChannelId};
use tokio::net::TcpListener;
use tokio::process::Command;
use tokio::runtime::Runtime;

use crate::ssh::make_key;

/// The server: `keeper` answers `lighthouse`.
pub struct AskingServer {
    _runtime: Runtime,
    host_key: String,
    folder: PathBuf,
    /// On loopback.
    pub port: u16,
}

/// One connection.
struct Connection {
    folder: PathBuf,
    channel: Option<Channel<Msg>>,
}

impl AskingServer {
    /// Starts one over a folder.
    pub fn start(folder: &Path) -> AskingServer {
        let keys = tempfile::tempdir().expect("a folder");
        make_key(&keys.path().join("key"), "ed25519", "");
        let key = load_secret_key(keys.path().join("key"), None).expect("a key");
        let host_key = key.public_key().fingerprint(HashAlg::Sha256).to_string();
        let config = Arc::new(Config { keys: vec![key], ..Config::default() });
        let runtime = tokio::runtime::Builder::new_multi_thread();
        let runtime = { runtime }.worker_threads(1).enable_all().build().expect("a runtime");
        let listener = runtime.block_on(TcpListener::bind("127.0.0.1:0")).expect("a port");
        let port = listener.local_addr().expect("its address").port();
        let home = folder.to_owned();
        runtime.spawn(async move {
            while let Ok((socket, _)) = listener.accept().await {
                let connection = Connection { folder: home.clone(), channel: None };
                let config = Arc::clone(&config);
                tokio::spawn(async move {
                    if let Ok(session) = run_stream(config, socket, connection).await {
                        // Who goes away in the middle is no fault of the server.
                        let _ = session.await;
                    }
                });
            }
        });
        AskingServer { _runtime: runtime, host_key, folder: folder.to_owned(), port }
    }

    /// Its address.
    pub fn address(&self) -> String {
        format!("sftp://keeper@127.0.0.1:{}{}", self.port, self.folder.display())
    }

    /// The fingerprint of its key.
    pub fn host_key(&self) -> String {
        self.host_key.clone()
    }
}

impl Handler for Connection {
    type Error = russh::Error;

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        user: &str,
        _submethods: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, Self::Error> {
        let Some(answers) = response else {
            let prompts = vec![(Cow::Borrowed("Word: "), false)];
            return Ok(Auth::Partial {
                name: "".into(),
                instructions: "".into(),
                prompts: Cow::Owned(prompts),
            });
        };
        let answers: Vec<_> = answers.collect();
        let right = user == "keeper" && answers.len() == 1 && &answers[0][..] == b"lighthouse";
        Ok(if right { Auth::Accept } else { Auth::reject() })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), Self::Error> {
        self.channel = Some(channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        id: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        let Some(channel) = self.channel.take().filter(|_| name == "sftp") else {
            return session.channel_failure(id);
        };
        session.channel_success(id)?;
        let mut server = Command::new("/usr/lib/openssh/sftp-server")
            .current_dir(&self.folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .expect("the server of files; is openssh-server there?");
        let (input, output) = (server.stdin.take(), server.stdout.take());
        let (mut input, mut output) = (input.expect("its input"), output.expect("its output"));
        let (mut from, mut to) = tokio::io::split(channel.into_stream());
        tokio::spawn(async move {
            // Either end may go first.
            tokio::select! {
                _ = tokio::io::copy(&mut from, &mut input) => {}
                _ = tokio::io::copy(&mut output, &mut to) => {}
            }
            drop(server);
        });
        Ok(())
    }
}
