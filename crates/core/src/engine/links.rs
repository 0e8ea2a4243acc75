//! Links in drop folders: left, unless the gate follows them to files inside the
//! roots.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use super::live::Live;
use crate::arrivals::{Kind, Seen, look_at};

impl Live {
    /// The file that is read for a path: the path itself, or, at a gate that follows
    /// links, the file in the roots to which a link leads.
    pub fn real(&self, path: &Path) -> PathBuf {
        let is_link = || path.symlink_metadata().is_ok_and(|meta| meta.is_symlink());
        if !self.gate.follow_links || !is_link() {
            return path.to_owned();
        }
        match path.canonicalize() {
            Ok(real) if self.context.config.really_within_roots(&real).is_ok() => real,
            // It stays a link, and a link is no file.
            _ => path.to_owned(),
        }
    }

    /// What is seen where links are followed: in place of a link its file. A link to
    /// a folder, to nowhere or out of the roots stays a link.
    pub fn followed<'a>(&self, seen: &'a Seen) -> Cow<'a, Seen> {
        if !self.gate.follow_links || seen.kind != Kind::Link || !seen.utf8 {
            return Cow::Borrowed(seen);
        }
        let real = self.real(&self.gate.drops.path_of(&seen.path));
        let name = real.file_name().and_then(|name| name.to_str());
        let file = match (real.parent(), name) {
            (Some(folder), Some(name)) => look_at(folder, name),
            _ => return Cow::Borrowed(seen),
        };
        match file {
            Ok(Some(file)) if file.kind == Kind::File => Cow::Owned(Seen {
                path: seen.path.clone(),
                // A link that was changed leads to something new.
                changed_ns: file.changed_ns.max(seen.changed_ns),
                ..file
            }),
            _ => Cow::Borrowed(seen),
        }
    }
}
