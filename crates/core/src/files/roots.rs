//! Which folders may be reached.

use std::io;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

/// What may be reached: the folders below the roots, but for the state folder.
///
/// A root may itself be a link, or lie behind one: who writes the configuration
/// names it. Below it no link is followed.
#[derive(Debug, Clone)]
pub struct Reach(Arc<Bounds>);

#[derive(Debug)]
struct Bounds {
    /// Each root as it is named, and as it is when links are resolved.
    roots: Vec<(PathBuf, PathBuf)>,
    /// The state folder, in both ways: never data.
    state: Vec<PathBuf>,
    /// No bounds: for a person who works by hand, with their own rights.
    anywhere: bool,
}

impl Reach {
    /// What lies below `roots` (absolute, without `..`), but for what lies in `state`.
    pub fn below(roots: &[PathBuf], state: &Path) -> Self {
        let mut both: Vec<(PathBuf, PathBuf)> = Vec::new();
        for root in roots {
            let real = resolve(root);
            both.push((root.clone(), real.clone()));
            both.push((real.clone(), real));
        }
        // The longest first: it is the one that was meant for what lies in it.
        both.sort_by_key(|(root, _)| std::cmp::Reverse(root.components().count()));
        let state = vec![state.to_owned(), resolve(state)];
        Reach(Arc::new(Bounds { roots: both, state, anywhere: false }))
    }

    /// Everything that this user may reach; links in folders are followed.
    pub fn anywhere() -> Self {
        Reach(Arc::new(Bounds { roots: Vec::new(), state: Vec::new(), anywhere: true }))
    }

    /// Whether `path` (absolute, without `..`) lies in one of the roots, and not in
    /// the state folder.
    pub fn allows(&self, path: &Path) -> bool {
        self.0.anywhere || self.root_of(path).is_some()
    }

    /// What tells it from others that are there.
    pub(crate) fn address(&self) -> usize {
        Arc::as_ptr(&self.0).addr()
    }

    /// Whether there are no bounds.
    pub(crate) fn is_anywhere(&self) -> bool {
        self.0.anywhere
    }

    /// Whether `path` is the state folder, or lies in it.
    pub fn is_state(&self, path: &Path) -> bool {
        self.0.state.iter().any(|state| path.starts_with(state))
    }

    /// The root below which `path` is reached, and what of it lies below; none of a path that
    /// climbs, whatever it says besides: it would be known by other names than it has.
    pub(crate) fn root_of<'a>(&self, path: &'a Path) -> Option<(PathBuf, &'a Path)> {
        let climbs = path.components().any(|part| part == Component::ParentDir);
        if climbs || self.is_state(path) {
            return None;
        }
        let mut found = self.0.roots.iter().filter_map(|(root, real)| {
            let below = path.strip_prefix(root).ok()?;
            (!self.is_state(&real.join(below))).then(|| (root.clone(), below))
        });
        found.next()
    }

    pub(crate) fn outside(&self, path: &Path) -> io::Error {
        let shown = path.display();
        let why = if self.is_state(path) {
            format!("`{shown}` lies in the state folder, which is never data")
        } else {
            format!("`{shown}` lies outside the roots; add its folder to `roots` in [service]")
        };
        io::Error::new(io::ErrorKind::PermissionDenied, why)
    }
}

/// The path with links resolved, as far as it is there.
fn resolve(path: &Path) -> PathBuf {
    for above in path.ancestors() {
        if let Ok(real) = above.canonicalize() {
            return match path.strip_prefix(above) {
                Ok(rest) if rest.as_os_str().is_empty() => real,
                Ok(rest) => real.join(rest),
                Err(_) => real,
            };
        }
    }
    path.to_owned()
}
