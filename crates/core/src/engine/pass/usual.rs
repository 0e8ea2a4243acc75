//! Whether files are far from what their gate is used to: its own last files of the same
//! fields, by size, rows and time of day.

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::config::gate::Usual;
use crate::engine::gate::state::Live;
use crate::ledger::dues::Sample;
use crate::ledger::error::LedgerError;
use crate::ledger::happenings::NewHappening;
use crate::ledger::new_entry::NewEntry;
use crate::ledger::types::OpenEntry;
use crate::pattern::Fields;
use crate::pattern::dates::from_iso;
use crate::settings::values::write_bytes;
use crate::words::grouped;

/// So many of the last files are looked at, and so many of them are enough.
const LAST: usize = 30;
const ENOUGH: usize = 10;

/// So many files of a gate are read to find these.
const READ: u32 = 2000;

/// What is so many median deviations from the median is far from it.
const FAR: u64 = 6;

/// A deviation is at least a tenth of the median, and of the time of day so many minutes:
/// what has always been the same is not suspicious by a byte more.
const LEAST_PART: u64 = 10;
const LEAST_MINUTES: u64 = 10;

const DAY_MINUTES: u64 = 24 * 60;

/// Judges what is to be entered; what is unusual is told, or held where the gate says so.
pub(crate) fn judge(live: &Live, entries: &mut [NewEntry]) -> Result<(), LedgerError> {
    if live.gate.usual == Usual::Off || entries.is_empty() {
        return Ok(());
    }
    let zone = &live.context.config.service.timezone;
    let samples = live.context.ledger.samples(&live.gate.name, READ)?;
    for new in entries.iter_mut().filter(|new| new.held.is_none() && new.passed_over.is_none()) {
        let of_same = same(&samples, &new.fields);
        let size = far(new.version.bytes, of_same.iter().map(|one| one.bytes).collect());
        let seen_at = Timestamp::from_millisecond(new.seen_at).unwrap_or_default();
        let size = size.map(|(low, high)| {
            let is = write_bytes(new.version.bytes);
            format!("{is}, usually {} to {}", write_bytes(low), write_bytes(high))
        });
        let time = far_time(seen_at, &of_same, zone);
        let parts: Vec<String> = size.into_iter().chain(time).collect();
        if parts.is_empty() {
            continue;
        }
        let words = format!("unusual: {}", parts.join("; "));
        if live.gate.usual == Usual::Hold {
            new.held = Some(format!("{words}; release it when it is as it should be"));
        }
        new.unusual = Some(words);
    }
    Ok(())
}

/// Entries of a batch whose number of rows is unusual.
pub(crate) fn rows(
    live: &Live,
    filings: &[OpenEntry],
    rows: &[u64],
) -> Result<Vec<NewHappening>, LedgerError> {
    if live.gate.usual == Usual::Off || rows.iter().all(|rows| *rows == 0) {
        return Ok(Vec::new());
    }
    let samples = live.context.ledger.samples(&live.gate.name, READ)?;
    let each = filings.iter().zip(rows).filter_map(|(filing, rows)| {
        let entry = &filing.entry;
        let known = same(&samples, &entry.fields).into_iter().filter_map(|one| one.rows);
        let (low, high) = far(*rows, known.collect())?;
        let (is, low, high) = (crate::words::rows(*rows), grouped(low), grouped(high));
        Some(NewHappening {
            kind: "unusual",
            about: entry.gate.clone(),
            subject: entry.path.clone(),
            words: format!("unusual: {is}, usually {low} to {high}"),
            entry: Some(entry.id),
            lasts: false,
        })
    });
    Ok(each.collect())
}

/// The last files with the same values: dates and numbers differ from file to file.
fn same<'a>(samples: &'a [Sample], fields: &Fields) -> Vec<&'a Sample> {
    let names = |fields: &Fields| -> Vec<(String, String)> {
        let some = fields.iter().filter(|(_, value)| {
            from_iso(value).is_none() && value.chars().any(char::is_alphabetic)
        });
        some.map(|(name, value)| (name.clone(), value.clone())).collect()
    };
    let wanted = names(fields);
    samples.iter().filter(|one| names(&one.fields) == wanted).take(LAST).collect()
}

/// The usual range, if a value is outside of it.
fn far(value: u64, mut known: Vec<u64>) -> Option<(u64, u64)> {
    if known.len() < ENOUGH {
        return None;
    }
    let middle = median(&mut known)?;
    let mut apart: Vec<u64> = known.iter().map(|one| one.abs_diff(middle)).collect();
    let apart = median(&mut apart)?.max(middle.div_ceil(LEAST_PART * FAR)).max(1);
    let reach = apart.saturating_mul(FAR);
    let (low, high) = (middle.saturating_sub(reach), middle.saturating_add(reach));
    (!(low..=high).contains(&value)).then_some((low, high))
}

fn median(values: &mut [u64]) -> Option<u64> {
    values.sort_unstable();
    values.get(values.len() / 2).copied()
}

/// A time of day far from the usual one, in words.
fn far_time(at: Timestamp, known: &[&Sample], zone: &TimeZone) -> Option<String> {
    if known.len() < ENOUGH {
        return None;
    }
    let minute = |at: Timestamp| {
        let time = zone.to_datetime(at).time();
        u64::from(time.hour().unsigned_abs()) * 60 + u64::from(time.minute().unsigned_abs())
    };
    // Around the clock: the middle is the one from which the others are least far.
    let apart = |one: u64, other: u64| {
        let apart = one.abs_diff(other);
        apart.min(DAY_MINUTES - apart)
    };
    let minutes: Vec<u64> = known.iter().map(|one| minute(one.seen_at)).collect();
    let total = |middle: u64| minutes.iter().map(|one| apart(*one, middle)).sum::<u64>();
    let middle = minutes.iter().copied().min_by_key(|middle| total(*middle))?;
    let mut deviations: Vec<u64> = minutes.iter().map(|one| apart(*one, middle)).collect();
    let reach = median(&mut deviations)?.max(LEAST_MINUTES) * FAR;
    let is = minute(at);
    // What comes around the clock has no usual time.
    if reach >= DAY_MINUTES / 3 || apart(is, middle) <= reach {
        return None;
    }
    let clock = |minute: u64| {
        let minute = minute % DAY_MINUTES;
        format!("{:02}:{:02}", minute / 60, minute % 60)
    };
    let (low, high) = (middle + DAY_MINUTES - reach, middle + reach);
    Some(format!("came at {}, usually {} to {}", clock(is), clock(low), clock(high)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_far_from_the_middle_is_unusual() {
        let around =
            |middle: u64, apart: u64| (0..30).map(move |at| middle - apart + at % 3 * apart);
        for (value, known, unusual) in [
            (1_200, around(360_000, 10_000).collect(), Some((300_000, 420_000))),
            (301_000, around(360_000, 10_000).collect(), None),
            (420_001, around(360_000, 10_000).collect(), Some((300_000, 420_000))),
            (1_200, around(360_000, 10_000).take(9).collect(), None),
            // What has always been the same may be a tenth more or less.
            (1_090, around(1_000, 0).collect(), None),
            (1_200, around(1_000, 0).collect(), Some((898, 1_102))),
            (0, vec![0; 30], None),
            (u64::MAX, vec![u64::MAX; 30], None),
        ] {
            let known: Vec<u64> = known;
            assert_eq!(far(value, known), unusual, "{value}");
        }
    }

    #[test]
    fn the_time_of_day_goes_round_midnight() {
        let at = |text: &str| format!("2026-03-01T{text}Z").parse::<Timestamp>().unwrap();
        let sample = |text: &str| Sample {
            bytes: 1,
            rows: None,
            seen_at: at(text),
            fields: Fields::default(),
        };
        let nightly: Vec<Sample> = ["23:50:00", "00:05:00", "23:58:00"]
            .iter()
            .cycle()
            .take(30)
            .map(|text| sample(text))
            .collect();
        let known: Vec<&Sample> = nightly.iter().collect();
        let utc = TimeZone::UTC;
        assert_eq!(far_time(at("00:50:00"), &known, &utc), None);
        let words = far_time(at("05:50:00"), &known, &utc).unwrap();
        assert_eq!(words, "came at 05:50, usually 22:58 to 00:58");
        let hourly: Vec<Sample> =
            (0..30).map(|at| sample(&format!("{:02}:00:00", at % 24))).collect();
        let hourly: Vec<&Sample> = hourly.iter().collect();
        assert_eq!(far_time(at("05:30:00"), &hourly, &utc), None, "it comes around the clock");
    }
}
