//! The configuration, edited: tried before it is saved, never saved over what somebody else
//! has written meanwhile, and kept with who and why. The files stay the truth.

mod compared;
mod file;
pub(crate) mod new_gate;
pub(crate) mod types;

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use crate::act::configure::compared::compare;
use crate::act::configure::file::{read_text, swap_in};
use crate::act::configure::types::{
    ConfigFault, ConfigFile, ConfigureError, EditedFile, SavedConfig, TriedConfig,
};
use crate::config::{Config, ConfigError, gate_files};
use crate::engine::Engine;
use crate::files::sha256::Sha256;
use crate::ledger::ConfigChange;
use crate::ledger::ids::ConfigChangeId;
use crate::ledger::people::By;

/// One edit at a time.
static SAVING: Mutex<()> = Mutex::new(());

impl Engine {
    /// The files of the configuration as they stand now.
    ///
    /// # Errors
    /// [`ConfigureError`] when one cannot be read.
    pub fn config_files(&self) -> Result<Vec<ConfigFile>, ConfigureError> {
        let main = self.config().file;
        let more = gate_files(&main)?;
        let files = std::iter::once(main).chain(more);
        let file = |path: PathBuf| {
            let text = read_text(&path)?;
            let sha256 = Sha256::of(text.as_bytes());
            Ok(ConfigFile { path: path.display().to_string(), text, sha256 })
        };
        files.map(file).collect()
    }

    /// What the configuration would come to with one of its files edited, or a new one.
    ///
    /// # Errors
    /// [`ConfigureError`] when the file is none of the configuration.
    pub fn try_config(&self, edited: &EditedFile) -> Result<TriedConfig, ConfigureError> {
        let old = self.config();
        let path = self.place_of_config(&edited.path)?;
        match Config::read_with(&old.file, Some((&path, &edited.text))) {
            Ok(new) => Ok(compare(&old, &new)),
            Err(ConfigError::Faulty { faults, .. }) => {
                let faults = faults.iter().map(|fault| ConfigFault {
                    file: fault.file.display().to_string(),
                    line: fault.line,
                    column: fault.column,
                    message: fault.message.clone(),
                });
                Ok(TriedConfig { faults: faults.collect(), ..TriedConfig::default() })
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Saves one of the files of the configuration, and takes it. `was` is the sum of what it
    /// was edited from; none for a new file.
    ///
    /// # Errors
    /// [`ConfigureError`]: with a fault, or when the file is another by now, nothing is saved.
    pub fn save_config(
        &self,
        edited: &EditedFile,
        was: Option<Sha256>,
        by: &By,
    ) -> Result<SavedConfig, ConfigureError> {
        let _alone = SAVING.lock().unwrap_or_else(PoisonError::into_inner);
        let path = self.place_of_config(&edited.path)?;
        let tried = self.try_config(edited)?;
        if let Some(fault) = tried.faults.first() {
            return Err(ConfigureError::Faulty(format!(
                "{}:{}:{}: {}",
                fault.file, fault.line, fault.column, fault.message
            )));
        }
        let before = swap_in(&path, &edited.text, was)?;
        let change = ConfigChange {
            id: ConfigChangeId::of(0),
            at: jiff::Timestamp::now(),
            who: by.who.clone(),
            why: by.why.clone(),
            file: path.display().to_string(),
            text: Some(edited.text.clone()),
        };
        let kept = self.ask(|ledger| ledger.configured(change, before));
        let taken = self.reload()?;
        // It stands, and is in force: that it is not in the history is told.
        kept.map_err(crate::engine::EngineError::from)?;
        let sha256 = Sha256::of(edited.text.as_bytes());
        tracing::info!(who = %by.who, file = %path.display(), "the configuration was saved: {}", by.why);
        Ok(SavedConfig { sha256, taken })
    }

    /// A file of the configuration, or one that would be: nothing else is read or written.
    fn place_of_config(&self, path: &str) -> Result<PathBuf, ConfigureError> {
        let main = self.config().file;
        let wanted = Path::new(path);
        let folder = main.with_file_name("gates.d");
        let name = wanted.file_name().and_then(|name| name.to_str()).unwrap_or("");
        let plain = name.len() > 5 && name.ends_with(".toml") && !name.starts_with('.');
        if wanted == main || (plain && wanted.parent() == Some(&folder)) {
            return Ok(wanted.to_owned());
        }
        Err(ConfigureError::NotThere(format!(
            "`{path}` is no file of the configuration; these are `{}` and `{}/NAME.toml`",
            main.display(),
            folder.display()
        )))
    }
}
