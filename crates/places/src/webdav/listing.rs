//! What a server of WebDAV says of files: the body of `207 Multi-Status` (RFC 4918, section
//! 13).

use jiff::Timestamp;
use percent_encoding::percent_decode_str;
use quick_xml::Reader;
use quick_xml::events::Event;

use crate::{Fault, Kind, Listed};

/// One `response` with the path that it is about.
#[derive(Default)]
struct Response {
    href: String,
    folder: bool,
    file: bool,
    bytes: Option<u64>,
    modified: Option<i64>,
    tag: Option<String>,
}

/// The deepest that elements stand in one another: no server needs a tenth of it.
const DEEPEST: usize = 64;

/// Reads a body, and gives each file and folder with its path on the server.
pub(crate) fn read(
    body: impl std::io::BufRead,
    each: &mut dyn FnMut(String, Listed) -> bool,
) -> Result<(), Fault> {
    let odd = |why: String| Fault::Refused(format!("the server's listing cannot be read: {why}"));
    let mut reader = Reader::from_reader(body);
    let mut buffer = Vec::new();
    let mut within: Vec<String> = Vec::new();
    let mut one = Response::default();
    let mut text = String::new();
    loop {
        match reader.read_event_into(&mut buffer).map_err(|error| odd(error.to_string()))? {
            Event::Start(start) => {
                text.clear();
                let name = start.local_name().as_ref().to_owned();
                note(&name, &within, &mut one);
                within.push(name);
                if within.len() > DEEPEST {
                    return Err(odd("its elements stand too deep in one another".into()));
                }
            }
            Event::Empty(empty) => note(empty.local_name().as_ref(), &within, &mut one),
            Event::Text(piece) => {
                text.push_str(&piece);
            }
            Event::GeneralRef(piece) => match piece.resolve_char_ref() {
                Ok(Some(letter)) => text.push(letter),
                _ => {
                    let name = piece.as_ref();
                    let known = quick_xml::escape::resolve_xml_entity(name);
                    text.push_str(known.ok_or_else(|| odd(format!("`&{name};`")))?);
                }
            },
            Event::End(_) => {
                let Some(name) = within.pop() else { continue };
                let value = text.trim();
                match name.as_str() {
                    "href" if within.last().is_some_and(|parent| parent == "response") => {
                        one.href = value.to_owned();
                    }
                    "getcontentlength" => one.bytes = value.parse().ok(),
                    "getlastmodified" => one.modified = time(value),
                    // A server may call a tag weak while the file is young (RFC 9110, 8.8.1): it is
                    // the same one.
                    "getetag" => {
                        one.tag = Some(value.strip_prefix("W/").unwrap_or(value).to_owned());
                    }
                    "response" => {
                        let (path, listed) = ended(std::mem::take(&mut one))?;
                        if !each(path, listed) {
                            return Ok(());
                        }
                    }
                    _ => {}
                }
                text.clear();
            }
            Event::DocType(_) => return Err(odd("it defines a document type".into())),
            Event::Eof => return Ok(()),
            _ => {}
        }
        buffer.clear();
    }
}

fn note(name: &str, within: &[String], one: &mut Response) {
    let parent = within.last().map(String::as_str);
    match (parent, name) {
        (Some("resourcetype"), "collection") => one.folder = true,
        (_, "resourcetype") => one.file = true,
        _ => {}
    }
}

/// A time as HTTP writes it (RFC 9110, section 5.6.7).
fn time(text: &str) -> Option<i64> {
    let at = jiff::fmt::rfc2822::parse(text).ok()?;
    Some(Timestamp::from(&at).as_second())
}

fn ended(one: Response) -> Result<(String, Listed), Fault> {
    // Some servers write the whole address.
    let path = match one.href.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or("/", |at| &rest[at..]),
        None => one.href.as_str(),
    };
    let path = percent_decode_str(path).decode_utf8_lossy().into_owned();
    let path = path.trim_end_matches('/').to_owned();
    let name = path.rsplit('/').next().unwrap_or("").to_owned();
    let kind = match (one.folder, one.file) {
        (true, _) => Kind::Folder,
        (false, true) => Kind::File,
        (false, false) => Kind::Other,
    };
    let bytes = one.bytes.unwrap_or(0);
    Ok((path, Listed { name, kind, bytes, modified: one.modified, tag: one.tag }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(body: &str) -> Result<Vec<(String, Listed)>, Fault> {
        let mut all = Vec::new();
        read(body.as_bytes(), &mut |path, one| {
            all.push((path, one));
            true
        })?;
        Ok(all)
    }

    #[test]
    fn a_listing_is_read() {
        let body = r#"<?xml version="1.0" encoding="utf-8"?>
<D:multistatus xmlns:D="DAV:" xmlns:l="DAV:">
<D:response><D:href>/out/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop></D:propstat></D:response>
<D:response><D:href>http://host/out/tide%20&amp;%20wind.csv</D:href><D:propstat><D:prop>
<l:resourcetype/><l:getcontentlength>88</l:getcontentlength>
<l:getlastmodified>Wed, 04 Mar 2026 12:30:15 GMT</l:getlastmodified><l:getetag>W/"58-ab"</l:getetag>
</D:prop></D:propstat></D:response></D:multistatus>"#;
        let all = all(body).unwrap();
        assert_eq!((all[0].0.as_str(), all[0].1.kind), ("/out", Kind::Folder));
        let (path, file) = &all[1];
        assert_eq!(
            (path.as_str(), file.name.as_str()),
            ("/out/tide & wind.csv", "tide & wind.csv")
        );
        assert_eq!((file.bytes, file.modified), (88, Some(1_772_627_415)));
        assert_eq!(file.tag.as_deref(), Some("\"58-ab\""));
    }

    #[test]
    fn what_is_no_listing_is_refused() {
        let bomb = "<!DOCTYPE x [<!ENTITY a \"aaaa\">]><x>&a;</x>";
        assert!(all(bomb).is_err());
        assert!(all("<x>&unknown;</x>").is_err());
        assert!(all(&"<x>".repeat(100)).is_err());
        assert!(all("<a></b>").is_err());
    }
}
