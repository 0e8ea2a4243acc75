//! Copies at places: what is there already, and what is to come there.

use std::collections::HashMap;
use std::io::{self, Seek, Write};
use std::path::Path;

use vadegate_places::{Fault, Kind};

use crate::afar::opened::Opened;
use crate::files::compress::Compression;
use crate::files::sha256::{Sha256, Sum};
use crate::ledger::deliveries::Delivery;
use crate::ledger::requests::{OutputAt, PlannedOutput};
use crate::ledger::types::Entry;
use crate::ledger::words::{OutputMode, OutputRole};
use crate::work::deliver::config::{DestinationConfig, FarDestination};
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::meet::Content;
use crate::work::seam::Blocked;

/// A copy that comes to a place.
pub(crate) struct FarCopy {
    /// The destination as the configuration writes it.
    pub destination: String,
    pub far: FarDestination,
    pub opened: Opened,
    /// Its address with the path, for people.
    pub shown: String,
    pub path: String,
    pub exists: FileExists,
    pub compress: Option<Compression>,
    /// Which of the destinations it is.
    pub number: usize,
    pub known: Known,
}

/// What is known of it before anything is sent.
pub(crate) enum Known {
    /// Nothing is there that stands in its way.
    Nothing,
    /// It was about to get its name when it was broken off: the place is to be asked.
    Asked(Delivery),
    /// It stands, or something stands that stays: what is told of it.
    Stands { bytes: u64, sha256: Sha256, left: Option<&'static str> },
}

/// Why a copy cannot be planned.
pub(crate) enum NotPlanned {
    Hold(String),
    Blocked(Blocked),
}

impl From<Blocked> for NotPlanned {
    fn from(blocked: Blocked) -> Self {
        NotPlanned::Blocked(blocked)
    }
}

/// Paths at places that copies of a plan take.
pub(crate) type FarTaken = HashMap<(String, String), Sha256>;

/// So many names are tried for a copy that gets a number.
const NAMES: u32 = 10_000;

const SAME: &str = "the same bytes are there";
const OTHER: &str = "something is there";

/// Decides what becomes of the copy of an entry at a place.
pub(crate) fn meet_far(
    destination: &DestinationConfig,
    number: usize,
    entry: &Entry,
    content: Content,
    env: &Env<'_>,
    taken: &mut FarTaken,
) -> Result<FarCopy, NotPlanned> {
    let Some(far) = destination.far.clone() else {
        return Err(NotPlanned::Hold("it is no destination at a place".into()));
    };
    let opened = env.afar.open(&far.place).map_err(|none| Blocked::Away(none.to_string()))?;
    let path = env.path_for(&destination.into, entry);
    let path = path.map_err(|error| NotPlanned::Hold(error.to_string()))?;
    let path = path.trim_start_matches('/').to_owned();
    vadegate_places::check_path(&path).map_err(|fault| NotPlanned::Hold(fault.to_string()))?;
    let name = format!("{}:{}", far.place, destination.into.source());
    let known = env.ledger.delivery(entry.id, &name).map_err(Blocked::from)?;
    let mut copy = FarCopy {
        destination: name,
        shown: format!("{}:{path}", far.place),
        far,
        opened,
        path,
        exists: destination.exists,
        compress: destination.compress,
        number,
        known: Known::Nothing,
    };
    if let Some(known) = known {
        copy.path.clone_from(&known.path);
        copy.shown = format!("{}:{}", copy.far.place, known.path);
        copy.known = if known.stands {
            Known::Stands { bytes: known.bytes, sha256: known.sha256, left: None }
        } else {
            Known::Asked(known)
        };
        return Ok(copy);
    }
    meet(&mut copy, content, taken)?;
    if !matches!(copy.known, Known::Stands { .. }) {
        taken.insert((copy.far.place.clone(), copy.path.clone()), content.sha256);
    }
    Ok(copy)
}

/// What lies in the way, at the place or of the same batch.
fn meet(copy: &mut FarCopy, content: Content, taken: &FarTaken) -> Result<(), NotPlanned> {
    let key = |path: &str| (copy.far.place.clone(), path.to_owned());
    let before = taken.get(&key(&copy.path)).copied();
    let there = copy.opened.place.look(&copy.path).map_err(|fault| blocked(copy, fault))?;
    if there.is_none() && before.is_none() {
        return Ok(());
    }
    let left = |left| Known::Stands { bytes: 0, sha256: Sha256::default(), left: Some(left) };
    match copy.exists {
        FileExists::Leave => copy.known = left(OTHER),
        FileExists::Replace => {
            if there.is_some_and(|there| there.kind != Kind::File) {
                return Err(NotPlanned::Hold(format!(
                    "`{}` is no file, which no file replaces; move it away, or deliver elsewhere",
                    copy.shown
                )));
            }
        }
        FileExists::Number => {
            for number in 2..NAMES {
                let other = crate::filing::folders::numbered(Path::new(&copy.path), number);
                let other = other.display().to_string();
                let free = !taken.contains_key(&key(&other))
                    && copy
                        .opened
                        .place
                        .look(&other)
                        .map_err(|fault| blocked(copy, fault))?
                        .is_none();
                if free {
                    copy.shown = format!("{}:{other}", copy.far.place);
                    copy.path = other;
                    return Ok(());
                }
            }
            return Err(NotPlanned::Hold(format!("no free name is left beside `{}`", copy.shown)));
        }
        FileExists::Fail => {
            let same = match (before, there) {
                (Some(before), _) => before == content.sha256,
                (None, Some(there)) if there.kind == Kind::File => {
                    holds(copy, there.bytes, content).map_err(|fault| blocked(copy, fault))?
                }
                _ => false,
            };
            if !same {
                return Err(NotPlanned::Hold(in_the_way(copy)));
            }
            copy.known = left(SAME);
        }
    }
    Ok(())
}

/// Why a file is held whose copy meets another.
pub(crate) fn in_the_way(copy: &FarCopy) -> String {
    format!(
        "it is to be delivered to `{}`, and something else is there already; move that away, or say exists = \"replace\", \"number\" or \"leave\"",
        copy.shown
    )
}

fn blocked(copy: &FarCopy, fault: Fault) -> NotPlanned {
    match fault {
        Fault::Unsayable(why) => NotPlanned::Hold(why),
        fault if fault.is_of_the_place() => NotPlanned::Blocked(Blocked::Away(fault.to_string())),
        fault => NotPlanned::Blocked(Blocked::Output(format!(
            "`{}` cannot be looked at: {fault}",
            copy.shown
        ))),
    }
}

/// Whether what is there is the content, as it would be written. What is encrypted is never
/// the same twice.
fn holds(copy: &FarCopy, bytes: u64, content: Content) -> Result<bool, Fault> {
    let Some(compress) = copy.compress else {
        return Ok(
            bytes == content.bytes && sum_at(copy, &copy.path, bytes)? == Some(content.sha256)
        );
    };
    // What is longer than the content can be compressed to is not it.
    if bytes > content.bytes.saturating_mul(2).saturating_add(1 << 20) {
        return Ok(false);
    }
    let mut spool = tempfile::tempfile()?;
    let read = copy.opened.place.read(&copy.path, 0, &mut |piece| spool.write_all(piece));
    match read {
        Err(Fault::Absent) => return Ok(false),
        read => read?,
    }
    spool.rewind()?;
    Ok(compress.holds(spool, content.bytes, content.sha256).unwrap_or(false))
}

/// The sum of what is there, of so many bytes; none when it has more, or is not there.
pub(crate) fn sum_at(copy: &FarCopy, path: &str, bytes: u64) -> Result<Option<Sha256>, Fault> {
    let (mut sum, mut left) = (Sum::new(), bytes);
    let read = copy.opened.place.read(path, 0, &mut |piece| {
        left = left.checked_sub(piece.len() as u64).ok_or(io::ErrorKind::FileTooLarge)?;
        sum.update(piece);
        Ok(())
    });
    match read {
        Ok(()) if left == 0 => Ok(Some(sum.finish())),
        Ok(()) | Err(Fault::Absent | Fault::Local(_)) => Ok(None),
        Err(fault) => Err(fault),
    }
}

impl FarCopy {
    /// It as an output of the entry with this number in its batch.
    pub fn planned(&self, of: usize) -> PlannedOutput {
        let left = matches!(self.known, Known::Stands { left: Some(_), .. });
        let mode = match self.exists {
            _ if left => OutputMode::Leave,
            FileExists::Replace => OutputMode::Replace,
            FileExists::Number => OutputMode::Number,
            FileExists::Fail | FileExists::Leave => OutputMode::Create,
        };
        PlannedOutput {
            path: self.shown.clone(),
            at: if left { OutputAt::There } else { OutputAt::Proven },
            mode,
            base_bytes: 0,
            base_sha256: None,
            role: OutputRole::Copy,
            of: Some(of),
        }
    }
}
