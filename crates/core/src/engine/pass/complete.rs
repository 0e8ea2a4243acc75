//! Whether a file is complete, by the rule of its gate. One answer for the gate,
//! which takes it, and for those who ask.

use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::time::Duration;

use crate::arrivals::checksum::{NoSum, sum_for};
use crate::arrivals::settle::{Clock, Look, Verdict, judge};
use crate::config::gate::{Empty, Gate};
use crate::config::settle::{Companion, MarkerFor, SettleBy};
use crate::engine::gate::places::builtins_of_path;
use crate::engine::gate::state::Live;
use crate::files::at::Meta;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::pattern::Fields;
use crate::settings::values::{write_bytes, write_duration};

/// Where nobody can say whether a file was closed, this quiet time stands in.
const INSTEAD_OF_CLOSED: Duration = Duration::from_secs(5);

/// Whether a file is complete.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Complete {
    /// It is, as far as can be told without opening it.
    Yes,
    /// Not before this time has passed; why.
    After(Duration, String),
    /// Not before something else comes; why.
    Waits(String),
}

/// Why a version is not for the gate by its size or age.
pub(crate) fn out_of_bounds(gate: &Gate, version: &Version, now_ns: i64) -> Option<String> {
    let bytes = version.bytes;
    if bytes == 0 && gate.empty == Empty::Leave {
        return Some("it is empty, and the gate leaves empty files".into());
    }
    let bounds = &gate.bounds;
    let has = || match write_bytes(bytes) {
        // Both kinds of units are in use: the bytes themselves are beyond doubt.
        shown if bytes >= 1024 => format!("{shown} ({bytes} B)"),
        shown => shown,
    };
    if let Some(least) = bounds.bytes.least.as_ref().filter(|least| bytes < least.at) {
        return Some(format!("it has {}, and the gate takes {} or more", has(), least.written));
    }
    if let Some(most) = bounds.bytes.most.as_ref().filter(|most| bytes > most.at) {
        return Some(format!("it has {}, and the gate takes {} at most", has(), most.written));
    }
    let age = age(version, now_ns);
    bounds.age.most.as_ref().filter(|most| age > most.at).map(|most| {
        let (age, most) = (write_duration(age), &most.written);
        format!("it was modified {age} ago, and the gate takes files of {most} at most")
    })
}

fn age(version: &Version, now_ns: i64) -> Duration {
    let age = now_ns.saturating_sub(version.modified_ns);
    Duration::from_nanos(u64::try_from(age).unwrap_or(0))
}

/// Whether a version that the gate takes is complete.
pub(crate) fn complete(
    live: &Live,
    path: &str,
    version: &Version,
    look: &Look,
    fields: &Fields,
    clock: &Clock,
) -> Complete {
    let gate = &live.gate;
    let handed_in = live.handed_in(path, version).is_some();
    let mut quiet = if handed_in { Duration::ZERO } else { gate.settle.unchanged_for() };
    if !handed_in
        && matches!(gate.settle.by, SettleBy::Closed)
        && !live.lease.load(Ordering::Relaxed)
    {
        quiet = quiet.max(INSTEAD_OF_CLOSED);
    }
    if let Verdict::Wait(wait) = judge(look, quiet, clock) {
        let (quiet, to_go) = (write_duration(quiet), write_duration(wait));
        return Complete::After(wait, format!("it must be unchanged for {quiet}, {to_go} to go"));
    }
    if let Some(least) = &gate.bounds.age.least {
        let age = age(version, clock.wall_ns);
        if age < least.at {
            let (wait, to_go) = (least.at - age, write_duration(least.at - age));
            let least = &least.written;
            return Complete::After(wait, format!("it must be {least} old, {to_go} to go"));
        }
    }
    if gate.work.as_ref().is_some_and(|work| work.minds_open_workbooks())
        && let Some(lock) = office_locks(&live.gate.drops.path_of(path))
            .find(|lock| self::look(live, lock).is_some())
    {
        let name = lock.file_name().unwrap_or_default().to_string_lossy();
        return Complete::Waits(format!("somebody has it open: `{name}` lies beside it"));
    }
    let Some(companion) = gate.settle.companion().filter(|_| !handed_in) else {
        return Complete::Yes;
    };
    let place = companion_of(live, companion, &live.gate.drops.path_of(path), fields);
    let name = place.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let there = self::look(live, &place).filter(Meta::is_file);
    match (&gate.settle.by, there) {
        (SettleBy::Marker(_, MarkerFor::Folder), Some(marker)) => {
            if look.changed_ns <= marker.version.changed_ns {
                return Complete::Yes;
            }
            Complete::Waits(format!("it came after the marker `{name}`, and waits for the next"))
        }
        (_, Some(_)) => Complete::Yes,
        (SettleBy::Checksum(..), None) => {
            Complete::Waits(format!("it waits for its checksum in `{name}`"))
        }
        (_, None) => Complete::Waits(format!("it waits for the marker `{name}`")),
    }
}

/// The files that office programs keep beside a file that somebody has open.
fn office_locks(file: &Path) -> impl Iterator<Item = PathBuf> {
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let folder = file.parent().unwrap_or(Path::new("/")).to_owned();
    [format!("~${name}"), format!(".~lock.{name}#")].into_iter().map(move |name| folder.join(name))
}

/// What lies at a path, if it can be reached.
fn look(live: &Live, path: &Path) -> Option<Meta> {
    live.context.config.reach.at(path).and_then(|at| at.look()).ok().flatten()
}

/// Where the companion of a file lies, or would lie.
pub(crate) fn companion_of(
    live: &Live,
    companion: &Companion,
    file: &Path,
    fields: &Fields,
) -> PathBuf {
    // The configuration lets it use only what the name gives.
    let path = file.file_name().unwrap_or_default().to_string_lossy();
    let builtins = builtins_of_path(live, &path);
    let name = companion.name.path(fields, &builtins).unwrap_or_else(|_| String::new());
    file.with_file_name(name)
}

/// What the checksum companion says of a file whose sum was taken.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Sum {
    Right,
    /// Wrong so far: why.
    WrongYet(String),
    /// Wrong, and nothing has changed for long enough: why.
    Wrong(String),
}

/// Holds the sum of a file against that of its companion.
pub(crate) fn check_sum(
    live: &Live,
    path: &str,
    fields: &Fields,
    look: &Look,
    sha256: &Sha256,
) -> Sum {
    let SettleBy::Checksum(companion, quiet) = &live.gate.settle.by else { return Sum::Right };
    let sha256 = sha256.to_string();
    let place = companion_of(live, companion, &live.gate.drops.path_of(path), fields);
    let shown = place.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let name = path.rsplit('/').next().unwrap_or(path);
    let said = match read_small(live, &place) {
        Ok(text) => sum_for(&text, name),
        Err(error) => Err(NoSum::Unread(error)),
    };
    let why = match said {
        Ok(said) if said == sha256 => return Sum::Right,
        Ok(said) => format!("its checksum is wrong: `{shown}` says {said}, the file has {sha256}"),
        Err(why) => format!("its checksum cannot be told from `{shown}`: {why}"),
    };
    let clock = live.context.clock();
    let rested =
        self::look(live, &place).is_some_and(|meta| age(&meta.version, clock.wall_ns) >= *quiet);
    if rested && judge(look, *quiet, &clock) == Verdict::Quiet {
        Sum::Wrong(why)
    } else {
        Sum::WrongYet(why)
    }
}

/// A companion is small; a large file of its name is none.
fn read_small(live: &Live, path: &Path) -> std::io::Result<String> {
    use std::io::Read;
    let mut text = String::new();
    live.context.config.reach.at(path)?.open()?.take(1 << 20).read_to_string(&mut text)?;
    Ok(text)
}
