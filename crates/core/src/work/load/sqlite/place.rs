//! Opening a SQLite file in a folder that is open, whatever is done to the folder's path.
//!
//! SQLite resolves the path that it is given, part by part, and opens what it comes to:
//! between the two somebody could put a link in the place of a folder. So it is given
//! `/proc/self/fd/N/NAME`, which names the folder that we opened through no link, by a file
//! system layer of its own that takes names as they are. SQLite itself refuses a link in
//! the place of the file (`O_NOFOLLOW`).

use std::ffi::{CStr, c_char, c_int};
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use rusqlite::ffi;

use crate::files::at::Folder;

/// The name under which SQLite knows the layer.
const NAME: &CStr = c"vadegate-as-named";

/// Where the kernel shows what a process has open.
const OPEN_FILES: &str = "/proc/self/fd";

/// The path of a file in a folder that is open, as the kernel resolves it, and the layer by
/// which it is to be opened; none where the kernel shows no open files.
pub(crate) fn in_open_folder(
    folder: &Arc<Folder>,
    name: &Path,
) -> Option<(PathBuf, &'static CStr)> {
    if !Path::new(OPEN_FILES).is_dir() || !registered() {
        return None;
    }
    let number = folder.descriptor().as_raw_fd().to_string();
    Some((Path::new(OPEN_FILES).join(number).join(name), NAME))
}

/// Has SQLite know the layer; false when it has no other to build it on.
fn registered() -> bool {
    static REGISTERED: OnceLock<bool> = OnceLock::new();
    *REGISTERED.get_or_init(|| {
        // SAFETY: `sqlite3_vfs_find` gives the default layer, which lives as long as the
        // process; it is plain data and copied. The copy is leaked, as SQLite keeps it.
        unsafe {
            let default = ffi::sqlite3_vfs_find(std::ptr::null());
            if default.is_null() {
                return false;
            }
            let mut layer = Box::new(std::ptr::read(default));
            layer.zName = NAME.as_ptr();
            layer.pNext = std::ptr::null_mut();
            layer.xFullPathname = Some(as_named);
            ffi::sqlite3_vfs_register(Box::leak(layer), 0) == ffi::SQLITE_OK
        }
    })
}

/// A name is a whole path already.
unsafe extern "C" fn as_named(
    _: *mut ffi::sqlite3_vfs,
    name: *const c_char,
    room: c_int,
    out: *mut c_char,
) -> c_int {
    // SAFETY: SQLite gives a name that ends in a zero byte, and `room` bytes to write to.
    unsafe {
        let bytes = CStr::from_ptr(name).to_bytes_with_nul();
        if usize::try_from(room).is_ok_and(|room| bytes.len() <= room) {
            std::ptr::copy_nonoverlapping(bytes.as_ptr().cast(), out, bytes.len());
            return ffi::SQLITE_OK;
        }
    }
    ffi::SQLITE_CANTOPEN
}
