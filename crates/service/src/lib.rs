//! The HTTP interface: the API of `/api/v1`, live events, sign-in, metrics, and
//! the console that is embedded in the program.
//!
//! Nothing is decided here: every call asks the engine, and every error of the
//! engine becomes a problem document in one place, `problem`.

mod access;
mod admission;
mod api;
mod attempts;
mod caller;
mod console;
mod guard;
mod keys;
mod limits;
mod lines;
mod live;
mod metrics;
mod openapi;
pub mod problem;
mod record;
mod serve;
mod settings;
mod tls;
mod token;

use std::net::IpAddr;
use std::sync::Arc;

use actix_web::web;
use tokio::sync::Semaphore;
use vadegate_core::engine::Engine;
use vadegate_core::people::People;

pub use api::accounts::{MadeToken, PasswordOrder, RoleOrder, TokenOrder, UserOrder};
pub use api::clears::ClearOrder;
pub use api::dues::ExcuseOrder;
pub use api::gates::Files;
pub use api::lookouts::RightOrder;
pub use api::offers::{EndOrder, ProlongOrder, Prolonged, TakeOrder};
pub use api::people::{AdoptOrder, Order, OrderBy, TrimOrder, Trimmed};
pub use api::service::ServiceInfo;
pub use openapi::document as openapi_document;
pub use problem::Problem;
pub use record::local_audit;
pub use serve::{ServeError, serve};
pub use token::{TOKEN_FILE, TokenError, read_token};

/// What every handler can reach.
pub(crate) struct Shared {
    pub engine: Arc<Engine>,
    pub live: live::Live,
    pub token: token::Token,
    pub people: Arc<People>,
    pub attempts: attempts::Attempts,
    pub limits: limits::Limits,
    pub record: record::Record,
    /// Passwords are checked by so few at a time that other requests are not held up.
    pub passwords: Semaphore,
    /// Port that is listened on: browsers keep cookies by host alone.
    pub port: u16,
    /// Names of hosts under which requests may come, in lower case.
    pub hosts: Vec<String>,
    /// Whether we speak TLS ourselves.
    pub tls: bool,
    /// Whether others than this machine reach us.
    pub open: bool,
    pub behind_proxy: bool,
    pub proxies: Vec<IpAddr>,
}

/// Asks the engine on a thread that may wait.
pub(crate) async fn ask<T: Send + 'static>(
    shared: &web::Data<Shared>,
    question: impl FnOnce(&Engine) -> Result<T, Problem> + Send + 'static,
) -> Result<T, Problem> {
    let engine = Arc::clone(&shared.engine);
    match web::block(move || question(&engine)).await {
        Ok(answer) => answer,
        Err(_) => Err(Problem::stopping()),
    }
}
