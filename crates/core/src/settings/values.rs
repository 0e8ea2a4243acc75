//! Values with a unit.

use std::time::Duration;

/// Why a text is no value with a unit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ValueFault {
    /// It is no duration.
    #[error(
        "`{0}` is no duration; expected a number and a unit (ms, s, m, h, d) such as \"5s\" or \"1h30m\""
    )]
    Duration(String),
    /// It is no whole number.
    #[error("`{0}` is no number")]
    Number(String),
    /// It is no size.
    #[error(
        "`{0}` is no size; expected a number and a unit (B, kB, MB, GB, TB, KiB, MiB, GiB) such as \"2GB\""
    )]
    Size(String),
}

const UNITS: [(&str, u64); 5] =
    [("ms", 1), ("s", 1000), ("m", 60_000), ("h", 3_600_000), ("d", 86_400_000)];

/// Reads a duration such as `500ms`, `5s`, `2m`, `1h30m` or `1d`.
///
/// # Errors
/// [`ValueFault::Duration`].
pub fn parse_duration(text: &str) -> Result<Duration, ValueFault> {
    let expected = || ValueFault::Duration(text.to_owned());
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

/// Reads a whole number, in which `_` may stand between digits.
///
/// # Errors
/// [`ValueFault::Number`].
pub fn parse_number(text: &str) -> Result<u64, ValueFault> {
    text.replace('_', "").parse().map_err(|_| ValueFault::Number(text.to_owned()))
}

/// Reads a size such as `512B`, `2kB`, `1.5GB` or `4MiB`.
///
/// # Errors
/// [`ValueFault::Size`].
pub fn parse_bytes(text: &str) -> Result<u64, ValueFault> {
    const UNITS: [(&str, f64); 8] = [
        ("B", 1.0),
        ("kB", 1e3),
        ("MB", 1e6),
        ("GB", 1e9),
        ("TB", 1e12),
        ("KiB", 1024.0),
        ("MiB", 1_048_576.0),
        ("GiB", 1_073_741_824.0),
    ];
    let expected = || ValueFault::Size(text.to_owned());
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').ok_or_else(expected)?;
    let number: f64 = text[..digits].parse().map_err(|_| expected())?;
    let unit = text[digits..].trim();
    let (_, scale) =
        UNITS.iter().find(|(name, _)| name.eq_ignore_ascii_case(unit)).ok_or_else(expected)?;
    let bytes = (number * scale).round();
    // Above this a number with a point is no longer exact.
    if bytes > 9e15 {
        return Err(expected());
    }
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "it is whole, not negative, and below 2^53"
    )]
    Ok(bytes as u64)
}

/// Writes a duration for people, in its two largest units: `1 h 30 min`,
/// `4.2 s`, `50 ms`.
pub fn write_duration(duration: Duration) -> String {
    let seconds = duration.as_secs();
    let two = |large: u64, unit: &str, small: u64, lesser: &str| match small {
        0 => format!("{large} {unit}"),
        _ => format!("{large} {unit} {small} {lesser}"),
    };
    match seconds {
        0 => format!("{} ms", duration.as_micros().div_ceil(1000)),
        1..60 => {
            let text = format!("{:.1}", duration.as_secs_f64());
            format!("{} s", text.strip_suffix(".0").unwrap_or(&text))
        }
        60..3600 => two(seconds / 60, "min", seconds % 60, "s"),
        3600..86_400 => two(seconds / 3600, "h", seconds % 3600 / 60, "min"),
        _ => two(seconds / 86_400, "d", seconds % 86_400 / 3600, "h"),
    }
}

/// Writes a size for people, in binary units: `4.1 KiB`.
pub fn write_bytes(bytes: u64) -> String {
    let mut size = bytes as f64;
    for unit in ["B", "KiB", "MiB", "GiB"] {
        if size < 1024.0 {
            return if unit == "B" { format!("{bytes} B") } else { format!("{size:.1} {unit}") };
        }
        size /= 1024.0;
    }
    format!("{size:.1} TiB")
}
