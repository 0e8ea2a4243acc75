//! What a time did: what was expected, what came, what is held, what was broken, what was
//! removed and made, beside the same time a week before.

pub(crate) mod html;
pub(crate) mod sending;
pub(crate) mod text;
pub mod types;

pub use types::{GateReport, RemovedFigures, Report, TimelinePart};

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};

use crate::dues::types::DueCell;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::ledger::held::NAMED;
use crate::ledger::{GateFigures, Happening, Ledger, LedgerError};

/// So many happenings and removals are told one by one.
const TOLD: usize = 200;

/// Into so many pieces a time is divided at the most.
const PIECES: i64 = 96;

impl Engine {
    /// What a time did.
    ///
    /// # Errors
    /// [`EngineError::Refused`] for a time that is none, or the ledger's.
    pub fn report(&self, since: Timestamp, until: Timestamp) -> Result<Report, EngineError> {
        let context = self.context();
        let (ledger, zone) = (&context.ledger, &context.config.service.timezone);
        let length = until.duration_since(since);
        if length <= SignedDuration::ZERO || length > SignedDuration::from_hours(24 * 400) {
            return Err(EngineError::Refused(format!(
                "from {since} to {until} is no time, or more than 400 days"
            )));
        }
        let day = |at: Timestamp| zone.to_datetime(at).date();
        // What ends at midnight has not begun the next day.
        let days = (day(since), day(until.saturating_sub(1.nanosecond()).unwrap_or(until)));
        let week = SignedDuration::from_hours(7 * 24);
        let before = |at: Timestamp| at.saturating_sub(week).unwrap_or(at);
        let earlier = ledger.gate_figures(before(since), before(until))?;
        let of = |kind: &str| happened(ledger, kind, since, until);
        Ok(Report {
            since,
            until,
            zone: zone.iana_name().unwrap_or("UTC").to_owned(),
            dues: self.expected(days)?,
            gates: beside(ledger.gate_figures(since, until)?, &earlier),
            held: ledger
                .held_by_reason(NAMED)?
                .into_iter()
                .filter(|one| one.since < until)
                .collect(),
            unusual: of("unusual")?,
            breaches: of("breach")?,
            troubles: of("trouble")?,
            removed: removed(ledger, since, until)?,
            outputs: ledger.output_figures(since, until)?,
            timeline: timeline(ledger, since, until)?,
        })
    }

    fn expected(&self, days: (Date, Date)) -> Result<Vec<DueCell>, EngineError> {
        let mut all = self.judged(None, Some(days))?;
        self.tell_due(&mut all);
        all.sort_by_key(|cell| cell.state);
        Ok(all)
    }
}

/// A report as one page that needs nothing from outside.
pub fn as_html(report: &Report, zone: &TimeZone) -> String {
    html::html(report, zone, true)
}

/// A report in plain text.
pub fn as_text(report: &Report, zone: &TimeZone) -> String {
    text::text(report, zone)
}

/// Gates with what they had a week before; those that had something then and nothing now too.
fn beside(now: Vec<GateFigures>, earlier: &[GateFigures]) -> Vec<GateReport> {
    let mut gates: Vec<GateFigures> = now;
    for before in earlier {
        if !gates.iter().any(|gate| gate.gate == before.gate) {
            gates.push(GateFigures { gate: before.gate.clone(), ..GateFigures::default() });
        }
    }
    gates.sort_by(|one, other| one.gate.cmp(&other.gate));
    let report = |now: GateFigures| {
        let before = earlier.iter().find(|before| before.gate == now.gate);
        let files_before = before.map_or(0, |before| before.files);
        let bytes_before = before.map_or(0, |before| before.bytes);
        GateReport { now, files_before, bytes_before }
    };
    gates.into_iter().map(report).collect()
}

fn happened(
    ledger: &Ledger,
    kind: &str,
    since: Timestamp,
    until: Timestamp,
) -> Result<Vec<Happening>, LedgerError> {
    let mut all = ledger.happened_since(kind, since, 2000)?;
    // What began before and lasted into it belongs to it too.
    let lasting = ledger.lasting(None)?.into_iter();
    all.extend(lasting.filter(|one| one.kind == kind && one.at < since));
    all.retain(|one| one.at < until);
    all.sort_by_key(|one| one.at);
    all.truncate(TOLD);
    Ok(all)
}

fn removed(
    ledger: &Ledger,
    since: Timestamp,
    until: Timestamp,
) -> Result<Vec<RemovedFigures>, LedgerError> {
    let mut rules: Vec<RemovedFigures> = Vec::new();
    let mut cursor = None;
    loop {
        let page = ledger.removals(None, cursor, 1000)?;
        let Some(last) = page.last() else { break };
        cursor = Some(last.id.number());
        let over = last.removed_at.is_some_and(|at| at < since);
        for one in
            page.iter().filter(|one| one.removed_at.is_some_and(|at| at >= since && at < until))
        {
            match rules.iter_mut().find(|rule| rule.rule == one.rule) {
                Some(rule) => (rule.files, rule.bytes) = (rule.files + 1, rule.bytes + one.bytes),
                None => rules.push(RemovedFigures {
                    rule: one.rule.clone(),
                    files: 1,
                    bytes: one.bytes,
                }),
            }
        }
        if over {
            break;
        }
    }
    Ok(rules)
}

fn timeline(
    ledger: &Ledger,
    since: Timestamp,
    until: Timestamp,
) -> Result<Vec<TimelinePart>, LedgerError> {
    const SLOT_MS: i64 = 300_000;
    let length = until.as_millisecond() - since.as_millisecond();
    // In whole pieces of what the ledger counts.
    let step = (length / PIECES).div_euclid(SLOT_MS).max(0) * SLOT_MS + SLOT_MS;
    let first = since.as_millisecond();
    let pieces = usize::try_from(length.div_euclid(step) + 1).unwrap_or(1);
    let begins = |at: usize| {
        let at = i64::try_from(at).unwrap_or(0);
        Timestamp::from_millisecond(first + at * step).unwrap_or(since)
    };
    let empty = |at| TimelinePart { begins: begins(at), entered: 0, filed: 0, held: 0 };
    let mut moments: Vec<TimelinePart> = (0..pieces).map(empty).collect();
    for slot in ledger.activity(since)? {
        let at = (slot.begins.as_millisecond() - first).div_euclid(step);
        let moment = usize::try_from(at).ok().and_then(|at| moments.get_mut(at));
        if let Some(moment) = moment.filter(|_| slot.begins < until) {
            match slot.kind.as_str() {
                "entered" => moment.entered += slot.count,
                "filed" => moment.filed += slot.count,
                "held" => moment.held += slot.count,
                _ => {}
            }
        }
    }
    Ok(moments)
}
