//! Links in drop folders: left, unless the gate follows them to files inside the
//! roots.

use std::borrow::Cow;
use std::io;
use std::path::{Path, PathBuf};

use crate::arrivals::sweep::Seen;
use crate::engine::gate::state::Live;
use crate::files::at::At;
use crate::files::version::{Kind, Version};

impl Live {
    /// The file of a path, reached below the roots through no link but the one that a
    /// gate follows.
    ///
    /// # Errors
    /// As [`crate::files::roots::Reach::folder`].
    pub fn at(&self, path: &Path) -> io::Result<At> {
        self.context.config.reach.at(&self.real(path))
    }

    /// Whether the file at `path` is still `version`.
    pub fn is_unchanged(&self, path: &Path, version: &Version) -> bool {
        self.at(path).is_ok_and(|at| at.is(version))
    }

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
        match self.context.config.reach.at(&real).and_then(|at| at.look()) {
            Ok(Some(file)) if file.is_file() => Cow::Owned(Seen {
                // A link that was changed leads to something new.
                changed_ns: file.version.changed_ns.max(seen.changed_ns),
                ..Seen::new(seen.path.clone(), true, &file)
            }),
            _ => Cow::Borrowed(seen),
        }
    }
}
