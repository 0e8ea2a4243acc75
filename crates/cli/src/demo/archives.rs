//! Archives that the demo's suppliers send: most are good, one climbs, one is cut off.

use std::io::{self, Cursor, Write};

use jiff::civil::DateTime;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// What is wrong with an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrong {
    /// Nothing.
    Nothing,
    /// One of its members would come elsewhere.
    Climbs,
    /// Its end is missing.
    CutOff,
}

/// A zip archive of these files.
pub fn zipped(files: &[(String, String)], at: DateTime, wrong: Wrong) -> io::Result<Vec<u8>> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    let part = |value: i8| u8::try_from(value).unwrap_or(0);
    let time = zip::DateTime::from_date_and_time(
        u16::try_from(at.year()).unwrap_or(1980),
        part(at.month()),
        part(at.day()),
        part(at.hour()),
        part(at.minute()),
        0,
    );
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(time.unwrap_or_default());
    for (name, content) in files {
        zip.start_file(name.as_str(), options)?;
        zip.write_all(content.as_bytes())?;
    }
    zip.start_file("about.txt", options)?;
    zip.write_all(b"Hours of a buoy, together.\n")?;
    if wrong == Wrong::Climbs {
        zip.start_file("../../../somewhere-else.csv", options)?;
    }
    let mut bytes = zip.finish()?.into_inner();
    if wrong == Wrong::CutOff {
        bytes.truncate(bytes.len() * 2 / 3);
    }
    Ok(bytes)
}
