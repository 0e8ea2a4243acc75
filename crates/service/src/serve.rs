//! Starting and stopping the service.

use std::io;
use std::net::{IpAddr, SocketAddr, TcpListener};
use std::sync::Arc;
use std::time::Duration;

use actix_web::middleware::{Compress, from_fn};
use actix_web::{App, HttpServer, web};
use rustix::process::{Resource, Rlimit};
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::Semaphore;
use vadegate_core::config::service::ServiceConfig;
use vadegate_core::engine::{ADDRESS_FILE, Engine, EngineError};
use vadegate_core::people::People;
use vadegate_core::watch::Watch;

use crate::attempts::Attempts;
use crate::guard::{BODY_LIMIT, guard};
use crate::limits::Limits;
use crate::live::Live;
use crate::problem::Problem;
use crate::record::Record;
use crate::tls::{Certificates, TlsError};
use crate::token::{Token, TokenError};
use crate::{Shared, api, console, settings};

/// Passwords that are checked at a time: each takes 64 MiB, and a core.
const CHECKS: usize = 2;

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
    /// Others could reach it, and listen.
    #[error(
        "others could reach `{address}`, and listen; write [service.tls] with `certificate` and `key`, or `behind_proxy = true` when something before it speaks TLS"
    )]
    Open {
        /// The address.
        address: String,
    },
    /// Others could reach it, and nobody could sign in.
    #[error(
        "others could reach `{address}`, and there is no user; add one first: `vadegate user add NAME --role admin`"
    )]
    NoUser {
        /// The address.
        address: String,
    },
    /// There is no TLS.
    #[error(transparent)]
    Tls(#[from] TlsError),
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
    let people = Arc::new(engine.ask(People::read).map_err(EngineError::from)?);
    // Sessions were kept there before they were in the ledger.
    let _ = std::fs::remove_file(config.state.join("sessions"));
    let listen = |source| ServeError::Listen { address: config.listen.clone(), source };
    let listener = TcpListener::bind(&config.listen).map_err(listen)?;
    let address = listener.local_addr().map_err(listen)?;
    let certificates = config.tls.as_ref().map(Certificates::read).transpose()?;
    check_safety(&config, address.ip(), &people)?;
    let live = Live::new();
    let pulses = live.sender();
    engine.listen(move |pulse| {
        // Nobody listening is no fault.
        let _ = pulses.send(pulse);
    });
    let engine = Arc::new(engine);
    let watch = Watch::start(&engine).map_err(ServeError::Server)?;
    engine.start()?;
    engine.tidy_uploads()?;
    let connections = connections();
    let state = config.state.clone();
    let shared = web::Data::new(shared((engine, live), (token, people), config, address));
    let scheme = if certificates.is_some() { "https" } else { "http" };
    let base = format!("{scheme}://{address}");
    let place = state.join(ADDRESS_FILE);
    let served = actix_web::rt::System::new().block_on(async {
        let server = start(listener, shared.clone(), connections, certificates.as_ref());
        let server = server.map_err(ServeError::Server)?;
        write_address(&place, &base).map_err(ServeError::Address)?;
        // Before anybody can know of us: until it is listened to, a signal would
        // end the process where it stands.
        let mut ends = Ends::listen().map_err(ServeError::Server)?;
        let hangup = settings::hangup().map_err(ServeError::Server)?;
        ready(&base);
        let handle = server.handle();
        let running = actix_web::rt::spawn(server);
        let mut beside = vec![
            actix_web::rt::spawn(settings::follow(Arc::clone(&shared.engine), hangup)),
            actix_web::rt::spawn(clear_by_the_clock(Arc::clone(&shared.engine))),
            actix_web::rt::spawn(drop_old_lines(Arc::clone(&shared.engine))),
        ];
        beside.extend(certificates.map(|pair| actix_web::rt::spawn(pair.follow())));
        ends.told().await;
        beside.iter().for_each(actix_web::rt::task::JoinHandle::abort);
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
    if let Err(error) = shared.engine.rest() {
        tracing::warn!(%error, "the log of the ledger is not copied into it, and is read at the next start");
    }
    served
}

/// Where others can reach us, somebody must sign in by name, and what they say is encrypted.
fn check_safety(
    config: &ServiceConfig,
    address: IpAddr,
    people: &People,
) -> Result<(), ServeError> {
    if address.is_loopback() {
        return Ok(());
    }
    if config.tls.is_none() && !config.behind_proxy {
        return Err(ServeError::Open { address: config.listen.clone() });
    }
    if !people.has_users() {
        return Err(ServeError::NoUser { address: config.listen.clone() });
    }
    Ok(())
}

fn shared(
    (engine, live): (Arc<Engine>, Live),
    (token, people): (Token, Arc<People>),
    config: ServiceConfig,
    address: SocketAddr,
) -> Shared {
    let mut hosts = config.hosts;
    hosts.push(match address.ip() {
        IpAddr::V6(ip) => format!("[{ip}]"),
        ip => ip.to_string(),
    });
    Shared {
        record: Record::new(Arc::clone(&engine)),
        engine,
        live,
        token,
        people,
        attempts: Attempts::default(),
        limits: Limits::default(),
        passwords: Semaphore::new(CHECKS),
        port: address.port(),
        hosts,
        tls: config.tls.is_some(),
        open: !address.ip().is_loopback(),
        behind_proxy: config.behind_proxy,
        proxies: config.proxies,
    }
}

/// How often it is looked for lines of the audit log whose time is over.
const DROP_LOOK: Duration = Duration::from_secs(3600);

/// Drops lines of the audit log that are older than they are kept, until it is aborted.
async fn drop_old_lines(engine: Arc<Engine>) {
    loop {
        let asked = Arc::clone(&engine);
        let dropped = web::block(move || {
            let Some(kept) = asked.config().service.audit_for else { return Ok(0) };
            let kept = jiff::SignedDuration::try_from(kept).unwrap_or(jiff::SignedDuration::MAX);
            let Ok(before) = jiff::Timestamp::now().checked_sub(kept) else { return Ok(0) };
            asked.ask(|ledger| ledger.drop_audit(before))
        });
        match dropped.await {
            Ok(Ok(0)) | Err(_) => {}
            Ok(Ok(lines)) => tracing::info!(lines, "the time of lines of the audit log was over"),
            Ok(Err(error)) => tracing::warn!("old lines of the audit log stay: {error}"),
        }
        tokio::time::sleep(DROP_LOOK).await;
    }
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
    certificates: Option<&Arc<Certificates>>,
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
    let server = HttpServer::new(app)
        .workers(WORKERS)
        .max_connections(connections / WORKERS)
        .disable_signals()
        .shutdown_timeout(PATIENCE);
    let server = match certificates {
        Some(pair) => server.listen_rustls_0_23(listener, pair.config()?)?,
        None => server.listen(listener)?,
    };
    Ok(server.run())
}
