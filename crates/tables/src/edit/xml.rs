//! Reading the XML of a part, and writing it as it stood.

use std::borrow::Cow;
use std::io::{self, BufRead, BufReader, Read, Write};

use quick_xml::events::{BytesStart, Event};
use quick_xml::{Reader as XmlReader, Writer as XmlWriter};

use crate::budget::Bounded;
use crate::edit::{EditFault, refused};

const MARK: &[u8] = b"\xEF\xBB\xBF";

/// A part that is read.
pub(super) struct XmlIn<'r> {
    reader: XmlReader<BufReader<Bounded<&'r mut dyn Read>>>,
    buffer: Vec<u8>,
    /// It began with a byte-order mark.
    marked: bool,
    name: String,
}

impl<'r> XmlIn<'r> {
    /// Begins to read; of more than so many bytes nothing is read.
    pub fn new(name: &str, input: &'r mut dyn Read, most: u64) -> Result<Self, EditFault> {
        let mut input = BufReader::with_capacity(32 * 1024, Bounded::new(input, most));
        let start = input.fill_buf().map_err(|error| of_part(name, error))?;
        let marked = start.starts_with(MARK);
        if start.starts_with(b"\xFF\xFE") || start.starts_with(b"\xFE\xFF") {
            return Err(refused(format!("its part `{name}` is not UTF-8")));
        }
        let reader = XmlReader::from_reader(input);
        Ok(XmlIn { reader, buffer: Vec::new(), marked, name: name.to_owned() })
    }

    /// The next event; a document type is none that a workbook has.
    pub fn next(&mut self) -> Result<Event<'_>, EditFault> {
        self.buffer.clear();
        match self.reader.read_event_into(&mut self.buffer) {
            Ok(Event::DocType(_)) => {
                let name = &self.name;
                Err(refused(format!("its part `{name}` has a document type, as no workbook has")))
            }
            Ok(event) => Ok(event),
            Err(quick_xml::Error::Io(error)) => {
                let kind = error.kind();
                match kind {
                    io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput => {
                        Err(damaged(&self.name, error))
                    }
                    _ => Err(EditFault::Source(io::Error::new(kind, error))),
                }
            }
            Err(error) => Err(damaged(&self.name, error)),
        }
    }

    /// What is wrong with the part.
    pub fn wrong(&self, why: &str) -> EditFault {
        damaged(&self.name, why)
    }
}

/// An error from reading a part: damage, or a file that cannot be read.
pub(super) fn of_part(name: &str, error: io::Error) -> EditFault {
    match error.kind() {
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof => {
            damaged(name, error)
        }
        _ => EditFault::Source(error),
    }
}

fn damaged(name: &str, why: impl std::fmt::Display) -> EditFault {
    refused(format!("it is damaged: its part `{name}`: {why}"))
}

/// A part that is written.
pub(super) struct XmlOut<'a> {
    writer: XmlWriter<&'a mut dyn Write>,
}

impl<'a> XmlOut<'a> {
    pub fn new(out: &'a mut dyn Write, like: &XmlIn<'_>) -> Result<Self, EditFault> {
        if like.marked {
            out.write_all(MARK).map_err(EditFault::Output)?;
        }
        Ok(XmlOut { writer: XmlWriter::new(out) })
    }

    /// Writes an event as it was read.
    pub fn write(&mut self, event: Event<'_>) -> Result<(), EditFault> {
        self.writer.write_event(event).map_err(EditFault::Output)
    }

    /// Writes what is XML already.
    pub fn raw(&mut self, text: &str) -> Result<(), EditFault> {
        self.writer.get_mut().write_all(text.as_bytes()).map_err(EditFault::Output)
    }
}

/// The local name of a tag, without its prefix.
pub(super) fn local<'t>(tag: &'t BytesStart<'_>) -> &'t str {
    let name = tag.name().into_inner();
    name.rsplit(':').next().unwrap_or(name)
}

/// The prefix of a tag with its colon, or nothing.
pub(super) fn prefix(tag: &BytesStart<'_>) -> String {
    let name = tag.name().into_inner();
    name.rfind(':').map_or(String::new(), |at| name[..=at].to_owned())
}

/// The value of an attribute by its name without a prefix.
pub(super) fn attribute(tag: &BytesStart<'_>, name: &str) -> Option<String> {
    let found = tag.attributes().flatten().find(|one| {
        let key = one.key.into_inner();
        key.rsplit(':').next() == Some(name) && !key.starts_with("xmlns")
    })?;
    quick_xml::escape::unescape(&found.value).ok().map(Cow::into_owned)
}

/// The tag with attributes set; those that are there keep their places.
pub(super) fn with_attributes(tag: &BytesStart<'_>, set: &[(&str, String)]) -> BytesStart<'static> {
    let mut new = BytesStart::new(tag.name().into_inner().to_owned());
    let mut left: Vec<&(&str, String)> = set.iter().collect();
    for one in tag.attributes().with_checks(false).flatten() {
        let key = one.key.into_inner();
        match left.iter().position(|(name, _)| *name == key) {
            Some(at) => new.push_attribute((key, left.remove(at).1.as_str())),
            // Its quotes may be other ones.
            None => new.push_attribute(quick_xml::events::attributes::Attribute {
                key: one.key,
                value: one.value.replace('"', "&quot;").into(),
            }),
        }
    }
    for (name, value) in left {
        new.push_attribute((*name, value.as_str()));
    }
    new.into_owned()
}

/// A text as it stands in an element or an attribute.
pub(super) fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}
