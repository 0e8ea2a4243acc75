//! Paths below the folder of a place's address.

use crate::Fault;

/// The longest path that is said to a server, in bytes.
const LONGEST: usize = 4096;

/// Sees that a path stays below the folder of its place, and can be said to a server.
///
/// # Errors
/// [`Fault::Unsayable`].
pub fn check_path(path: &str) -> Result<(), Fault> {
    if path.len() > LONGEST {
        return Err(Fault::Unsayable(format!("a path is longer than {LONGEST} bytes")));
    }
    if path.is_empty() {
        return Ok(());
    }
    path.split('/').try_for_each(check_name)
}

/// Sees that a name is one of a file in a folder, and can be said to a server.
///
/// # Errors
/// [`Fault::Unsayable`].
pub fn check_name(name: &str) -> Result<(), Fault> {
    let why = if name.is_empty() || matches!(name, "." | "..") {
        "is no name of a file"
    } else if name.contains('/') {
        "has a `/` in it"
    } else if name.contains('\u{fffd}') {
        "is not UTF-8"
    } else if name.chars().any(char::is_control) {
        "has a control character in it"
    } else {
        return Ok(());
    };
    Err(Fault::Unsayable(format!("the name `{}` {why}", name.escape_debug())))
}

/// A path in a folder, where the folder may be none.
pub fn join(folder: &str, name: &str) -> String {
    if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_stays_below_its_place() {
        for good in ["", "a", "a/b.csv", "-dash", " blank", "\"quote'", "ö/ü", "a\\b", "*?[x]"] {
            assert!(check_path(good).is_ok(), "{good}");
        }
        for bad in
            ["/a", "a/", "a//b", "..", "a/../b", ".", "a\nb", "a\r\nDELE x", "\u{fffd}", "a\0"]
        {
            assert!(check_path(bad).is_err(), "{bad:?}");
        }
        assert!(check_path(&"a/".repeat(3000)).is_err());
        assert_eq!((join("", "a"), join("a/b", "c")), ("a".to_owned(), "a/b/c".to_owned()));
    }
}
