//! The door of a gate: files that are handed in. What is received is staged, hidden, in the
//! drop folder; whole, checked and durable it gets its name, and is complete by that.
//!
//! The ledger knows of a file before its first byte lies anywhere, and of its version before
//! it has its name: whatever cuts it off, what was told to be durable is there, and a file is
//! entered once, or not at all.

pub(crate) mod many;
pub(crate) mod receiving;
pub(crate) mod rules;
mod staged;
pub(crate) mod tidying;
pub(crate) mod types;

use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use crate::act::door::rules::{check, check_path, give_up, held, refuse_occupied, waiting};
use crate::act::door::staged::{hand_in, past, publish, staged_upload};
use crate::act::door::types::{DoorError, HandedInFile, NewUpload, UploadView};
use crate::act::{EntryAction, How};
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::command::Command;
use crate::engine::gate::state::Live;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::filing::moving::sum_of;
use crate::filing::staging::default_mode;
use crate::ledger::ids::RemoteId;
use crate::ledger::people::By;
use crate::ledger::uploads::Upload;

/// What is known of a file that was fetched.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Fetched {
    /// The number of its version.
    pub remote: RemoteId,
    /// The time that it had at its place.
    pub modified: Option<SystemTime>,
    /// Nothing is to be done with it there.
    pub stays: bool,
}

impl Engine {
    /// Begins to hand in a file; with `resume` one of the same length and sum that was cut off
    /// goes on.
    ///
    /// # Errors
    /// [`DoorError`].
    pub fn begin_upload(&self, new: NewUpload, resume: bool) -> Result<UploadView, DoorError> {
        let live = Arc::clone(&self.handle(&new.gate)?.live);
        check_path(&live, &new.path)?;
        let door = live.gate.door;
        if new.bytes.is_some_and(|bytes| bytes > door.bytes) {
            return Err(DoorError::Large { gate: new.gate, most: door.bytes });
        }
        let ledger = &live.context.ledger;
        let open = ledger.open_uploads(&new.gate, None)?;
        let same = open.iter().find(|one| {
            let alike = one.who == new.who && one.place == new.path && one.bytes == new.bytes;
            resume && alike && one.sha256.is_some() && one.sha256 == new.sha256 && !one.published
        });
        if let Some(same) = same {
            return Ok(view(&live, same.clone())?);
        }
        let waiting = waiting(&live)? + open.iter().filter(|one| !one.published).count() as u64;
        if waiting >= door.files_waiting {
            return Err(DoorError::Full { gate: new.gate, waiting });
        }
        if new.replaces.is_none() {
            refuse_occupied(&live, &new.path)?;
        }
        let upload = staged_upload(&live, new, None)?;
        Ok(view(&live, upload)?)
    }

    /// How far something has come that is handed in.
    ///
    /// # Errors
    /// [`DoorError`].
    pub fn upload(&self, name: &str, owner: Option<&str>) -> Result<UploadView, DoorError> {
        let (live, upload) = self.upload_of(name, owner)?;
        Ok(view(&live, upload)?)
    }

    /// Gives up what is handed in.
    ///
    /// # Errors
    /// [`DoorError`].
    pub fn end_upload(&self, name: &str, owner: Option<&str>) -> Result<(), DoorError> {
        let (live, upload) = self.upload_of(name, owner)?;
        let _alone = live.context.receiving.begin(name).ok_or(DoorError::Busy)?;
        // As it is now that nobody else is at it.
        let upload = live.context.ledger.upload(name)?.unwrap_or(upload);
        if upload.whole.is_some() {
            return Err(DoorError::Occupied("it is whole, and is not taken back".into()));
        }
        give_up(&live, &upload)
    }

    /// Ends what is handed in: its length and its sum are checked, and it gets its name.
    ///
    /// # Errors
    /// [`DoorError`]; what was received stays, unless it is wrong.
    pub fn finish_upload(
        &self,
        name: &str,
        owner: Option<&str>,
        sum: Option<Sha256>,
    ) -> Result<UploadView, DoorError> {
        let (live, upload) = self.upload_of(name, owner)?;
        let _alone = live.context.receiving.begin(name).ok_or(DoorError::Busy)?;
        let mut upload = live.context.ledger.upload(name)?.unwrap_or(upload);
        if upload.published || upload.entry.is_some() {
            return Ok(view(&live, upload)?);
        }
        self.finish(&live, &mut upload, sum, None)?;
        Ok(view(&live, upload)?)
    }

    /// Brings what is there whole to its name.
    fn finish(
        &self,
        live: &Live,
        upload: &mut Upload,
        sum: Option<Sha256>,
        fetched: Option<Fetched>,
    ) -> Result<(), DoorError> {
        let staged = live.context.config.reach.at(Path::new(&upload.staged))?;
        // What is whole was checked, and may have its name already.
        let sum = check(live, upload, &staged, sum.or(upload.whole.and(upload.sha256)))?;
        if upload.whole.is_none() {
            let file = staged.open_to_write()?;
            file.set_permissions(std::os::unix::fs::PermissionsExt::from_mode(default_mode()))?;
            file.set_modified(past(fetched.and_then(|fetched| fetched.modified)))?;
            file.sync_all()?;
            let version = Version::of(&file.metadata()?);
            live.context.ledger.upload_whole(upload.id, version, sum)?;
            upload.sha256 = Some(sum);
            upload.whole = Some((version.inode, version.modified_ns));
        }
        hand_in(live, upload, sum)?;
        let placed = self.make_room(live, upload).and_then(|()| publish(live, upload, &staged));
        if let Err(DoorError::Occupied(_) | DoorError::Changed(_)) = &placed {
            // What was refused does not get its name later, behind the sender's back.
            live.context.ledger.upload_published(upload.id, false)?;
        }
        placed?;
        match fetched {
            Some(Fetched { remote, stays, .. }) => {
                live.context.ledger.fetched_published(vec![(upload.id, remote)], stays)?.wait()?;
            }
            None => live.context.ledger.upload_published(upload.id, true)?,
        }
        upload.published = true;
        self.have_looked(live)
    }

    /// Has the gate look at its drop folders.
    fn have_looked(&self, live: &Live) -> Result<(), DoorError> {
        // A gate whose thread has ended needs no telling.
        let _ = self.handle(&live.gate.name)?.commands.send(Command::Look);
        Ok(())
    }

    /// Begins with a file that is fetched: what a door asks of it the gate has asked already.
    pub(crate) fn begin_fetched(
        &self,
        live: &Live,
        place: &str,
        who: String,
        (bytes, remote): (u64, RemoteId),
    ) -> Result<Upload, DoorError> {
        let new = NewUpload {
            gate: live.gate.name.clone(),
            path: place.to_owned(),
            who,
            bytes: Some(bytes),
            sha256: None,
            replaces: None,
        };
        staged_upload(live, new, Some(remote))
    }

    /// Ends a file that was fetched: it gets the time that it had there, and its name, over
    /// nothing.
    pub(crate) fn finish_fetched(
        &self,
        live: &Live,
        upload: &Upload,
        sum: Option<Sha256>,
        fetched: Fetched,
    ) -> Result<(), DoorError> {
        let _alone = live.context.receiving.begin(&upload.name).ok_or(DoorError::Busy)?;
        self.finish(live, &mut upload.clone(), sum, Some(fetched))
    }

    /// Has what is to be replaced out of the way: what is held goes to the archive as it is,
    /// and counts as done; nothing of it is lost.
    fn make_room(&self, live: &Live, upload: &Upload) -> Result<(), DoorError> {
        let Some(replaces) = upload.replaces else { return Ok(()) };
        let at = live.context.config.reach.at_made(&live.gate.drops.path_of(&upload.place))?;
        if let Some(held) = held(live, upload, replaces)? {
            let by = By { who: upload.who.clone(), why: "a mended file is handed in".into() };
            let done = self.apply_action(EntryAction::File, &[held], &by, How::default())?;
            if let Some(refused) = done.refused.first() {
                return Err(DoorError::Occupied(format!(
                    "the held file cannot be filed to make room: {}",
                    refused.because
                )));
            }
            self.pass(&upload.gate)?;
            return match at.look()? {
                None => Ok(()),
                Some(_) => Err(DoorError::Occupied(format!(
                    "the held file `{}` is to be filed first, and the gate has not done that; is it paused, or does it leave its files? Move it away, and try again",
                    upload.place
                ))),
            };
        }
        if at.look()?.is_none() {
            return Ok(());
        }
        if sum_of(&at)? != replaces {
            return Err(DoorError::Changed(format!(
                "`{}` is not what was to be replaced any more; look at it again",
                upload.place
            )));
        }
        Err(DoorError::Occupied(format!(
            "`{}` is not held; only what is held is replaced",
            upload.place
        )))
    }

    pub(crate) fn upload_of(
        &self,
        name: &str,
        owner: Option<&str>,
    ) -> Result<(Arc<Live>, Upload), DoorError> {
        let found = self.context().ledger.upload(name)?;
        let own = |one: &Upload| owner.is_none_or(|owner| one.who == owner);
        let upload = found.filter(own).ok_or(DoorError::None)?;
        Ok((Arc::clone(&self.handle(&upload.gate)?.live), upload))
    }
}

fn view(live: &Live, upload: Upload) -> Result<UploadView, EngineError> {
    let ledger = &live.context.ledger;
    let entry = upload.entry.map(|entry| ledger.entry(entry)).transpose()?.flatten();
    let waits = upload.sha256.filter(|_| upload.published).map(|sha256| HandedInFile {
        entry: None,
        sha256,
        bytes: upload.received,
        state: "arriving".into(),
        reason: None,
        repeat_of: None,
    });
    let entered = entry.map(|entry| HandedInFile {
        entry: Some(entry.id),
        sha256: entry.sha256,
        bytes: entry.bytes,
        state: entry.state.word().to_owned(),
        reason: entry.reason,
        repeat_of: entry.repeat_of,
    });
    Ok(UploadView {
        name: upload.name,
        gate: upload.gate,
        path: upload.place,
        received: upload.received,
        bytes: upload.bytes,
        complete: upload.published || upload.entry.is_some(),
        became: entered.or(waits),
    })
}
