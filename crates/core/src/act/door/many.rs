//! Small files that were fetched, many at once: for all of them there are as few commits and
//! syncs as for one.
//!
//! What holds for one holds for each: the ledger knows its version before it has its name, so
//! that whatever cuts it off, it goes on as any that is handed in. Before that it is hidden, and
//! of no use: it is fetched anew, and what was left of it is swept away.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::time::SystemTime;

use crate::act::door::staged::{gatherer, give_name, hand_in, new_upload, past, taken_away};
use crate::act::door::types::{DoorError, NewUpload};
use crate::engine::Engine;
use crate::engine::gate::state::Live;
use crate::fault::at;
use crate::files::durable::Unsynced;
use crate::files::kept_open::KeptOpen;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::filing::staging::default_mode;
use crate::ledger::ids::RemoteId;
use crate::ledger::uploads::Upload;
use crate::ledger::writer::Ticket;

/// A small file that was fetched whole, and lies nowhere yet.
pub(crate) struct SmallArrival {
    /// Where it is to lie, below the gate's drop folders.
    pub place: String,
    pub content: Vec<u8>,
    /// The sum of its content.
    pub sum: Sha256,
    /// The number of its version.
    pub remote: RemoteId,
    /// The time that it had at its place.
    pub modified: Option<SystemTime>,
}

/// What became of files that were handed in together.
pub(crate) struct HandedInTogether {
    /// Of each whether it has got its name, or why not.
    pub named: Vec<Result<(), DoorError>>,
    /// The write by which it is known that they were fetched.
    pub known: Ticket<()>,
}

impl Engine {
    /// Hands in small files that were fetched; `stay` when nothing is to be done with them at
    /// their place.
    ///
    /// # Errors
    /// [`DoorError`]: all were broken off; those that are whole end as any that is handed in.
    pub(crate) fn hand_in_fetched(
        &self,
        live: &Live,
        who: &str,
        stay: bool,
        arrivals: &[SmallArrival],
    ) -> Result<HandedInTogether, DoorError> {
        let _kept = KeptOpen::begin();
        let mut uploads = planned(live, who, arrivals)?;
        // Nobody else goes on with them meanwhile.
        let receiving = &live.context.receiving;
        let _alone: Vec<_> = uploads.iter().map(|upload| receiving.begin(&upload.name)).collect();
        let staged = stage(live, &mut uploads, arrivals);
        if let Err(error) = staged.and_then(|()| record(live, &mut uploads, arrivals)) {
            // A disk that is full is not kept full by what was begun.
            for upload in &uploads {
                drop_unrecorded(live, upload);
            }
            return Err(error);
        }
        let named = name_all(live, &uploads, arrivals)?;
        let mut published = Vec::new();
        for ((upload, arrival), named) in uploads.iter().zip(arrivals).zip(&named) {
            match named {
                Ok(()) => published.push((upload.id, arrival.remote)),
                // What was refused does not get its name later.
                Err(_) => live.context.ledger.upload_published(upload.id, false)?,
            }
        }
        let known = live.context.ledger.fetched_published(published, stay)?;
        at("fetch.published")?;
        self.have_looked(live)?;
        Ok(HandedInTogether { named, known })
    }
}

/// What will be recorded of them.
fn planned(live: &Live, who: &str, arrivals: &[SmallArrival]) -> Result<Vec<Upload>, DoorError> {
    let new = |one: &SmallArrival| NewUpload {
        gate: live.gate.name.clone(),
        path: one.place.clone(),
        who: who.to_owned(),
        bytes: Some(one.content.len() as u64),
        sha256: None,
        replaces: None,
    };
    let gatherer = gatherer(live)?;
    arrivals.iter().map(|one| new_upload(live, new(one), Some(&gatherer))).collect()
}

/// Records them as whole, all with one commit.
fn record(live: &Live, uploads: &mut [Upload], arrivals: &[SmallArrival]) -> Result<(), DoorError> {
    let remotes = arrivals.iter().map(|one| Some(one.remote));
    let all = uploads.iter().cloned().zip(remotes).collect();
    let ids = live.context.ledger.begin_uploads(all)?;
    uploads.iter_mut().zip(ids).for_each(|(upload, id)| upload.id = id);
    Ok(at("fetch.begun")?)
}

/// Removes what lies of one that is not recorded.
fn drop_unrecorded(live: &Live, upload: &Upload) {
    let removed = || -> Result<(), DoorError> {
        // A commit may have failed and stand: then it goes on by that.
        if live.context.ledger.upload(&upload.name)?.is_none() {
            live.context.config.reach.at(Path::new(&upload.staged))?.remove()?;
        }
        Ok(())
    };
    if let Err(error) = removed() {
        tracing::warn!("what was received of a file cannot be removed: {error}");
    }
}

/// Has their bytes lie in the drop folder, hidden and durable.
fn stage(live: &Live, uploads: &mut [Upload], arrivals: &[SmallArrival]) -> Result<(), DoorError> {
    let mut unsynced = Unsynced::of_outputs();
    for (number, (upload, one)) in uploads.iter_mut().zip(arrivals).enumerate() {
        let file = write(live, upload, one)?;
        let version = Version::of(&file.metadata()?);
        upload.received = version.bytes;
        upload.whole = Some((version.inode, version.modified_ns));
        upload.sha256 = Some(one.sum);
        unsynced.add(number, file);
    }
    at("fetch.received")?;
    match unsynced.finish().into_iter().next() {
        Some((_, error)) => Err(error.into()),
        None => Ok(()),
    }
}

fn write(live: &Live, upload: &Upload, one: &SmallArrival) -> Result<File, DoorError> {
    let staged = live.context.config.reach.at_made(Path::new(&upload.staged))?;
    let mut file = staged.create_new(default_mode())?;
    crate::fault::write("door.write", &one.content, |content| file.write_all(content))?;
    file.set_modified(past(one.modified))?;
    Ok(file)
}

/// Gives them their names, over nothing, durably; one that is refused is given with why.
fn name_all(
    live: &Live,
    uploads: &[Upload],
    arrivals: &[SmallArrival],
) -> Result<Vec<Result<(), DoorError>>, DoorError> {
    let mut folders = BTreeMap::new();
    let mut named = Vec::with_capacity(uploads.len());
    for (upload, arrival) in uploads.iter().zip(arrivals) {
        hand_in(live, upload, arrival.sum)?;
        let staged = live.context.config.reach.at(Path::new(&upload.staged))?;
        named.push(match give_name(live, upload, &staged) {
            Ok(folder) => {
                folders.entry(folder.path().to_owned()).or_insert(folder);
                Ok(())
            }
            Err(refused @ DoorError::Occupied(_)) => Err(refused),
            Err(gone @ DoorError::Gone(_)) => taken_away(live, upload, gone),
            Err(error) => return Err(error),
        });
    }
    folders.values().try_for_each(|folder| folder.sync())?;
    at("door.published")?;
    Ok(named)
}
