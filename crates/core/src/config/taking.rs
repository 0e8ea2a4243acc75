//! Which files a gate takes, by their names.

use super::{Gate, SettleBy};
use crate::arrivals::temporary_name;
use crate::pattern::Fields;

impl Gate {
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
