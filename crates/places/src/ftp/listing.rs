//! What a server of FTP says of the files of a folder.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use suppaftp::list::{File, ListParser};

use crate::{Kind, Listed};

/// Reads a line of `MLSD` or `MLST` (RFC 3659, section 7); none of those of the folder itself
/// and the one above, and of what is no such line.
pub(crate) fn of_facts(line: &str) -> Option<Listed> {
    let line = line.trim_end_matches(['\r', '\n']);
    let (facts, name) = line.split_once("; ").or_else(|| line.split_once(' '))?;
    let (mut kind, mut bytes, mut modified) = (Kind::Other, 0, None);
    for fact in facts.trim_start().split(';') {
        let Some((fact, value)) = fact.split_once('=') else { continue };
        match fact.to_ascii_lowercase().as_str() {
            "type" => {
                kind = match value.to_ascii_lowercase().as_str() {
                    "file" => Kind::File,
                    "dir" => Kind::Folder,
                    "cdir" | "pdir" => return None,
                    _ => Kind::Other,
                }
            }
            "size" => bytes = value.parse().ok()?,
            "modify" => modified = time(value),
            _ => {}
        }
    }
    if matches!(name, "." | "..") {
        return None;
    }
    let bytes = if kind == Kind::Folder { 0 } else { bytes };
    // `MLST` names the path that was asked for.
    Some(Listed { name: name.to_owned(), kind, bytes, modified, tag: None })
}

/// A time as `YYYYMMDDHHMMSS`, always in UTC.
pub(crate) fn time(text: &str) -> Option<i64> {
    let whole = text.split('.').next()?;
    let at = DateTime::strptime("%Y%m%d%H%M%S", whole).ok()?;
    TimeZone::UTC.to_timestamp(at).ok().map(|at| at.as_second())
}

/// A time as [`time`] reads it.
pub(crate) fn written(seconds: i64) -> Option<String> {
    let at = jiff::Timestamp::from_second(seconds).ok()?;
    Some(TimeZone::UTC.to_datetime(at).strftime("%Y%m%d%H%M%S").to_string())
}

/// Reads a line of `LIST`, which has no standard: as most servers write it. Its times are those
/// of the server's own zone, and of no use.
pub(crate) fn of_list(line: &str) -> Option<Listed> {
    let file: File = ListParser::parse_posix(line).or_else(|_| ListParser::parse_dos(line)).ok()?;
    let kind = match (file.is_file(), file.is_directory()) {
        (true, _) => Kind::File,
        (_, true) => Kind::Folder,
        _ => Kind::Other,
    };
    if matches!(file.name(), "." | "..") {
        return None;
    }
    let bytes = if kind == Kind::Folder { 0 } else { file.size() as u64 };
    Some(Listed { name: file.name().to_owned(), kind, bytes, modified: None, tag: None })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_listings_are_read() {
        let line = "Type=file;Size=1234;Modify=20260304123015.123;Perm=r; tide; 2026.csv";
        let file = of_facts(line).unwrap();
        assert_eq!(
            (file.name.as_str(), file.kind, file.bytes),
            ("tide; 2026.csv", Kind::File, 1234)
        );
        assert_eq!(file.modified, Some(1_772_627_415));
        assert_eq!(written(1_772_627_415).unwrap(), "20260304123015");
        assert_eq!(of_facts("type=dir;modify=20260304123015; in").unwrap().kind, Kind::Folder);
        assert_eq!(of_facts("type=OS.unix=slink:/x;size=3; l").unwrap().kind, Kind::Other);
        for none in ["type=cdir; .", "type=pdir; ..", "type=file;size=many; x", "nothing", ""] {
            assert!(of_facts(none).is_none(), "{none}");
        }
        let posix = "-rw-r--r--   1 keeper keeper  88 Mar  4 12:30 two words.csv";
        let file = of_list(posix).unwrap();
        assert_eq!((file.name.as_str(), file.bytes, file.modified), ("two words.csv", 88, None));
        assert_eq!(of_list("03-04-26  12:30PM  <DIR>  in").unwrap().kind, Kind::Folder);
        assert!(of_list("total 12").is_none());
    }
}
