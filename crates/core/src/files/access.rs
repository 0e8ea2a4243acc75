//! What this process may do with a path.

use std::path::Path;

use rustix::fs::{Access, AtFlags, CWD, accessat};

/// What the operating system says to access(2) for the effective user.
pub(crate) fn may(path: &Path, access: Access) -> bool {
    accessat(CWD, path, access, AtFlags::EACCESS).is_ok()
}

/// Whether a program may be run.
pub(crate) fn may_run(program: &Path) -> bool {
    may(program, Access::EXEC_OK)
}
