//! The coast of Skerrow Sound: stations that never were, and the data they
//! send. Everything depends on the seed alone.

use std::fmt::Write;

use jiff::civil::DateTime;
use jiff::{SignedDuration, ToSpan};
use rand::RngExt;
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

/// The wave buoys, and how high the sea usually is there, in metres.
pub const BUOYS: [(&str, f64); 2] = [("skerrow-outer", 2.1), ("ullin-roads", 0.8)];

/// The buoy that is too far out to send each hour by itself.
pub const FAR_BUOY: (&str, f64) = ("skerrow-deep", 2.9);

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

/// One hour of waves at a buoy, a row every ten minutes. Now and then the buoy is hit by
/// something, and one height cannot be right.
pub fn wave_table(usual_m: f64, hour: DateTime, random: &mut ChaCha8Rng) -> String {
    let mut text = String::from("taken_at,height_m,period_s,direction_deg\n");
    let hit = random.random_bool(0.2).then(|| random.random_range(0..6));
    for ten in 0..6 {
        let at = hour.saturating_add((ten * 10).minutes());
        let swell = (at.duration_since(beginning()).as_secs_f64() / 40_000.0).sin();
        let height = usual_m * (1.0 + 0.4 * swell) + random.random_range(0.0..0.3);
        let height = if hit == Some(ten) { -9.99 } else { height };
        let period = 6.0 + 2.0 * swell + random.random_range(-0.4..0.4);
        let direction = 240 + random.random_range(0..50);
        // Writing to a String does not fail.
        let _ = writeln!(
            text,
            "{},{height:.2},{period:.1},{direction}",
            at.strftime("%Y-%m-%d %H:%M:%S")
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

/// Who lies where at Ullin Bay in an hour, as the harbour office lists it.
pub fn berths(hour: DateTime) -> String {
    const VESSELS: [&str; 7] = [
        "Grey Selkie",
        "Tarn Lass",
        "Ebb and Flow",
        "Old Fennick",
        "Skerrow Maid",
        "Lantern",
        "Ullin Pilot",
    ];
    let mut text = String::from("berth,vessel,until\n");
    for berth in 1..=4_i64 {
        let turn = i64::from(hour.hour()) + i64::from(hour.day()) * 24 + berth * 3;
        let vessel = VESSELS[usize::try_from(turn / 2).unwrap_or(0) % VESSELS.len()];
        let until = hour.saturating_add((2 + (turn % 5)).hours());
        // Writing to a String does not fail.
        let _ = writeln!(text, "{berth},{vessel},{}Z", until.strftime("%Y-%m-%dT%H:%M"));
    }
    text
}

/// A day of the tide at a station as a chart (SVG 1.1): the level by the hour.
pub fn chart(station: &Station, day: DateTime, random: &mut ChaCha8Rng) -> String {
    const W: f64 = 720.0;
    const H: f64 = 240.0;
    let mut points = String::new();
    for hour in 0..=48 {
        let at = day.saturating_add((hour * 30).minutes());
        let level = level_m(station, at, random);
        let (x, y) = (f64::from(hour) / 48.0 * W, H - level / 6.0 * H);
        // Writing to a String does not fail.
        let _ = write!(points, "{x:.1},{y:.1} ");
    }
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {W} {H}\">\n\
         <title>{}, level in metres, {}</title>\n\
         <polyline fill=\"none\" stroke=\"#1f5f8b\" stroke-width=\"2\" points=\"{}\"/>\n</svg>\n",
        station.id,
        day.strftime("%Y-%m-%d"),
        points.trim_end()
    )
}
