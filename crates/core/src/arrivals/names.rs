//! Names under which programs keep files that are not complete.

/// Whether a folder is one in which we stage what is not there yet: nobody looks into it.
pub(crate) fn is_staging_folder(name: &str) -> bool {
    name.starts_with(".vadegate-") && name.ends_with(".staged")
}

/// Why `name` is taken for a temporary one, or `None` when it is not.
pub fn temporary_name(name: &str) -> Option<&'static str> {
    const ENDINGS: [(&str, &str); 12] = [
        ("~", "a name that ends in `~` is an editor's backup"),
        (".part", "`.part` marks a transfer under way"),
        (".partial", "`.partial` marks a transfer under way"),
        (".filepart", "`.filepart` marks a transfer under way"),
        (".crdownload", "`.crdownload` marks a download under way"),
        (".download", "`.download` marks a download under way"),
        (".tmp", "`.tmp` marks a temporary file"),
        (".temp", "`.temp` marks a temporary file"),
        (".swp", "`.swp` is an editor's swap file"),
        (".lock", "`.lock` marks a lock"),
        (".writing", "`.writing` marks a file being written"),
        (".incomplete", "`.incomplete` marks a file being written"),
    ];
    if name.starts_with('.') {
        return Some("a name that begins with a dot is hidden");
    }
    if name.starts_with("~$") {
        return Some("`~$` marks an office program's lock file");
    }
    let lower = name.to_ascii_lowercase();
    ENDINGS.iter().find(|(ending, _)| lower.ends_with(ending)).map(|(_, why)| *why)
}
