//! Which files a gate takes, by their names.

use std::path::Path;

use crate::arrivals::names::temporary_name;
use crate::config::drops::together;
use crate::config::gate::Gate;
use crate::config::settle::SettleBy;
use crate::pattern::Fields;

/// Why a gate does not take a file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotTaken {
    /// It lies elsewhere.
    #[error("it lies in no drop folder of the gate")]
    Elsewhere,
    /// A field of its name is another in the name of its folder.
    #[error("its name does not agree with its drop folder `{0}`")]
    Disagrees(String),
    /// Its name is one that is used while a file is written.
    #[error("{0}")]
    Temporary(&'static str),
    /// It belongs to other files.
    #[error("it is {what}, by `{pattern}`")]
    Companion {
        /// What it is.
        what: &'static str,
        /// The names of such files.
        pattern: String,
    },
    /// It is the marker of a batch.
    #[error("it closes a batch, by `{0}`")]
    Marker(String),
    /// A pattern leaves it.
    #[error("`leave` pattern `{0}` leaves it")]
    Left(String),
    /// The gate has no pattern.
    #[error("the gate takes nothing")]
    Nothing,
    /// No pattern fits.
    #[error(
        "no pattern takes it; `{pattern}` comes closest: it {} and then needs {needed}",
        fits_as_far(fitted)
    )]
    Nearest {
        /// The pattern that comes closest.
        pattern: String,
        /// What of its name fits.
        fitted: String,
        /// What the pattern wants behind it.
        needed: String,
    },
}

fn fits_as_far(fitted: &str) -> String {
    match fitted {
        "" => "does not fit at its start".into(),
        fitted => format!("fits as far as `{fitted}`"),
    }
}

impl Gate {
    /// The fields that it captures from a place in its drop folders: from the
    /// folder's own path, and from the path below.
    ///
    /// # Errors
    /// [`NotTaken`]: why it does not take a file there.
    pub fn takes_at(&self, place: &str) -> Result<Fields, NotTaken> {
        let placed = self.drops.placed(place).ok_or(NotTaken::Elsewhere)?;
        let fields = self.takes(placed.path)?;
        if placed.fields.is_empty() {
            return Ok(fields);
        }
        let agree = together(&placed.fields, fields);
        agree.ok_or_else(|| NotTaken::Disagrees(placed.folder.to_owned()))
    }

    /// Whether a path lies in one of its drop folders, or is one.
    pub fn has_in_drop(&self, path: &Path) -> bool {
        // Something in the path lies in a drop folder when it does.
        let in_it = path.join("x");
        self.drops.place_of(&in_it).is_some_and(|place| self.drops.placed(&place).is_some())
    }

    /// Whether it takes a file of this absolute path, and looks that far down.
    pub fn takes_path(&self, path: &Path) -> bool {
        let Some(place) = self.drops.place_of(path) else { return false };
        let Some(placed) = self.drops.placed(&place) else { return false };
        let level = u32::try_from(placed.path.matches('/').count()).unwrap_or(u32::MAX);
        level <= self.depth && self.takes_at(&place).is_ok()
    }

    /// The fields that it captures from a path below its drop folder, or why it
    /// does not take a file of that name.
    ///
    /// # Errors
    /// [`NotTaken`]: the reason.
    pub fn takes(&self, path: &str) -> Result<Fields, NotTaken> {
        let name = path.rsplit('/').next().unwrap_or(path);
        if let Some(why) = temporary_name(name) {
            return Err(NotTaken::Temporary(why));
        }
        if let Some(companion) = self.settle.companion()
            && companion.names.is_match(name)
        {
            let what = match self.settle.by {
                SettleBy::Checksum(..) => "the checksum of another file",
                _ => "a marker for other files",
            };
            let pattern = companion.name.source().to_owned();
            return Err(NotTaken::Companion { what, pattern });
        }
        if let Some(marker) = self.batch.as_ref().and_then(|batch| batch.marker.as_ref())
            && marker.names.is_match(name)
        {
            return Err(NotTaken::Marker(marker.name.source().to_owned()));
        }
        if let Some(pattern) = self.leave.iter().find(|pattern| pattern.is_match(path)) {
            return Err(NotTaken::Left(pattern.source().to_owned()));
        }
        if let Some(fields) = self.take.iter().find_map(|pattern| pattern.matches(path)) {
            return Ok(fields);
        }
        let nearest = self
            .take
            .iter()
            .filter_map(|pattern| Some((pattern.near_miss(path)?, pattern)))
            .max_by(|(a, _), (b, _)| a.share.total_cmp(&b.share));
        Err(match nearest {
            None => NotTaken::Nothing,
            Some((miss, pattern)) => NotTaken::Nearest {
                pattern: pattern.source().to_owned(),
                fitted: miss.fitted,
                needed: miss.needed,
            },
        })
    }
}
