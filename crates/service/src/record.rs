//! The audit log: what is written into it, and how it does not hold anybody up.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::web;
use jiff::Timestamp;
use serde_json::Value;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::{NewAudit, SessionId};

use crate::api::people::local_name;
use crate::caller::From;

/// So many refusals of one address are recorded in [`WINDOW`]; of the others only how many
/// there were. Nobody fills the ledger by knocking.
const REFUSALS: u32 = 20;

/// For how long refusals are counted.
const WINDOW: Duration = Duration::from_secs(60);

/// So many addresses are kept apart.
const ADDRESSES: usize = 1000;

/// The longest text of an order that is kept, in characters.
const LONGEST: usize = 600;

/// Writes the audit log.
pub(crate) struct Record {
    engine: Arc<Engine>,
    refused: Mutex<HashMap<String, Refusals>>,
}

struct Refusals {
    since: Instant,
    count: u32,
}

impl Record {
    pub fn new(engine: Arc<Engine>) -> Self {
        Record { engine, refused: Mutex::default() }
    }

    /// Writes a line, and waits until it is durable.
    pub async fn write(&self, line: NewAudit) {
        let engine = Arc::clone(&self.engine);
        let written = web::block(move || engine.ask(|ledger| ledger.audit(vec![line]))).await;
        if let Ok(Err(error)) = written {
            tracing::error!("the audit log cannot be written: {error}");
        }
    }

    /// Writes that something was refused, unless too much was refused to that address.
    pub async fn refused(&self, from: From, line: NewAudit) {
        let address = from.text();
        let lines = {
            let mut all = self.refused.lock().unwrap_or_else(PoisonError::into_inner);
            if all.len() >= ADDRESSES && !all.contains_key(&address) {
                all.retain(|_, known| known.since.elapsed() < WINDOW);
            }
            // With more addresses than that, they are counted together.
            let key = if all.len() >= ADDRESSES { String::new() } else { address.clone() };
            let known = all.entry(key).or_insert(Refusals { since: Instant::now(), count: 0 });
            let mut lines = Vec::new();
            if known.since.elapsed() >= WINDOW {
                if known.count > REFUSALS {
                    lines.push(more(&address, known.count - REFUSALS));
                }
                *known = Refusals { since: Instant::now(), count: 0 };
            }
            known.count += 1;
            if known.count <= REFUSALS {
                lines.push(line);
            }
            lines
        };
        for line in lines {
            self.write(line).await;
        }
    }

    /// Records when a session was used, without holding it up.
    pub fn used(&self, session: SessionId, now: Timestamp) {
        let engine = Arc::clone(&self.engine);
        drop(web::block(move || {
            // It is only told, and written again a minute later.
            let _ = engine.ask(|ledger| ledger.use_session(session, now));
        }));
    }
}

fn more(address: &str, count: u32) -> NewAudit {
    NewAudit {
        who: "anybody".into(),
        address: address.into(),
        what: "refused".into(),
        about: format!("{count} more in a minute"),
        why: String::new(),
        status: 403,
    }
}

/// What somebody orders, for the log: without what is secret.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Said {
    /// Who they say that they are.
    pub who: Option<String>,
    /// Why.
    pub why: String,
    /// What is to be done, where the call alone does not say it.
    pub action: Option<String>,
    /// The rest of it, in words.
    pub rest: String,
}

impl Said {
    /// Of the body of a request.
    pub fn of(body: &[u8]) -> Self {
        let Ok(Value::Object(mut order)) = serde_json::from_slice(body) else {
            return Said::default();
        };
        for secret in ["password", "present", "token"] {
            order.remove(secret);
        }
        let mut text = |key: &str| match order.remove(key) {
            Some(Value::String(text)) => Some(text),
            _ => None,
        };
        let (who, why) = (text("who"), cut(&text("why").unwrap_or_default()));
        let action = text("action");
        let rest = order.iter().filter_map(|(key, value)| {
            let value = words(value)?;
            Some(format!("{key} {value}"))
        });
        Said { who, why, action, rest: cut(&rest.collect::<Vec<_>>().join(", ")) }
    }

    /// What was ordered, at a path.
    pub fn about(&self, path: &str) -> String {
        match self.rest.is_empty() {
            true => path.to_owned(),
            false => format!("{path}: {}", self.rest),
        }
    }
}

/// A value as people read it; none where it says nothing.
fn words(value: &Value) -> Option<String> {
    match value {
        Value::Null | Value::Bool(false) => None,
        Value::String(text) if text.is_empty() => None,
        Value::String(text) => Some(text.clone()),
        Value::Array(all) if all.is_empty() => None,
        Value::Array(all) => Some(all.iter().filter_map(words).collect::<Vec<_>>().join(" ")),
        other => Some(other.to_string()),
    }
}

/// The line of an order that a command carries out without a service, for somebody of this
/// name; none of one that only asks what would be done.
pub fn local_audit(
    (what, path): (&str, &str),
    name: &str,
    order: &impl serde::Serialize,
    status: u16,
) -> Option<NewAudit> {
    let body = serde_json::to_vec(order).unwrap_or_default();
    if is_rehearsal(&body) {
        return None;
    }
    let said = Said::of(&body);
    let (about, address) = (said.about(path), "this machine".to_owned());
    let who = local_name(said.who.as_deref().unwrap_or(name));
    let what = said.action.unwrap_or_else(|| what.to_owned());
    Some(NewAudit { who, address, what, about, why: said.why, status })
}

/// A text that is not longer than is kept.
pub(crate) fn cut(text: &str) -> String {
    match text.char_indices().nth(LONGEST) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

/// Whether an order only asks what would be done.
pub(crate) fn is_rehearsal(body: &[u8]) -> bool {
    #[derive(serde::Deserialize)]
    struct Order {
        #[serde(default)]
        rehearse: bool,
    }
    serde_json::from_slice::<Order>(body).is_ok_and(|order| order.rehearse)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_secret_is_not_kept_and_the_rest_is_told_in_words() {
        let body = br#"{"name":"mara","role":"viewer","password":"x1","token":"x2","present":"x3","why":"she joins us","who":"ada","action":"add"}"#;
        let said = Said::of(body);
        assert_eq!((said.who.as_deref(), said.why.as_str()), (Some("ada"), "she joins us"));
        assert_eq!(said.action.as_deref(), Some("add"));
        assert_eq!(said.about("/users"), "/users: name mara, role viewer");
        let order = br#"{"entries":[1,2],"fitting":null,"rehearse":false,"twice":true}"#;
        assert_eq!(Said::of(order).rest, "entries 1 2, twice true");
        assert_eq!(Said::of(b"[1"), Said::default());
        let long = format!(r#"{{"entries":[{}]}}"#, vec!["1"; 5000].join(","));
        assert_eq!(Said::of(long.as_bytes()).rest.chars().count(), LONGEST + 1);
    }
}
