//! The coast of Skerrow Sound: stations that never were, and the data they
//! send. Everything depends on the seed alone.

use std::fmt::Write;

use jiff::civil::DateTime;
use jiff::{SignedDuration, ToSpan};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

/// A tide station.
pub struct Station {
    /// Its name in file names.
    pub id: &'static str,
    /// Mean level above chart datum, in metres.
    mean_m: f64,
    /// Amplitude of the half-day tide, in metres.
    amplitude_m: f64,
    /// How much later than at the first station the tide comes, in hours.
    lag_h: f64,
}

/// The stations.
pub const STATIONS: [Station; 4] = [
    Station { id: "fennick-point", mean_m: 2.4, amplitude_m: 1.3, lag_h: 0.0 },
    Station { id: "garrow-light", mean_m: 2.1, amplitude_m: 1.1, lag_h: 0.6 },
    Station { id: "ullin-bay", mean_m: 2.7, amplitude_m: 1.6, lag_h: 1.1 },
    Station { id: "tarn-ness", mean_m: 1.9, amplitude_m: 0.9, lag_h: 1.7 },
];

/// The harbours that send manifests.
pub const HARBOURS: [&str; 3] = ["ullin-bay", "garrow-light", "tarn-ness"];

/// When the demo's coast begins.
pub fn beginning() -> DateTime {
    jiff::civil::date(2026, 3, 1).at(0, 0, 0, 0)
}

/// The level at a station, in metres above chart datum: the half-day and the
/// day's tide, and a little weather.
fn level_m(station: &Station, at: DateTime, random: &mut ChaCha8Rng) -> f64 {
    let since: SignedDuration = at.duration_since(beginning());
    let hours = since.as_secs_f64() / 3600.0 - station.lag_h;
    let wave = |period_h: f64| (std::f64::consts::TAU * hours / period_h).cos();
    station.mean_m
        + station.amplitude_m * wave(12.42)
        + 0.25 * station.amplitude_m * wave(24.07)
        + random.random_range(-0.04..0.04)
}

/// One hour of levels, a row every five minutes, as delimited text.
pub fn tide_table(station: &Station, hour: DateTime, random: &mut ChaCha8Rng) -> String {
    let mut text = String::from("time,level_m,quality\n");
    for five in 0..12 {
        let at = hour.saturating_add((five * 5).minutes());
        let quality = if random.random_bool(0.03) { "doubtful" } else { "good" };
        // Writing to a String does not fail.
        let _ = writeln!(
            text,
            "{}Z,{:.2},{quality}",
            at.strftime("%Y-%m-%dT%H:%M"),
            level_m(station, at, random)
        );
    }
    text
}

/// What is wrong with a manifest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// Nothing.
    None,
    /// The total is not the sum of the lines.
    Sum,
    /// The weighbridge has not answered yet.
    Weighing,
}

/// A harbour's manifest: what was landed, in tonnes.
pub fn manifest(harbour: &str, number: u32, fault: Fault, random: &mut ChaCha8Rng) -> String {
    const CARGOES: [&str; 8] =
        ["herring", "timber", "slate", "wool", "barley", "rope", "salt", "lamp oil"];
    let mut text = format!("# manifest {number} of {harbour}\n");
    let mut total = 0;
    for _ in 0..random.random_range(3..9) {
        let tonnes = random.random_range(1..60);
        let cargo = CARGOES[random.random_range(0..CARGOES.len())];
        total += tonnes;
        let _ = writeln!(text, "{cargo};{tonnes}");
    }
    if fault == Fault::Weighing {
        text.push_str("weighing;1\n");
    }
    if fault == Fault::Sum {
        total += random.random_range(1..9);
    }
    let _ = writeln!(text, "total;{total}");
    text
}
