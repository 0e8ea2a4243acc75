//! Values with a unit.

use std::time::Duration;

const UNITS: [(&str, u64); 5] =
    [("ms", 1), ("s", 1000), ("m", 60_000), ("h", 3_600_000), ("d", 86_400_000)];

/// Reads a duration such as `500ms`, `5s`, `2m`, `1h30m` or `1d`.
///
/// # Errors
/// What was expected.
pub fn parse_duration(text: &str) -> Result<Duration, String> {
    let expected = || {
        format!(
            "`{text}` is no duration; expected a number and a unit (ms, s, m, h, d) such as \"5s\" or \"1h30m\""
        )
    };
    let mut rest = text.trim();
    let mut millis: u64 = 0;
    if rest.is_empty() {
        return Err(expected());
    }
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit()).ok_or_else(expected)?;
        let count: u64 = rest[..digits].parse().map_err(|_| expected())?;
        rest = &rest[digits..];
        let letters = rest.find(|c: char| c.is_ascii_digit()).unwrap_or(rest.len());
        let (_, scale) =
            UNITS.iter().find(|(unit, _)| *unit == &rest[..letters]).ok_or_else(expected)?;
        let part = count.checked_mul(*scale).ok_or_else(expected)?;
        millis = millis.checked_add(part).ok_or_else(expected)?;
        rest = &rest[letters..];
    }
    Ok(Duration::from_millis(millis))
}

/// Writes a duration for people, in its two largest units: `1h 30m`, `4.2s`.
pub fn write_duration(duration: Duration) -> String {
    let seconds = duration.as_secs();
    match seconds {
        0..60 => {
            let text = format!("{:.1}", duration.as_secs_f64());
            format!("{} s", text.strip_suffix(".0").unwrap_or(&text))
        }
        60..3600 => format!("{} min {} s", seconds / 60, seconds % 60),
        3600..86_400 => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
        _ => format!("{} d {} h", seconds / 86_400, seconds % 86_400 / 3600),
    }
}
