//! `[calendar.NAME]`: days off, as a list, or from an iCalendar file (RFC 5545).
//!
//! A file is read again when it changes. While it cannot be read the last good reading
//! counts, and what is wrong is told.

use std::collections::BTreeSet;
use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::config::days_off::{CalendarFault, days_off};
use crate::settings::keys::join;
use crate::settings::reader::{Found, Section};

/// Bytes that a calendar file may have.
const MOST_BYTES: u64 = 4 << 20;

/// How long a file is not looked at again.
const LOOK_AGAIN: Duration = Duration::from_secs(5);

/// Days off.
#[derive(Default)]
pub struct Calendar {
    name: String,
    listed: BTreeSet<Date>,
    file: Option<PathBuf>,
    read: Mutex<Reading>,
}

/// What was last read of a file.
#[derive(Default, Clone)]
struct Reading {
    looked: Option<Instant>,
    stamp: Option<Stamp>,
    off: Arc<BTreeSet<Date>>,
    problem: Option<String>,
}

/// A version of a file, and the day of which its recurring events were counted.
type Stamp = (u64, u64, i64, i64, Date);

impl Calendar {
    /// One with these days.
    pub fn listed(days: impl IntoIterator<Item = Date>) -> Self {
        Calendar { listed: days.into_iter().collect(), ..Calendar::default() }
    }

    /// Whether a day is off.
    pub fn is_off(&self, day: Date) -> bool {
        self.listed.contains(&day) || (self.file.is_some() && self.read().off.contains(&day))
    }

    /// What is wrong with its file.
    pub fn problem(&self) -> Option<String> {
        self.file.as_ref().and_then(|_| self.read().problem)
    }

    /// Takes over what another of the same file had read last.
    fn inherit(&self, before: &Calendar) {
        if self.file.is_some() && self.file == before.file {
            let read = before.read.lock().unwrap_or_else(PoisonError::into_inner).clone();
            let mut own = self.read.lock().unwrap_or_else(PoisonError::into_inner);
            *own = Reading { looked: None, ..read };
        }
    }

    fn read(&self) -> Reading {
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(file) = &self.file else { return read.clone() };
        if read.looked.is_none_or(|looked| looked.elapsed() >= LOOK_AGAIN) {
            read.looked = Some(Instant::now());
            let today = TimeZone::UTC.to_datetime(Timestamp::now()).date();
            match read_file(file, today, read.stamp) {
                Ok(None) => {}
                Ok(Some((stamp, off))) => {
                    *read =
                        Reading { stamp: Some(stamp), off: Arc::new(off), problem: None, ..*read };
                }
                Err(why) => {
                    let name = &self.name;
                    let kept = match read.stamp {
                        Some(_) => "its days as they were last read are kept",
                        None => "it has no days off",
                    };
                    read.problem = Some(format!(
                        "the file `{}` of the calendar `{name}` cannot be used: {why}; until then {kept}",
                        file.display()
                    ));
                }
            }
        }
        read.clone()
    }
}

impl fmt::Debug for Calendar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Gates are compared by what they show: what was read is no rule.
        let mut shown = f.debug_struct("Calendar");
        shown.field("name", &self.name).field("listed", &self.listed).field("file", &self.file);
        shown.finish_non_exhaustive()
    }
}

impl PartialEq for Calendar {
    fn eq(&self, other: &Self) -> bool {
        (&self.name, &self.listed, &self.file) == (&other.name, &other.listed, &other.file)
    }
}

impl Eq for Calendar {}

/// Why a file is no calendar.
#[derive(Debug, thiserror::Error)]
enum NoCalendar {
    #[error(transparent)]
    Unread(#[from] io::Error),
    #[error("it is no file")]
    NoFile,
    #[error("it has more than {MOST_BYTES} bytes")]
    TooLarge,
    #[error(transparent)]
    Faulty(#[from] CalendarFault),
}

/// Reads a calendar file, unless it is the version that was read already.
fn read_file(
    path: &Path,
    today: Date,
    known: Option<Stamp>,
) -> Result<Option<(Stamp, BTreeSet<Date>)>, NoCalendar> {
    let open = || -> io::Result<File> {
        let flags = libc::O_NOFOLLOW | libc::O_NONBLOCK;
        std::fs::OpenOptions::new().read(true).custom_flags(flags).open(path)
    };
    let file = open()?;
    let meta = file.metadata()?;
    if !meta.is_file() {
        return Err(NoCalendar::NoFile);
    }
    if meta.len() > MOST_BYTES {
        return Err(NoCalendar::TooLarge);
    }
    let stamp = (meta.ino(), meta.len(), meta.ctime(), meta.ctime_nsec(), today);
    if known == Some(stamp) {
        return Ok(None);
    }
    let mut text = String::new();
    file.take(MOST_BYTES).read_to_string(&mut text)?;
    Ok(Some((stamp, days_off(&text, today)?)))
}

/// The calendars of a configuration.
#[derive(Debug, Clone, Default)]
pub struct Calendars(Vec<Arc<Calendar>>);

impl Calendars {
    /// Reads `[calendar.NAME]` sections.
    pub(crate) fn read(sections: Vec<(String, Section<'_>)>, folder: &Path) -> Self {
        let mut all = Vec::new();
        for (name, mut section) in sections {
            let mut listed = BTreeSet::new();
            for text in section.texts("off").unwrap_or_default() {
                match text.value.parse::<Date>() {
                    Ok(day) => _ = listed.insert(day),
                    Err(_) => text.at.fault(format!(
                        "`off` has \"{}\"; expected a day such as \"2026-12-25\"",
                        text.value
                    )),
                }
            }
            let file = section.text("file").map(|file| join(folder, &file.value));
            if listed.is_empty() && file.is_none() {
                section.fault_here(format!(
                    "the calendar `{name}` has no day off; say off = [\"2026-12-25\"], or file = \"…\" with an iCalendar file"
                ));
            }
            section.finish();
            all.push(Arc::new(Calendar { name, listed, file, read: Mutex::default() }));
        }
        Calendars(all)
    }

    pub(crate) fn get(&self, name: &Found<'_, String>) -> Option<Arc<Calendar>> {
        let found = self.0.iter().find(|known| known.name == name.value);
        if found.is_none() {
            let known: Vec<&str> = self.0.iter().map(|known| known.name.as_str()).collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            name.at.fault(format!(
                "there is no calendar `{}`; the configuration has {known}; write [calendar.{}]",
                name.value, name.value
            ));
        }
        found.cloned()
    }

    /// Takes over what the calendars of an earlier configuration had read last.
    pub(crate) fn inherit(&self, before: &Calendars) {
        for own in &self.0 {
            if let Some(before) = before.0.iter().find(|before| before.name == own.name) {
                own.inherit(before);
            }
        }
    }

    /// What is wrong with their files.
    pub fn problems(&self) -> Vec<String> {
        self.0.iter().filter_map(|one| one.problem()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_broken_file_is_told_and_the_last_good_one_is_kept() {
        let home = tempfile::tempdir().unwrap();
        let file = home.path().join("port.ics");
        let write = |text: &str| std::fs::write(&file, text).unwrap();
        let again = |before: &Calendar| {
            let next = Calendar { file: Some(file.clone()), ..Calendar::default() };
            next.inherit(before);
            next
        };
        let day: Date = "2026-12-25".parse().unwrap();
        let none = again(&Calendar::default());
        assert!(!none.is_off(day) && none.problem().unwrap().contains("has no days off"));
        write(
            "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART;VALUE=DATE:20261225\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        );
        let good = again(&none);
        assert!(good.is_off(day) && good.problem().is_none());
        write("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\n");
        let broken = again(&good);
        assert!(broken.is_off(day));
        assert!(broken.problem().unwrap().contains("as they were last read are kept"));
        std::fs::remove_file(&file).unwrap();
        std::os::unix::fs::symlink("/dev/zero", &file).unwrap();
        assert!(again(&broken).is_off(day) && again(&broken).problem().is_some());
    }
}
