//! Names of members: how they are written, and which are refused.

use encoding_rs::Encoding;

use crate::pattern::template::split_name;

/// A name of a member: its parts, from the outermost folder to the file.
pub(crate) type Parts = Vec<String>;

/// The text of a name: UTF-8 where it is that, else as it is said, else code page 437.
pub(crate) fn decode(raw: &[u8], names: Option<&'static Encoding>) -> String {
    if let Ok(text) = std::str::from_utf8(raw) {
        return text.to_owned();
    }
    match names {
        Some(encoding) => encoding.decode_without_bom_handling(raw).0.into_owned(),
        None => raw.iter().map(|byte| cp437(*byte)).collect(),
    }
}

/// The upper half of code page 437, which archives are written in when they say nothing.
const CP437: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐\
└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";

fn cp437(byte: u8) -> char {
    match byte.checked_sub(128) {
        None => char::from(byte),
        Some(upper) => CP437.chars().nth(upper.into()).unwrap_or('_'),
    }
}

/// The longest part of a name that file systems have, in bytes.
const LONGEST: usize = 255;

/// A member whose name leads elsewhere, for which the whole archive is held.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the member `{name}` {why}")]
pub(crate) struct NameFault {
    pub name: String,
    pub why: NameTrouble,
}

/// What is wrong with the name of a member.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum NameTrouble {
    #[error("has a NUL in its name")]
    Nul,
    #[error("has a backslash in its name, which leads elsewhere on other systems")]
    Backslash,
    #[error("has an absolute path")]
    Absolute,
    #[error("has a drive letter")]
    Drive,
    #[error("climbs out of the folder with `..`")]
    Climbs,
    #[error("has a part that is longer than {LONGEST} bytes")]
    Long,
    #[error("has a name that is kept for files that are being written")]
    Kept,
}

/// Parts of a name, which stay below the folder into which is unpacked.
///
/// # Errors
/// [`NameFault`]: why the whole archive is held.
pub(crate) fn parts(name: &str) -> Result<Parts, NameFault> {
    let refused = |why| Err(NameFault { name: name.to_owned(), why });
    if name.contains('\0') {
        return refused(NameTrouble::Nul);
    }
    if name.contains('\\') {
        return refused(NameTrouble::Backslash);
    }
    if name.starts_with('/') {
        return refused(NameTrouble::Absolute);
    }
    let parts: Parts =
        name.split('/').filter(|part| !matches!(*part, "" | ".")).map(str::to_owned).collect();
    if parts.first().is_some_and(|first| has_drive(first)) {
        return refused(NameTrouble::Drive);
    }
    if parts.iter().any(|part| part == "..") {
        return refused(NameTrouble::Climbs);
    }
    if parts.iter().any(|part| part.len() > LONGEST) {
        return refused(NameTrouble::Long);
    }
    if parts.iter().any(|part| part.starts_with(".vadegate")) {
        return refused(NameTrouble::Kept);
    }
    Ok(parts)
}

/// Whether a path that begins so is one of a drive, on other systems.
fn has_drive(first: &str) -> bool {
    matches!(first.as_bytes(), [letter, b':', ..] if letter.is_ascii_alphabetic())
}

/// What programs leave in archives beside what is meant.
pub(crate) fn is_junk(parts: &[String]) -> bool {
    let last = parts.last().map_or("", String::as_str);
    parts.iter().any(|part| part == "__MACOSX") || matches!(last, ".DS_Store" | "Thumbs.db")
}

/// A name without the ending that says that it is an archive.
pub(crate) fn stem(name: &str) -> &str {
    let (stem, _) = split_name(name);
    match stem.len().checked_sub(4).and_then(|at| stem.get(at..)) {
        Some(inner) if inner.eq_ignore_ascii_case(".tar") && stem.len() > 4 => {
            &stem[..stem.len() - 4]
        }
        _ => stem,
    }
}

#[cfg(test)]
mod tests {
    use std::path::{Path, PathBuf};

    use proptest::prelude::*;
    use proptest::sample::select;

    use super::*;

    #[test]
    fn the_ending_of_an_archive_is_taken_from_its_name() {
        for (name, expected) in [
            ("a.zip", "a"),
            ("a.tar.gz", "a"),
            ("a.b.TAR.xz", "a.b"),
            ("a.csv.gz", "a.csv"),
            ("a.tgz", "a"),
            ("a", "a"),
            (".tar.gz", ".tar"),
        ] {
            assert_eq!(stem(name), expected, "{name}");
        }
    }

    #[test]
    fn the_code_page_is_whole() {
        assert_eq!(CP437.chars().count(), 128);
        assert_eq!(decode(b"M\x81nze_\x9b\xff", None), "Münze_¢\u{a0}");
        assert_eq!(decode("Münze".as_bytes(), None), "Münze");
        let names = Encoding::for_label(b"shift_jis");
        assert_eq!(decode(b"\x92\xaa.csv", names), "潮.csv");
    }

    #[test]
    fn a_name_that_leads_elsewhere_is_refused_and_says_why() {
        for (name, why) in [
            ("../a", NameTrouble::Climbs),
            ("a/../../b", NameTrouble::Climbs),
            ("a/..", NameTrouble::Climbs),
            ("/etc/passwd", NameTrouble::Absolute),
            ("C:/a", NameTrouble::Drive),
            ("c:a", NameTrouble::Drive),
            ("./C:", NameTrouble::Drive),
            ("a\\..\\b", NameTrouble::Backslash),
            ("a\0b", NameTrouble::Nul),
            (".vadegate-1.staged", NameTrouble::Kept),
            (&"x".repeat(LONGEST + 1), NameTrouble::Long),
        ] {
            let fault = parts(name).unwrap_err();
            assert_eq!(fault.why, why, "{name}");
            assert!(fault.to_string().starts_with("the member `"), "{fault}");
        }
        assert!(parts(&"x".repeat(LONGEST)).is_ok());
        assert_eq!(parts("./a//b/./c.csv").unwrap(), ["a", "b", "c.csv"]);
        assert_eq!(parts("a..b/...").unwrap(), ["a..b", "..."]);
        assert!(is_junk(&parts("__MACOSX/a").unwrap()) && is_junk(&parts("b/Thumbs.db").unwrap()));
        assert!(!is_junk(&parts("a/b.csv").unwrap()));
    }

    proptest! {
        #[test]
        fn a_name_that_is_taken_stays_below_its_folder(
            pieces in prop::collection::vec(
                select(&["a", "ö", "..", ".", "/", "//", "\\", "C:", "\0", ".vadegate-x", " ", "csv", "\u{202e}"][..]),
                0..10,
            ),
        ) {
            let name = pieces.concat();
            if let Ok(parts) = parts(&name) {
                prop_assert!(parts.iter().all(|part| {
                    !matches!(part.as_str(), "" | "." | "..") && !part.contains(['/', '\\', '\0'])
                }), "{:?}", parts);
                let folder = Path::new("/srv/coast/drops");
                let there: PathBuf = parts.iter().fold(folder.to_owned(), |path, part| path.join(part));
                prop_assert!(there.starts_with(folder), "{}", there.display());
                // It is what the name says, as everybody reads it.
                let said: PathBuf = Path::new(&name)
                    .components()
                    .filter(|part| *part != std::path::Component::CurDir)
                    .collect();
                prop_assert_eq!(there.strip_prefix(folder).unwrap(), said);
                // Taken again it is the same.
                let again = super::parts(&parts.join("/"));
                prop_assert_eq!(again, Ok(parts));
            }
        }

        #[test]
        fn any_bytes_are_a_name_in_some_writing(raw in prop::collection::vec(any::<u8>(), 0..40)) {
            let text = decode(&raw, None);
            prop_assert!(text.chars().count() <= raw.len());
            if let Ok(read) = std::str::from_utf8(&raw) {
                prop_assert_eq!(text, read);
            }
            for names in [b"shift_jis".as_slice(), b"windows-1252", b"utf-16le", b"gb18030"] {
                let _ = decode(&raw, Encoding::for_label(names));
            }
        }

        #[test]
        fn an_ending_is_taken_off_the_end(name in "[a-z.]{0,6}(\\.(tar|zip|gz|TAR))?(\\.[a-z0-9]{1,4})?") {
            prop_assert!(name.starts_with(stem(&name)), "{}", name);
            prop_assert!(name.is_empty() || !stem(&name).is_empty(), "{}", name);
        }
    }
}
