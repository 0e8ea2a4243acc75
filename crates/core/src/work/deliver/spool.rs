//! Copies that are made only to be sent: compressed or encrypted ones, of which the length is
//! known when they are there. They lie in the state folder, and go when they were sent.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::files::roots::Reach;
use crate::ledger::ids::BatchId;
use crate::work::deliver::far::{FarCopy, Known};
use crate::work::deliver::stage::WantedCopy;
use crate::work::env::Env;
use crate::work::openpgp::seal::Seal;

/// The folder of what is on its way, below the state folder.
pub(crate) const FOLDER: &str = "sending";

/// What is made to be sent of one batch.
pub(crate) struct Spool {
    folder: PathBuf,
    made: AtomicU64,
    /// Which destinations encrypt.
    sealed: std::sync::OnceLock<Vec<bool>>,
}

impl Spool {
    /// Begins with a batch.
    pub fn begin(env: &Env<'_>, batch: BatchId) -> Self {
        let folder = env.state.join(FOLDER).join(batch.to_string());
        let (made, sealed) = (AtomicU64::new(0), std::sync::OnceLock::new());
        Spool { folder, made, sealed }
    }

    /// The copies that are to be made of a file only to be sent.
    pub fn places(
        &self,
        copies: &[FarCopy],
        seals: &[Option<Arc<Seal>>],
    ) -> io::Result<Vec<WantedCopy>> {
        self.sealed.get_or_init(|| seals.iter().map(Option::is_some).collect());
        let made = copies.iter().filter(|copy| self.is_made(copy));
        let place = |copy: &FarCopy| {
            std::fs::create_dir_all(&self.folder)?;
            let number = self.made.fetch_add(1, Ordering::Relaxed);
            let place = Reach::anywhere().at(&self.folder.join(number.to_string()))?;
            let seal = seals[copy.number].clone();
            Ok(WantedCopy { place, compress: copy.compress, seal })
        };
        made.map(place).collect()
    }

    /// Whether a copy is made before it is sent.
    pub fn is_made(&self, copy: &FarCopy) -> bool {
        let other = copy.compress.is_some() || self.is_sealed(copy);
        other && !matches!(copy.known, Known::Stands { .. })
    }

    /// Whether it is another at every attempt.
    pub fn is_sealed(&self, copy: &FarCopy) -> bool {
        self.sealed.get().and_then(|sealed| sealed.get(copy.number)).copied().unwrap_or(false)
    }
}

impl Drop for Spool {
    fn drop(&mut self) {
        if self.made.load(Ordering::Relaxed) > 0 {
            forget(&self.folder);
        }
    }
}

/// Removes what an earlier run left on its way.
pub(crate) fn tidy(state: &Path) {
    forget(&state.join(FOLDER));
}

fn forget(folder: &Path) {
    match std::fs::remove_dir_all(folder) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            tracing::warn!("`{}` cannot be removed: {error}", folder.display());
        }
        _ => {}
    }
}
