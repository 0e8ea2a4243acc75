//! The database of a gate: connected to, locked, asked.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::work::env::Env;
use crate::work::load::config::Database;
use crate::work::load::destination::{DbError, Destination};
use crate::work::load::postgres::Postgres;
use crate::work::load::sqlite::Sqlite;
use crate::work::seam::Blocked;

/// A database, which is connected to when it is first asked.
pub(crate) fn destination(database: &Database) -> Box<dyn Destination> {
    match database {
        Database::Sqlite(path) => Box::new(Sqlite::new(path.clone())),
        Database::Postgres(server) => Box::new(Postgres::new((**server).clone())),
    }
}

/// The database and the table of a place, as the ledger has it.
pub(crate) fn table_in(place: &str) -> (&str, &str) {
    place.rsplit_once('#').unwrap_or((place, ""))
}

/// A database, connected to or not. Who plans and who carries out share it, one after the
/// other.
#[derive(Clone)]
pub(crate) struct Shared(Arc<Mutex<Box<dyn Destination>>>);

impl Shared {
    /// The database of a gate.
    pub fn of(database: &Database) -> Self {
        Shared(Arc::new(Mutex::new(destination(database))))
    }

    /// The database, whose files are reached by what the work may reach.
    pub fn lock(&self, env: &Env<'_>) -> MutexGuard<'_, Box<dyn Destination>> {
        let mut destination = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        destination.reach_by(env.reach);
        destination
    }
}

/// What a database says when it does not do what it was asked.
pub(crate) fn said(error: DbError) -> String {
    match error {
        DbError::Away(why) | DbError::Doubt(why) => why,
        DbError::Refused(refusal) => refusal.to_string(),
    }
}

/// The name under which a gate's loads wait for each other.
pub(crate) fn guard(env: &Env<'_>) -> Result<String, Blocked> {
    Ok(format!("vadegate {} {}", env.ledger.tag()?, env.gate))
}
