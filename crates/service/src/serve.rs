//! Starting and stopping the service.

use std::io;
use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use actix_web::middleware::{Compress, from_fn};
use actix_web::{App, HttpServer, web};
use rustix::process::{Resource, Rlimit};
use tokio::signal::unix::{Signal, SignalKind, signal};
use vadegate_core::engine::{ADDRESS_FILE, Engine, EngineError};
use vadegate_core::watch::Watch;

use crate::guard::{BODY_LIMIT, guard};
use crate::live::Live;
use crate::problem::Problem;
use crate::sessions::Sessions;
use crate::token::{Token, TokenError};
use crate::{Shared, api, console, settings};

/// Threads that answer.
const WORKERS: usize = 2;

/// Connections at a time at the most, however many files may be open.
const MOST_CONNECTIONS: usize = 2048;

/// How long requests under way may take to end when the service stops, in
/// seconds.
const PATIENCE: u64 = 5;

/// Why the service did not start, or ended.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The address cannot be listened on.
    #[error(
        "cannot listen on `{address}`: {source}; give `listen` in [service] another port, or stop what has this one"
    )]
    Listen {
        /// The address.
        address: String,
        /// Why.
        source: io::Error,
    },
    /// The token cannot be used.
    #[error(transparent)]
    Token(#[from] TokenError),
    /// The engine did not start.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// The address could not be written for the clients.
    #[error("the address cannot be written into the state folder: {0}")]
    Address(io::Error),
    /// The server failed.
    #[error("the HTTP server failed: {0}")]
    Server(io::Error),
}

/// Starts the engine's gates and serves until SIGTERM or SIGINT, then ends, or
/// cleanly abandons, what is under way. `ready` is told the base address once
/// requests are answered.
///
/// # Errors
/// [`ServeError`].
pub fn serve(engine: Engine, ready: impl FnOnce(&str)) -> Result<(), ServeError> {
    let config = engine.config().service.clone();
    let token = Token::of(&config.state)?;
    let listen = |source| ServeError::Listen { address: config.listen.clone(), source };
    let listener = TcpListener::bind(&config.listen).map_err(listen)?;
    let address = listener.local_addr().map_err(listen)?;
    let live = Live::new();
    let pulses = live.sender();
    engine.listen(move |pulse| {
        // Nobody listening is no fault.
        let _ = pulses.send(pulse);
    });
    let engine = Arc::new(engine);
    let watch = Watch::start(&engine).map_err(ServeError::Server)?;
    engine.start()?;
    let mut hosts = config.hosts;
    hosts.push(match address.ip() {
        std::net::IpAddr::V6(ip) => format!("[{ip}]"),
        ip => ip.to_string(),
    });
    let sessions = Sessions::of(&config.state);
    let connections = connections();
    let port = address.port();
    let shared = web::Data::new(Shared { engine, live, token, sessions, port, hosts });
    let base = format!("http://{address}");
    let place = config.state.join(ADDRESS_FILE);
    let served = actix_web::rt::System::new().block_on(async {
        let server = start(listener, shared.clone(), connections).map_err(ServeError::Server)?;
        write_address(&place, &base).map_err(ServeError::Address)?;
        // Before anybody can know of us: until it is listened to, a signal would
        // end the process where it stands.
        let mut ends = Ends::listen().map_err(ServeError::Server)?;
        let hangup = settings::hangup().map_err(ServeError::Server)?;
        ready(&base);
        let handle = server.handle();
        let running = actix_web::rt::spawn(server);
        let following = actix_web::rt::spawn(settings::follow(Arc::clone(&shared.engine), hangup));
        let clearing = actix_web::rt::spawn(clear_by_the_clock(Arc::clone(&shared.engine)));
        ends.told().await;
        following.abort();
        clearing.abort();
        tracing::info!("stopping");
        let engine = Arc::clone(&shared.engine);
        // Requests are still answered while the gates end what they do.
        let _ = web::block(move || {
            engine.stop();
            drop(watch);
        })
        .await;
        shared.live.close();
        handle.stop(true).await;
        running.await.map_err(io::Error::other).and_then(|ended| ended).map_err(ServeError::Server)
    });
    // A client would otherwise knock at a door that is closed.
    let _ = std::fs::remove_file(&place);
    served
}

/// How often is asked whether the time of a clear has come.
const CLEAR_LOOK: Duration = Duration::from_secs(5);

/// Runs each clear whose time has come, until it is aborted.
async fn clear_by_the_clock(engine: Arc<Engine>) {
    loop {
        tokio::time::sleep(CLEAR_LOOK).await;
        let engine = Arc::clone(&engine);
        let cleared = web::block(move || engine.clear_what_is_due()).await;
        match cleared {
            Ok(Ok(all)) => {
                for one in all {
                    let (rule, files) = (&one.rule, one.removed.len());
                    tracing::info!(rule, files, "cleared");
                    for problem in &one.problems {
                        tracing::warn!(rule, "not cleared: {problem}");
                    }
                }
            }
            Ok(Err(error)) => tracing::warn!("what is due cannot be cleared: {error}"),
            Err(_) => {}
        }
    }
}

fn write_address(place: &std::path::Path, base: &str) -> io::Result<()> {
    let fresh = place.with_extension("new");
    std::fs::write(&fresh, format!("{base}\n"))?;
    std::fs::rename(&fresh, place)
}

/// The signals that end the service.
struct Ends {
    term: Signal,
    int: Signal,
}

impl Ends {
    fn listen() -> io::Result<Self> {
        let (term, int) = (SignalKind::terminate(), SignalKind::interrupt());
        Ok(Ends { term: signal(term)?, int: signal(int)? })
    }

    async fn told(&mut self) {
        tokio::select! {
            _ = self.term.recv() => {}
            _ = self.int.recv() => {}
        }
    }
}

/// Descriptors that are left for gates, ledger and databases.
const FOR_GATES: u64 = 512;

/// Raises the limit of open files as far as it may be, and gives how many connections
/// there may be at a time, so that descriptors are left for the gates.
fn connections() -> usize {
    let resource = Resource::Nofile;
    let mut limit = rustix::process::getrlimit(resource);
    if limit.current < limit.maximum || limit.maximum.is_none() {
        let raised = Rlimit { current: limit.maximum.or(limit.current), ..limit };
        match rustix::process::setrlimit(resource, raised) {
            Ok(()) => limit = raised,
            Err(error) => tracing::warn!("the limit of open files cannot be raised: {error}"),
        }
    }
    let files = limit.current.unwrap_or(u64::MAX);
    let free = files.saturating_sub(FOR_GATES).max(files / 4);
    usize::try_from(free).unwrap_or(MOST_CONNECTIONS).clamp(32, MOST_CONNECTIONS)
}

fn start(
    listener: TcpListener,
    shared: web::Data<Shared>,
    connections: usize,
) -> io::Result<actix_web::dev::Server> {
    let app = move || {
        let unread = |error: String| -> actix_web::Error { Problem::bad_request(error).into() };
        App::new()
            .app_data(shared.clone())
            .app_data(web::PayloadConfig::new(BODY_LIMIT))
            .app_data(
                web::JsonConfig::default()
                    .limit(BODY_LIMIT)
                    .error_handler(move |error, _| unread(format!("the body: {error}"))),
            )
            .app_data(
                web::QueryConfig::default()
                    .error_handler(move |error, _| unread(format!("the query: {error}"))),
            )
            .app_data(
                web::PathConfig::default()
                    .error_handler(move |error, _| unread(format!("the path: {error}"))),
            )
            .wrap(from_fn(guard))
            .wrap(Compress::default())
            .configure(api::routes)
            .default_service(web::to(console::serve))
    };
    Ok(HttpServer::new(app)
        .workers(WORKERS)
        .max_connections(connections / WORKERS)
        .disable_signals()
        .shutdown_timeout(PATIENCE)
        .listen(listener)?
        .run())
}
