//! What is received lies staged, hidden, in the drop folder until it gets its name.

use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use crate::act::door::rules::{folder_of, occupied};
use crate::act::door::types::{DoorError, NewUpload};
use crate::engine::gate::state::Live;
use crate::files::at::{At, Folder};
use crate::files::sha256::{Sha256, Sum};
use crate::ledger::ids::{RemoteId, UploadId};
use crate::ledger::new_entry::HandedIn;
use crate::ledger::uploads::Upload;

/// How what is received is named until it has its own name: with so many letters of the
/// upload's between.
const BEFORE: &str = ".vadegate-";
const BEHIND: &str = ".arriving";
const LETTERS: usize = 16;

/// As [`BEHIND`], of what lies there before the ledger knows it.
const BEHIND_GATHERED: &str = ".fetching";

/// A name of what is received, taken apart.
pub(super) struct StagedName<'a> {
    /// What tells whose it is, where the ledger may not know it.
    pub of: Option<&'a str>,
    /// What the name of the upload begins with.
    pub upload: &'a str,
}

impl<'a> StagedName<'a> {
    pub fn of(name: &'a str) -> Option<Self> {
        let rest = name.strip_prefix(BEFORE)?;
        let (of, upload) = match rest.strip_suffix(BEHIND_GATHERED) {
            Some(gathered) => {
                // The letters of an upload may have a dash themselves.
                let (of, upload) = gathered.split_once('-')?;
                (Some(of), upload)
            }
            None => (None, rest.strip_suffix(BEHIND)?),
        };
        (upload.len() == LETTERS).then_some(StagedName { of, upload })
    }
}

/// What tells that this gate of this ledger gathers a file, whoever else uses its folder.
pub(super) fn gatherer(live: &Live) -> Result<String, DoorError> {
    let mut sum = Sum::new();
    sum.update(live.context.ledger.tag()?.as_bytes());
    sum.update(live.gate.name.as_bytes());
    let sum = sum.finish().to_string();
    Ok(sum.chars().take(8).collect())
}

/// Records a file that is about to be received, and then has a place for its bytes.
pub(super) fn staged_upload(
    live: &Live,
    new: NewUpload,
    remote: Option<RemoteId>,
) -> Result<Upload, DoorError> {
    let mut upload = new_upload(live, new, None)?;
    let ids = live.context.ledger.begin_uploads(vec![(upload.clone(), remote)])?;
    upload.id = ids.first().copied().ok_or(DoorError::None)?;
    live.context.config.reach.at_made(Path::new(&upload.staged))?.create_new(0o600)?;
    Ok(upload)
}

/// A file that is about to be received, with a secret name, and not known to the ledger yet;
/// one that is gathered lies there before it is known.
pub(super) fn new_upload(
    live: &Live,
    new: NewUpload,
    gatherer: Option<&str>,
) -> Result<Upload, DoorError> {
    let folder = live.gate.drops.path_of(folder_of(live, &new.path));
    let name = crate::people::new_secret().map_err(io::Error::other)?;
    let letters = &name[..LETTERS];
    let staged = folder.join(match gatherer {
        Some(of) => format!("{BEFORE}{of}-{letters}{BEHIND_GATHERED}"),
        None => format!("{BEFORE}{letters}{BEHIND}"),
    });
    Ok(Upload {
        id: UploadId::of(0),
        name,
        gate: new.gate,
        place: new.path,
        staged: staged.display().to_string(),
        who: new.who,
        bytes: new.bytes,
        sha256: new.sha256,
        replaces: new.replaces,
        received: 0,
        whole: None,
        published: false,
        entry: None,
    })
}

/// Has the gate know that a version is complete, and durable, when it gets its name.
pub(super) fn hand_in(live: &Live, upload: &Upload, sum: Sha256) -> Result<(), DoorError> {
    let version = upload.version().ok_or(DoorError::None)?;
    let by = HandedIn { upload: upload.id, who: upload.who.clone(), sum };
    live.hand_in(&upload.place, version, by);
    Ok(())
}

/// A time that a file has; one that is not come yet is that of a clock that is wrong.
pub(super) fn past(modified: Option<SystemTime>) -> SystemTime {
    let now = SystemTime::now();
    modified.filter(|at| *at <= now).unwrap_or(now)
}

/// Goes on with a file that was whole when it was cut off.
pub(super) fn go_on(live: &Live, upload: &Upload, staged: &At) -> Result<(), DoorError> {
    publish(live, upload, staged)?;
    Ok(live.context.ledger.upload_published(upload.id, true)?)
}

/// Gives it its name, over nothing, durably.
pub(super) fn publish(live: &Live, upload: &Upload, staged: &At) -> Result<(), DoorError> {
    let folder = match give_name(live, upload, staged) {
        Err(gone @ DoorError::Gone(_)) => return taken_away(live, upload, gone),
        folder => folder?,
    };
    folder.sync()?;
    crate::fault::at("door.published").map_err(DoorError::from)
}

/// Good when the gate itself has taken it, which it has entered before. What somebody else took
/// away is forgotten, and is received anew: nobody can go on with it.
pub(super) fn taken_away(live: &Live, upload: &Upload, gone: DoorError) -> Result<(), DoorError> {
    let ledger = &live.context.ledger;
    if ledger.upload_numbered(upload.id)?.is_some_and(|now| now.entry.is_some()) {
        return Ok(());
    }
    ledger.end_uploads(vec![upload.id])?;
    Err(gone)
}

/// Gives it its name, over nothing; gives the folder that is to be synced.
pub(super) fn give_name(
    live: &Live,
    upload: &Upload,
    staged: &At,
) -> Result<Arc<Folder>, DoorError> {
    let to = live.context.config.reach.at_made(&live.gate.drops.path_of(&upload.place))?;
    let inode = upload.whole.map(|(inode, _)| inode);
    let there = |at: &At| at.version().map(|there| there.map(|version| version.inode));
    match crate::fault::at("door.publish").and_then(|()| staged.rename_over_nothing(&to)) {
        Ok(()) => {}
        // It was done before.
        Err(error) if error.kind() == io::ErrorKind::NotFound && there(&to)? == inode => {}
        // What the gate itself has taken from there is entered.
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(DoorError::Gone(format!(
                "what was received of `{}` is not there any more; hand it in anew",
                upload.place
            )));
        }
        Err(error) if error.raw_os_error() == Some(libc::EEXIST) => {
            return Err(occupied(&upload.place));
        }
        Err(error) => return Err(error.into()),
    }
    Ok(Arc::clone(to.folder()))
}
