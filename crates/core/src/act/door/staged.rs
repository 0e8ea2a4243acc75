//! What is received lies staged, hidden, in the drop folder until it gets its name.

use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use crate::act::door::rules::{folder_of, occupied};
use crate::act::door::types::{DoorError, NewUpload};
use crate::engine::gate::state::Live;
use crate::files::at::{At, Folder};
use crate::files::sha256::Sha256;
use crate::ledger::ids::{RemoteId, UploadId};
use crate::ledger::new_entry::HandedIn;
use crate::ledger::uploads::Upload;

/// Records a file that is about to be received, and then has a place for its bytes.
pub(super) fn staged_upload(
    live: &Live,
    new: NewUpload,
    remote: Option<RemoteId>,
) -> Result<Upload, DoorError> {
    let mut upload = new_upload(live, new)?;
    let ids = live.context.ledger.begin_uploads(vec![(upload.clone(), remote)])?;
    upload.id = ids.first().copied().ok_or(DoorError::None)?;
    live.context.config.reach.at_made(Path::new(&upload.staged))?.create_new(0o600)?;
    Ok(upload)
}

/// A file that is about to be received, with a secret name, and not known to the ledger yet.
pub(super) fn new_upload(live: &Live, new: NewUpload) -> Result<Upload, DoorError> {
    let folder = live.gate.drops.path_of(folder_of(live, &new.path));
    let name = crate::people::new_secret().map_err(io::Error::other)?;
    let staged = folder.join(format!(".vadegate-{}.arriving", &name[..16]));
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
    let folder = give_name(live, upload, staged)?;
    folder.sync()?;
    crate::fault::at("door.published").map_err(DoorError::from)
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
        // It was taken away at once by whoever works the folder: the ledger knows it.
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(DoorError::Wrong(format!(
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
