//! Places that are open: one connection, or a few, for all gates that use them.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use vadegate_places::{Pace, Place};

use crate::afar::config::PlaceConfig;

/// Places that were opened, by name.
#[derive(Default)]
pub(crate) struct Places(Mutex<HashMap<String, (String, Opened)>>);

/// A place that is open.
#[derive(Clone)]
pub(crate) struct Opened {
    pub place: Arc<dyn Place>,
    pub pace: Option<Arc<Pace>>,
}

impl Places {
    /// A place, as it is configured now: opened when it was not, or was another.
    pub fn open(&self, config: &PlaceConfig) -> Opened {
        let shown = format!("{config:?}");
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known, opened)) = all.get(&config.name)
            && *known == shown
        {
            return opened.clone();
        }
        let login = config.login.clone();
        let place = vadegate_places::open(&config.at, Arc::new(move || login.read()));
        let pace = config.at_most.map(|bytes| Arc::new(Pace::new(bytes)));
        let opened = Opened { place, pace };
        all.insert(config.name.clone(), (shown, opened.clone()));
        opened
    }
}

/// The configuration has no place of this name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("there is no [place.{0}] any more")]
pub(crate) struct NoPlace(pub String);

/// The places of a configuration, as works see them.
#[derive(Clone, Copy)]
pub(crate) struct Afar<'a> {
    pub configured: &'a [PlaceConfig],
    pub opened: &'a Places,
}

impl Afar<'_> {
    /// A place by its name.
    ///
    /// # Errors
    /// [`NoPlace`], when the configuration has none of this name.
    pub fn open(&self, name: &str) -> Result<Opened, NoPlace> {
        let config = self.configured.iter().find(|place| place.name == name);
        let config = config.ok_or_else(|| NoPlace(name.to_owned()))?;
        Ok(self.opened.open(config))
    }
}
