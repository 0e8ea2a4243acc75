//! Reports that go out by the clock, through tells.

use jiff::{SignedDuration, Timestamp};

use crate::config::report::ReportRule;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::messages::NewMessage;
use crate::tell::message::Body;
use crate::watch::report::html::html;
use crate::watch::report::text::{subject, text};

/// A report whose time was over so long ago is not sent any more.
const TOO_OLD: SignedDuration = SignedDuration::from_hours(12);

/// Sends each report whose time has come; gives to which tells, and when the next comes.
pub(crate) fn send_due(
    engine: &Engine,
    now: Timestamp,
) -> Result<(Vec<String>, Option<Timestamp>), EngineError> {
    let context = engine.context();
    let zone = &context.config.service.timezone;
    let (mut woken, mut next) = (Vec::new(), None::<Timestamp>);
    for rule in &context.config.reports {
        let due = rule.last(now, zone);
        let what = format!("report:{}", rule.name);
        let sent = context.ledger.watched_at(&what)?;
        match (sent, due) {
            // One that is new counts from now on.
            (None, _) => context.ledger.mark_watched(&what, now, Vec::new())?,
            (Some(sent), Some(due)) if sent < due => {
                let messages = match now.duration_since(due) < TOO_OLD {
                    true => messages(engine, rule, due)?,
                    false => Vec::new(),
                };
                context.ledger.mark_watched(&what, now, messages)?;
                woken.extend(rule.to.iter().cloned());
            }
            _ => {}
        }
        next = [next, rule.next(now, zone)].into_iter().flatten().min();
    }
    Ok((woken, next))
}

fn messages(
    engine: &Engine,
    rule: &ReportRule,
    due: Timestamp,
) -> Result<Vec<NewMessage>, EngineError> {
    let zone = engine.config().service.timezone;
    let since = SignedDuration::try_from(rule.since).unwrap_or(SignedDuration::from_hours(24));
    let report = engine.report(due.saturating_sub(since).unwrap_or(due), due)?;
    let body = Body::report(
        format!("report {}: {}", rule.name, subject(&report, &zone)),
        text(&report, &zone),
        html(&report, &zone, false),
        serde_json::to_value(&report).unwrap_or_default(),
    );
    let tag = engine.context().ledger.tag()?.to_owned();
    let each = rule.to.iter().map(|tell| NewMessage {
        uid: format!("{tell}-{tag}-report-{}-{}", rule.name, due.as_second()),
        tell: tell.clone(),
        subject: body.subject.clone(),
        body: serde_json::to_string(&body).unwrap_or_default(),
        lasting: Vec::new(),
        over: Vec::new(),
    });
    Ok(each.collect())
}
