//! The audit log: what is written into it, and how it does not hold anybody up.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::web;
use jiff::Timestamp;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::NewAudit;
use vadegate_core::people::Identity;

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
    pub fn used(&self, session: i64, now: Timestamp) {
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

/// What somebody orders, for the log: without what is secret, and without who and why, which
/// have places of their own. Gives who, why and the rest.
pub(crate) fn order_of(body: &[u8]) -> (Option<String>, String, String) {
    let Ok(serde_json::Value::Object(mut order)) = serde_json::from_slice(body) else {
        return (None, String::new(), String::new());
    };
    let mut text = |key: &str| match order.remove(key) {
        Some(serde_json::Value::String(text)) => Some(text),
        _ => None,
    };
    let (who, why) = (text("who"), text("why").unwrap_or_default());
    for secret in ["password", "present", "token"] {
        order.remove(secret);
    }
    let rest = match order.is_empty() {
        true => String::new(),
        false => serde_json::Value::Object(order).to_string(),
    };
    (who, cut(&why), cut(&rest))
}

/// The line of an order that a command carries out without a service; none of one that only
/// asks what would be done.
pub fn local_audit(
    what: &str,
    path: &str,
    order: &impl serde::Serialize,
    status: u16,
) -> Option<NewAudit> {
    let body = serde_json::to_vec(order).unwrap_or_default();
    if is_rehearsal(&body) {
        return None;
    }
    let (said, why, rest) = order_of(&body);
    let who = said.map_or_else(|| Identity::local().name(), |said| local_name(&said));
    let about = if rest.is_empty() { path.to_owned() } else { format!("{path} {rest}") };
    let what = action_of(&rest).unwrap_or_else(|| what.to_owned());
    let address = "this machine".to_owned();
    Some(NewAudit { who, address, what, about: cut(&about), why, status })
}

/// The action of an order that has one: its name says more than that of the call.
pub(crate) fn action_of(order: &str) -> Option<String> {
    let order: serde_json::Value = serde_json::from_str(order).ok()?;
    Some(order.get("action")?.as_str()?.to_owned())
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
    fn what_is_secret_is_not_kept() {
        let body = br#"{"name":"mara","role":"viewer","password":"x1","token":"x2","present":"x3","why":"she joins us","who":"ada"}"#;
        let (who, why, rest) = order_of(body);
        assert_eq!((who.as_deref(), why.as_str()), (Some("ada"), "she joins us"));
        assert_eq!(rest, r#"{"name":"mara","role":"viewer"}"#);
        assert_eq!(order_of(b"[1"), (None, String::new(), String::new()));
        let long = format!(r#"{{"entries":[{}]}}"#, vec!["1"; 5000].join(","));
        assert_eq!(order_of(long.as_bytes()).2.chars().count(), LONGEST + 1);
    }
}
