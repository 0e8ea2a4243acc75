//! The names that were found in JSON Lines, which takes reading all of them.

use std::collections::HashMap;
use std::fs::File;
use std::os::unix::fs::MetadataExt;
use std::sync::{Arc, Mutex, PoisonError};

use super::Input;
use crate::fault::Fault;
use crate::records::Lines;
use crate::source::{Found, text_of};

/// A file as it was.
type Version = (u64, u64, u64, [i64; 4]);

/// Names are kept of so many files at most.
const MOST_FILES: usize = 256;

/// What was found when a source was noted, for when its rows are copied.
#[derive(Debug, Clone, Default)]
pub(super) struct Names(Arc<Mutex<HashMap<Version, Arc<Lines>>>>);

impl Names {
    /// The names of JSON Lines; none when they are not one on each line.
    ///
    /// # Errors
    /// [`Fault::Io`].
    pub fn of(&self, input: &Input<'_>, found: &Found) -> Result<Option<Arc<Lines>>, Fault> {
        let version = version_of(input.file)?;
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&version).cloned();
        if known.is_some() {
            return Ok(known);
        }
        let Some(lines) = Lines::find(text_of(input.uncounted(), found)?)? else {
            return Ok(None);
        };
        let lines = Arc::new(lines);
        // One that changed while it was read is read again.
        if version_of(input.file)? == version {
            let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            if known.len() < MOST_FILES {
                known.insert(version, Arc::clone(&lines));
            }
        }
        Ok(Some(lines))
    }
}

fn version_of(file: &File) -> Result<Version, Fault> {
    let about = file.metadata().map_err(Fault::Io)?;
    let times = [about.mtime(), about.mtime_nsec(), about.ctime(), about.ctime_nsec()];
    Ok((about.dev(), about.ino(), about.len(), times))
}
