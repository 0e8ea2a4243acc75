//! Users, tokens and sessions, as they are kept. Of what is secret only sums are.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, params};

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading, writing};
use crate::ledger::ids::{SessionId, TokenId};
use crate::ledger::rows::time;

/// A user.
#[derive(Debug, Clone)]
pub(crate) struct KeptUser {
    pub name: String,
    pub role: String,
    /// Argon2id, as a PHC string.
    pub password: String,
    pub made_at: Timestamp,
    pub made_by: String,
}

/// A token.
#[derive(Debug, Clone)]
pub(crate) struct KeptToken {
    pub id: TokenId,
    pub sum: Vec<u8>,
    pub label: String,
    pub role: String,
    /// The gates that it is for; empty for all.
    pub gates: Vec<String>,
    /// The user whose it is.
    pub owner: Option<String>,
    pub made_at: Timestamp,
    pub made_by: String,
    pub until: Option<Timestamp>,
}

/// A session.
#[derive(Debug, Clone)]
pub(crate) struct KeptSession {
    pub id: SessionId,
    pub sum: Vec<u8>,
    /// None: it was begun by the local token.
    pub user: Option<String>,
    pub begun_at: Timestamp,
    pub used_at: Timestamp,
    pub until: Timestamp,
    pub address: String,
    pub program: String,
}

/// All that is kept of people.
#[derive(Debug, Default)]
pub(crate) struct KeptPeople {
    pub users: Vec<KeptUser>,
    pub tokens: Vec<KeptToken>,
    pub sessions: Vec<KeptSession>,
}

impl Ledger {
    /// All users, tokens and sessions.
    pub(crate) fn people(&self) -> Result<KeptPeople, LedgerError> {
        self.read(|reader| {
            let query = || -> rusqlite::Result<KeptPeople> {
                let mut users =
                    reader.prepare("SELECT name, role, password, made_at, made_by FROM user")?;
                let mut tokens = reader.prepare(
                    "SELECT id, sum, label, role, gates, owner, made_at, made_by, until FROM token
                     ORDER BY id",
                )?;
                let mut sessions = reader.prepare(
                    "SELECT id, sum, user, begun_at, used_at, until, address, program FROM session
                     ORDER BY id",
                )?;
                Ok(KeptPeople {
                    users: users.query_map([], user)?.collect::<Result<_, _>>()?,
                    tokens: tokens.query_map([], token)?.collect::<Result<_, _>>()?,
                    sessions: sessions.query_map([], session)?.collect::<Result<_, _>>()?,
                })
            };
            query().map_err(reading)
        })
    }

    /// Keeps a new user; gives whether there was none of that name.
    pub(crate) fn add_user(&self, user: KeptUser) -> Result<bool, LedgerError> {
        self.submit(move |tx| {
            let KeptUser { name, role, password, made_by, .. } = user;
            tx.run(
                "INSERT INTO user (name, role, password, made_at, made_by)
                     VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
                params![name, role, password, tx.now, made_by],
            )
            .map(|added| added == 1)
            .map_err(writing)
        })?
        .wait()
    }

    /// Gives a user another role or another password; all that was begun under the one before
    /// is over: its sessions, but for `spared`.
    pub(crate) fn change_user(
        &self,
        name: &str,
        role: Option<&'static str>,
        password: Option<String>,
        spared: Option<SessionId>,
    ) -> Result<(), LedgerError> {
        let name = name.to_owned();
        self.submit(move |tx| {
            let change = || -> rusqlite::Result<()> {
                tx.run(
                    "UPDATE user SET role = coalesce(?2, role), password = coalesce(?3, password)
                     WHERE name = ?1",
                    params![name, role, password],
                )?;
                tx.run(
                    "DELETE FROM session WHERE user = ?1 AND id IS NOT ?2",
                    params![name, spared],
                )?;
                Ok(())
            };
            change().map_err(writing)
        })?
        .wait()
    }

    /// Forgets a user, with sessions and tokens.
    pub(crate) fn remove_user(&self, name: &str) -> Result<(), LedgerError> {
        let name = name.to_owned();
        self.submit(move |tx| {
            for statement in [
                "DELETE FROM session WHERE user = ?",
                "DELETE FROM token WHERE owner = ?",
                "DELETE FROM user WHERE name = ?",
            ] {
                tx.run(statement, [&name]).map_err(writing)?;
            }
            Ok(())
        })?
        .wait()
    }

    /// Keeps a new token; gives its number.
    pub(crate) fn add_token(&self, token: KeptToken) -> Result<TokenId, LedgerError> {
        self.submit(move |tx| {
            let KeptToken { sum, label, role, gates, owner, made_by, until, .. } = token;
            let gates = serde_json::to_string(&gates).unwrap_or_default();
            let until = until.map(Timestamp::as_millisecond);
            tx.run(
                "INSERT INTO token (sum, label, role, gates, owner, made_at, made_by, until)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                params![sum, label, role, gates, owner, tx.now, made_by, until],
            )
            .map_err(writing)?;
            Ok(TokenId::of(tx.connection.last_insert_rowid()))
        })?
        .wait()
    }

    /// Forgets a token.
    pub(crate) fn remove_token(&self, id: TokenId) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.run("DELETE FROM token WHERE id = ?", [id]).map(drop).map_err(writing)
        })?
        .wait()
    }

    /// Keeps a session; gives its number. Those whose time is over are forgotten by the way.
    pub(crate) fn add_session(&self, session: KeptSession) -> Result<SessionId, LedgerError> {
        self.submit(move |tx| {
            let KeptSession { sum, user, begun_at, used_at, until, address, program, .. } = session;
            let ms = Timestamp::as_millisecond;
            let add = || -> rusqlite::Result<SessionId> {
                tx.run("DELETE FROM session WHERE until <= ?", [tx.now])?;
                let times = (ms(begun_at), ms(used_at), ms(until));
                tx.run(
                    "INSERT INTO session (sum, user, begun_at, used_at, until, address, program)
                     VALUES (?, ?, ?, ?, ?, ?, ?)",
                    params![sum, user, times.0, times.1, times.2, address, program],
                )?;
                Ok(SessionId::of(tx.connection.last_insert_rowid()))
            };
            add().map_err(writing)
        })?
        .wait()
    }

    /// Records when a session was used last.
    ///
    /// # Errors
    /// The ledger's.
    pub fn use_session(&self, id: SessionId, at: Timestamp) -> Result<(), LedgerError> {
        let at = at.as_millisecond();
        self.submit(move |tx| {
            tx.run("UPDATE session SET used_at = ? WHERE id = ?", params![at, id])
                .map(drop)
                .map_err(writing)
        })?
        .wait()
    }

    /// Ends a session.
    pub(crate) fn end_session(&self, id: SessionId) -> Result<(), LedgerError> {
        self.submit(move |tx| {
            tx.run("DELETE FROM session WHERE id = ?", [id]).map(drop).map_err(writing)
        })?
        .wait()
    }

    /// Whether anybody signs in by name.
    pub fn has_users(&self) -> Result<bool, LedgerError> {
        self.read(|reader| {
            let one = reader.query_row("SELECT 1 FROM user LIMIT 1", [], |_| Ok(())).optional();
            one.map(|one| one.is_some()).map_err(reading)
        })
    }
}

fn user(row: &Row<'_>) -> rusqlite::Result<KeptUser> {
    Ok(KeptUser {
        name: row.get(0)?,
        role: row.get(1)?,
        password: row.get(2)?,
        made_at: time(row.get(3)?),
        made_by: row.get(4)?,
    })
}

fn token(row: &Row<'_>) -> rusqlite::Result<KeptToken> {
    let gates: String = row.get(4)?;
    // What cannot be read opens nothing: no gate has an empty name.
    let gates = serde_json::from_str(&gates).unwrap_or_else(|_| vec![String::new()]);
    Ok(KeptToken {
        id: row.get(0)?,
        sum: row.get(1)?,
        label: row.get(2)?,
        role: row.get(3)?,
        gates,
        owner: row.get(5)?,
        made_at: time(row.get(6)?),
        made_by: row.get(7)?,
        until: row.get::<_, Option<i64>>(8)?.map(time),
    })
}

fn session(row: &Row<'_>) -> rusqlite::Result<KeptSession> {
    Ok(KeptSession {
        id: row.get(0)?,
        sum: row.get(1)?,
        user: row.get(2)?,
        begun_at: time(row.get(3)?),
        used_at: time(row.get(4)?),
        until: time(row.get(5)?),
        address: row.get(6)?,
        program: row.get(7)?,
    })
}
