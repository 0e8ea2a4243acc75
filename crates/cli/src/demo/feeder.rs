//! The feeder: drops files into the demo's folders as suppliers do, one after
//! the other: some slowly, some twice under other names, some misnamed, some
//! malformed.

use std::fs::File;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, RecvTimeoutError, Sender};
use std::thread::JoinHandle;
use std::time::Duration;

use jiff::ToSpan;
use jiff::civil::DateTime;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::archives::{self, Wrong};
use super::coast::{self, Fault, HARBOURS, STATIONS};
use super::{morning, pictures, soundings};

/// Sounding workbooks that lie there before the service starts.
const BACKLOG_MONTHS: usize = 8;

/// Hours of tide tables that lie there before the service starts.
const BACKLOG_HOURS: i64 = 12;

/// Steps at which a file is short, and at which the station comes that is late.
const SHORT: u32 = 24;
const LATE: u32 = 34;

/// Drops files, in the same order for the same seed.
pub struct Feeder {
    drops: PathBuf,
    random: ChaCha8Rng,
    pace: Duration,
    /// What is dropped next: every step of the plan is one drop.
    step: u32,
    hour: DateTime,
    number: u32,
    /// Sounding workbooks that were dropped.
    months: usize,
    /// A file that is being written row by row.
    slow: Option<Slow>,
}

struct Slow {
    file: File,
    rows: std::vec::IntoIter<String>,
}

/// A feeder at work.
pub struct Running {
    stop: Sender<()>,
    thread: JoinHandle<()>,
}

impl Running {
    /// Ends it.
    pub fn stop(self) {
        drop(self.stop);
        if self.thread.join().is_err() {
            tracing::error!("the feeder had panicked");
        }
    }
}

impl Feeder {
    /// A feeder for a demo's folder, with the time between two drops in
    /// milliseconds.
    pub fn new(folder: &Path, seed: u64, pace_ms: u64) -> Self {
        Feeder {
            drops: folder.join("drops"),
            random: ChaCha8Rng::seed_from_u64(seed),
            pace: Duration::from_millis(pace_ms.max(1)),
            step: 0,
            hour: coast::beginning(),
            number: 100,
            months: 0,
            slow: None,
        }
    }

    /// Drops what has gathered before the service starts.
    pub fn backlog(&mut self) -> io::Result<()> {
        for _ in 0..BACKLOG_HOURS {
            for at in 0..STATIONS.len() {
                self.tide(at, "")?;
            }
            self.waves()?;
            self.hour = self.hour.saturating_add(1.hour());
        }
        for _ in 0..6 {
            self.manifest(Fault::None)?;
            self.picture()?;
        }
        for (hours, wrong) in [(6, Wrong::Nothing), (3, Wrong::Climbs), (0, Wrong::Nothing)] {
            self.far_hours(hours, wrong)?;
        }
        for station in &STATIONS {
            self.chart(station)?;
        }
        for hours in (1..=3).rev() {
            self.berths(self.hour.saturating_sub(hours.hours()))?;
        }
        for _ in 0..BACKLOG_MONTHS {
            self.sounding()?;
        }
        Ok(())
    }

    /// Goes on dropping on a thread of its own.
    pub fn start(mut self) -> Running {
        let (stop, stopped) = mpsc::channel::<()>();
        let thread = std::thread::spawn(move || {
            while stopped.recv_timeout(self.pace) == Err(RecvTimeoutError::Timeout) {
                // Its folder may have been taken away by a curious visitor.
                if let Err(error) = self.next() {
                    tracing::warn!("the feeder could not drop a file: {error}");
                }
            }
        });
        Running { stop, thread }
    }

    /// The next drop. An hour of the coast has ten: a table of each station,
    /// and what else comes in.
    fn next(&mut self) -> io::Result<()> {
        self.write_slowly()?;
        let (hour, turn) = (self.step / 10, self.step % 10);
        self.step += 1;
        match self.step {
            SHORT => self.short()?,
            LATE => self.late()?,
            _ => {}
        }
        match turn {
            0..=3 => self.table_of(hour, turn as usize),
            4 | 7 => self.picture(),
            5 => self.manifest(match hour % 7 {
                2 => Fault::Sum,
                4 => Fault::Weighing,
                _ => Fault::None,
            }),
            6 => self.odd(hour),
            8 => self.manifest(Fault::None),
            _ => {
                self.waves()?;
                self.berths(self.hour)?;
                self.hour = self.hour.saturating_add(1.hour());
                self.chart(&STATIONS[hour as usize % STATIONS.len()])?;
                if hour % 3 == 1 {
                    self.far_hours(
                        0,
                        match hour % 12 {
                            4 => Wrong::CutOff,
                            10 => Wrong::Climbs,
                            _ => Wrong::Nothing,
                        },
                    )?;
                }
                // A month of the surveyors is three hours of the coast.
                if hour % 3 == 2 { self.sounding() } else { Ok(()) }
            }
        }
    }

    /// An hour of a station that has a row where it usually has twelve.
    fn short(&mut self) -> io::Result<()> {
        let (station, at) = (&STATIONS[0], self.moment());
        let text = table_text(station, at);
        let short: Vec<&str> = text.lines().take(2).collect();
        let path = self.drops.join("tide").join(station.id).join(name_of(station.id, at, ""));
        drop_file(&path, format!("{}\n", short.join("\n")).as_bytes())
    }

    /// The station that comes after its time.
    fn late(&mut self) -> io::Result<()> {
        let at = self.moment();
        let text = coast::tide_table(&STATIONS[0], at, &mut self.random);
        let folder = self.drops.join("tide").join(morning::LATE);
        std::fs::create_dir_all(&folder)?;
        drop_file(&folder.join(name_of(morning::LATE, at, "")), text.as_bytes())
    }

    /// The harbour office's list of berths, on its own server.
    fn berths(&self, at: DateTime) -> io::Result<()> {
        let text = coast::berths(at);
        let folder = self.drops.with_file_name("office").join("berths");
        let name = format!("berths_{}_{}.csv", at.strftime("%Y%m%d"), at.strftime("%H%M"));
        drop_file(&folder.join(name), text.as_bytes())
    }

    /// The next month's workbook; after twelve a new year begins.
    fn sounding(&mut self) -> io::Result<()> {
        let (month, name) = soundings::MONTHS[self.months % 12];
        let year = i16::try_from(2025 + self.months / 12).unwrap_or(2025);
        self.months += 1;
        let bytes = soundings::workbook(year, month, &mut self.random)?;
        let file = format!("skerrow-sound_{year}_{name}.xlsx");
        drop_file(&self.drops.join("soundings").join(file), &bytes)
    }

    fn table_of(&mut self, hour: u32, station: usize) -> io::Result<()> {
        // Each hour another station has a slow line.
        if hour as usize % STATIONS.len() == station && self.slow.is_none() {
            self.begin_slowly(station)
        } else {
            self.tide(station, "")
        }
    }

    /// Once an hour something that is not as it should be.
    fn odd(&mut self, hour: u32) -> io::Result<()> {
        let station = &STATIONS[self.random.random_range(0..STATIONS.len())];
        let folder = self.drops.join("tide").join(station.id);
        match hour % 4 {
            // The same content again, under another name.
            0 => {
                let (at, text) = self.hour_before(station);
                drop_file(&folder.join(name_of(station.id, at, "_resent")), text.as_bytes())
            }
            // A name that no pattern takes.
            1 => {
                let at = self.hour;
                let text = coast::tide_table(station, at, &mut self.random);
                let name = format!("{} {}.csv", station.id, at.strftime("%d-%m-%Y %H%M"));
                drop_file(&folder.join(name), text.as_bytes())
            }
            // A row that was cut off: it is held, with the line.
            2 => {
                let at = self.hour.saturating_add(30.minutes());
                let text = coast::tide_table(station, at, &mut self.random);
                let cut = text.trim_end().rsplit_once(',').map_or("", |(begin, _)| begin);
                drop_file(
                    &folder.join(name_of(station.id, at, "_early")),
                    format!("{cut}\n").as_bytes(),
                )
            }
            // A picture sent twice.
            _ => {
                let picture = pictures::sea_state(&mut self.random);
                let at = self.moment();
                self.drop_picture("tarn-ness", at, &picture)?;
                self.drop_picture("ullin-bay", at.saturating_add(3.seconds()), &picture)
            }
        }
    }

    /// A table that is dropped now and, later, once more. It is made from a
    /// seed of its own, so that its text can be had again.
    fn hour_before(&mut self, station: &coast::Station) -> (DateTime, String) {
        let at = self.hour.saturating_sub(1.hour());
        (at, table_text(station, at))
    }

    fn tide(&mut self, station: usize, suffix: &str) -> io::Result<()> {
        let (station, at) = (&STATIONS[station], self.hour);
        let path = self.drops.join("tide").join(station.id).join(name_of(station.id, at, suffix));
        drop_file(&path, table_text(station, at).as_bytes())
    }

    /// The hour at each buoy, from a seed of its own.
    fn waves(&self) -> io::Result<()> {
        for (at, (buoy, usual_m)) in coast::BUOYS.into_iter().enumerate() {
            let hours = self.hour.duration_since(coast::beginning()).as_hours();
            let seed = 1_000_000 + hours.unsigned_abs() * coast::BUOYS.len() as u64 + at as u64;
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let text = coast::wave_table(usual_m, self.hour, &mut random);
            let path = self.drops.join("waves").join(name_of(buoy, self.hour, ""));
            drop_file(&path, text.as_bytes())?;
        }
        Ok(())
    }

    /// Three hours of the far buoy, which ended so many hours ago, as one archive.
    fn far_hours(&self, ago: i64, wrong: Wrong) -> io::Result<()> {
        let (buoy, usual_m) = coast::FAR_BUOY;
        let end = self.hour.saturating_sub(ago.hours());
        let mut files = Vec::new();
        for hour in (1..=3).rev() {
            let at = end.saturating_sub(hour.hours());
            let hours = at.duration_since(coast::beginning()).as_hours();
            let mut random = ChaCha8Rng::seed_from_u64(2_000_000 + hours.unsigned_abs());
            files.push((name_of(buoy, at, ""), coast::wave_table(usual_m, at, &mut random)));
        }
        let bytes = archives::zipped(&files, end, wrong)?;
        let name = format!("{buoy}_{}.zip", end.strftime("%Y%m%dT%H%M"));
        drop_file(&self.drops.join("buoys").join(name), &bytes)
    }

    /// The chart of a station's present day.
    fn chart(&self, station: &coast::Station) -> io::Result<()> {
        let hours = self.hour.duration_since(coast::beginning()).as_hours();
        let mut random = ChaCha8Rng::seed_from_u64(3_000_000 + hours.unsigned_abs());
        let text = coast::chart(station, self.hour, &mut random);
        let name = format!("{}_{}.svg", station.id, self.hour.strftime("%Y%m%dT%H%M"));
        drop_file(&self.drops.join("charts").join(name), text.as_bytes())
    }

    fn begin_slowly(&mut self, station: usize) -> io::Result<()> {
        let (station, at) = (&STATIONS[station], self.hour);
        let path = self.drops.join("tide").join(station.id).join(name_of(station.id, at, ""));
        let text = table_text(station, at);
        let rows: Vec<String> = text.split_inclusive('\n').map(str::to_owned).collect();
        self.slow = Some(Slow { file: File::create(path)?, rows: rows.into_iter() });
        Ok(())
    }

    /// One more row of the slow file; at its end it is closed.
    fn write_slowly(&mut self) -> io::Result<()> {
        let Some(slow) = &mut self.slow else { return Ok(()) };
        match slow.rows.next() {
            Some(row) => slow.file.write_all(row.as_bytes()),
            None => {
                self.slow = None;
                Ok(())
            }
        }
    }

    fn manifest(&mut self, fault: Fault) -> io::Result<()> {
        self.number += 1;
        let harbour = HARBOURS[self.random.random_range(0..HARBOURS.len())];
        let text = coast::manifest(harbour, self.number, fault, &mut self.random);
        let name = format!("manifest_{harbour}_{}.txt", self.number);
        drop_file(&self.drops.join("manifests").join(name), text.as_bytes())?;
        // Every other manifest has a cover sheet.
        if !self.number.is_multiple_of(2) {
            return Ok(());
        }
        let cover = soundings::cover(harbour, self.number, 3 + self.number % 17)?;
        let name = format!("cover_{harbour}_{}.xlsx", self.number);
        drop_file(&self.drops.join("cover-sheets").join(name), &cover)
    }

    fn picture(&mut self) -> io::Result<()> {
        let place = STATIONS[self.random.random_range(0..STATIONS.len())].id;
        let picture = pictures::sea_state(&mut self.random);
        let at = self.moment();
        self.drop_picture(place, at, &picture)?;
        // Somebody had a quick look at it, and left that behind.
        let glance = format!("glance_{place}_{}.png", at.strftime("%Y%m%dT%H%M%S"));
        drop_file(&self.drops.join("scratch").join(glance), &picture)
    }

    fn drop_picture(&self, place: &str, at: DateTime, picture: &[u8]) -> io::Result<()> {
        let name = format!("{place}_{}.png", at.strftime("%Y%m%dT%H%M%S"));
        drop_file(&self.drops.join("sea-state").join(name), picture)
    }

    /// Some second of the present hour.
    fn moment(&mut self) -> DateTime {
        self.hour.saturating_add(self.random.random_range(0..3600).seconds())
    }
}

fn table_text(station: &coast::Station, at: DateTime) -> String {
    let hours = at.duration_since(coast::beginning()).as_hours();
    let of_station = STATIONS.iter().position(|other| other.id == station.id).unwrap_or(0);
    let seed = hours.unsigned_abs() * STATIONS.len() as u64 + of_station as u64;
    coast::tide_table(station, at, &mut ChaCha8Rng::seed_from_u64(seed))
}

fn name_of(station: &str, at: DateTime, suffix: &str) -> String {
    format!("{station}_{}{suffix}.csv", at.strftime("%Y%m%dT%H%M"))
}

/// Writes under a temporary name and renames, as a careful supplier does.
fn drop_file(path: &Path, content: &[u8]) -> io::Result<()> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".part");
    let part = path.with_file_name(name);
    std::fs::write(&part, content)?;
    std::fs::rename(&part, path)
}

#[cfg(test)]
mod tests;
