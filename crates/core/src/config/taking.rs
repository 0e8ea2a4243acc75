//! Which files a gate takes, by their names.

use std::path::Path;

use crate::arrivals::names::temporary_name;
use crate::config::drops::together;
use crate::config::gate::Gate;
use crate::config::settle::SettleBy;
use crate::pattern::Fields;

impl Gate {
    /// The fields that it captures from a place in its drop folders: from the
    /// folder's own path, and from the path below.
    ///
    /// # Errors
    /// Why it does not take a file there, in words.
    pub fn takes_at(&self, place: &str) -> Result<Fields, String> {
        let placed = self.drops.placed(place).ok_or("it lies in no drop folder of the gate")?;
        let fields = self.takes(placed.path)?;
        if placed.fields.is_empty() {
            return Ok(fields);
        }
        together(&placed.fields, fields).ok_or_else(|| {
            format!("its name does not agree with its drop folder `{}`", placed.folder)
        })
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
    /// The reason, in words.
    pub fn takes(&self, path: &str) -> Result<Fields, String> {
        let name = path.rsplit('/').next().unwrap_or(path);
        if let Some(why) = temporary_name(name) {
            return Err(why.to_owned());
        }
        if let Some(companion) = self.settle.companion()
            && companion.names.is_match(name)
        {
            let what = match self.settle.by {
                SettleBy::Checksum(..) => "the checksum of another file",
                _ => "a marker for other files",
            };
            return Err(format!("it is {what}, by `{}`", companion.name.source()));
        }
        if let Some(marker) = self.batch.as_ref().and_then(|batch| batch.marker.as_ref())
            && marker.names.is_match(name)
        {
            return Err(format!("it closes a batch, by `{}`", marker.name.source()));
        }
        if let Some(pattern) = self.leave.iter().find(|pattern| pattern.is_match(path)) {
            return Err(format!("`leave` pattern `{}` leaves it", pattern.source()));
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
            None => "the gate takes nothing".into(),
            Some((miss, pattern)) => {
                let fitted = if miss.fitted.is_empty() {
                    "does not fit at its start".into()
                } else {
                    format!("fits as far as `{}`", miss.fitted)
                };
                format!(
                    "no pattern takes it; `{}` comes closest: it {fitted} and then needs {}",
                    pattern.source(),
                    miss.needed
                )
            }
        })
    }
}
