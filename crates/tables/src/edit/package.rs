//! The package of a workbook: a zip archive of parts.

use std::collections::{HashMap, HashSet};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};

use tempfile::SpooledTempFile;
use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use crate::budget::{MOST_PARTS, MOST_STREAMED};
use crate::edit::xml::{XmlIn, XmlOut, of_part};
use crate::edit::{EditFault, refused};

/// Bytes of a part that is held in memory, unpacked.
const MOST_SMALL: u64 = 64 << 20;
/// Bytes of parts written anew that are kept in memory; more is kept in a temporary file.
const SPOOL: usize = 8 << 20;
/// How the container of older and of encrypted workbooks begins (MS-CFB).
const CONTAINER: &[u8] = b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1";

/// A workbook's parts, with those that are written anew.
pub(super) struct Package<R: Read + Seek> {
    archive: ZipArchive<BufReader<R>>,
    /// Parts written anew, in an archive of their own: so their lengths are known before
    /// they come into the new package.
    anew: ZipWriter<SpooledTempFile>,
    /// Names of those, and of parts that go.
    rewritten: HashSet<String>,
    removed: HashSet<String>,
    names: HashMap<String, String>,
}

impl<R: Read + Seek> Package<R> {
    /// Opens a workbook of the kinds xlsx and xlsm.
    pub fn open(mut input: R) -> Result<Self, EditFault> {
        let mut start = [0; 8];
        let length = crate::decode::read_full(&mut input, &mut start).map_err(EditFault::Source)?;
        if start[..length] == *CONTAINER {
            return Err(refuse_container(input));
        }
        input.seek(SeekFrom::Start(0)).map_err(EditFault::Source)?;
        let archive = ZipArchive::new(BufReader::new(input)).map_err(|error| match error {
            ZipError::Io(error) => of_part("list of parts", error),
            error => refused(format!("it is no workbook that can be edited, or damaged: {error}")),
        })?;
        if archive.len() > MOST_PARTS {
            return Err(refused(format!("it has more than {MOST_PARTS} parts")));
        }
        // Names of parts are the same in any letter case (ECMA-376, part 2, 6.2.2.3).
        let mut names = HashMap::new();
        for name in archive.file_names().flatten() {
            if names.insert(name.to_lowercase(), name.clone().into_owned()).is_some() {
                return Err(refused(format!("it is damaged: it has two parts called `{name}`")));
            }
        }
        let package = Package {
            archive,
            anew: ZipWriter::new(SpooledTempFile::new(SPOOL)),
            rewritten: HashSet::new(),
            removed: HashSet::new(),
            names,
        };
        package.refuse_others().map(|()| package)
    }

    fn refuse_others(&self) -> Result<(), EditFault> {
        let begins = |start: &str| self.names.keys().any(|name| name.starts_with(start));
        if self.has("xl/workbook.bin") {
            return Err(refused(
                "cells of a binary workbook (xlsb) cannot be set; save it as xlsx",
            ));
        }
        if self.has("content.xml") && self.has("mimetype") {
            return Err(refused(
                "cells of an OpenDocument spreadsheet (ods) cannot be set; save it as xlsx",
            ));
        }
        if begins("_xmlsignatures/") {
            return Err(refused(
                "it is signed, and the signature would not hold any more; remove the signature first",
            ));
        }
        match self.has("[content_types].xml") && begins("xl/") {
            true => Ok(()),
            false => Err(refused("it is a zip archive and no workbook")),
        }
    }

    /// Whether there is a part of this name.
    pub fn has(&self, name: &str) -> bool {
        self.names.contains_key(&name.to_lowercase())
    }

    /// Reads a part, event by event.
    pub fn read<T>(
        &mut self,
        name: &str,
        read: impl FnOnce(&mut XmlIn<'_>) -> Result<T, EditFault>,
    ) -> Result<T, EditFault> {
        let mut part = part(&mut self.archive, &self.names, name)?;
        let mut reader = XmlIn::new(name, &mut part, MOST_SMALL)?;
        read(&mut reader)
    }

    /// Writes a part anew.
    pub fn rewrite<T>(
        &mut self,
        name: &str,
        rewrite: impl FnOnce(&mut XmlIn<'_>, &mut XmlOut<'_>) -> Result<T, EditFault>,
    ) -> Result<T, EditFault> {
        let mut part = part(&mut self.archive, &self.names, name)?;
        let method = match part.compression() {
            CompressionMethod::Stored => CompressionMethod::Stored,
            _ => CompressionMethod::Deflated,
        };
        let options = SimpleFileOptions::default()
            .compression_method(method)
            .last_modified_time(part.last_modified().unwrap_or_default())
            .large_file(part.size() > u64::from(u32::MAX / 2));
        let stored = part.name().map(|name| name.into_owned()).map_err(|_| missing(name))?;
        self.anew.start_file(&stored, options).map_err(written)?;
        self.rewritten.insert(stored);
        let mut reader = XmlIn::new(name, &mut part, MOST_STREAMED)?;
        let mut writer = XmlOut::new(&mut self.anew, &reader)?;
        rewrite(&mut reader, &mut writer)
    }

    /// Leaves a part out.
    pub fn remove(&mut self, name: &str) {
        self.removed.extend(self.names.get(&name.to_lowercase()).cloned());
    }

    /// Writes the new package: parts that stay, with their compressed bytes, and those that
    /// were written anew, all in the order in which they stood.
    pub fn write_to(self, output: &mut dyn Write) -> Result<(), EditFault> {
        let Package { mut archive, anew, rewritten, removed, .. } = self;
        let mut anew = ZipArchive::new(anew.finish().map_err(written)?).map_err(written)?;
        let mut writer = ZipWriter::new(Counted { output, written: 0 });
        writer.set_raw_comment(archive.comment().to_vec().into()).map_err(written)?;
        for number in 0..archive.len() {
            let part = archive.by_index_raw(number).map_err(read)?;
            let name = part.name().map(|name| name.into_owned()).map_err(read)?;
            if removed.contains(&name) {
                continue;
            }
            match rewritten.contains(&name) {
                true => {
                    drop(part);
                    let number = anew.index_for_name(&name).ok_or_else(|| missing(&name))?;
                    let part = anew.by_index_raw(number).map_err(written)?;
                    writer.raw_copy_file(part).map_err(written)?;
                }
                false => writer.raw_copy_file(part).map_err(written)?,
            }
        }
        writer.finish().map_err(written)?;
        Ok(())
    }
}

/// A writer that knows how far it is. All lengths are known before they are written: nobody
/// need go back.
struct Counted<'a> {
    output: &'a mut dyn Write,
    written: u64,
}

impl Write for Counted<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.output.write(bytes)?;
        self.written += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.output.flush()
    }
}

impl Seek for Counted<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        match to {
            SeekFrom::Current(0) | SeekFrom::End(0) => Ok(self.written),
            SeekFrom::Start(at) if at == self.written => Ok(at),
            _ => Err(io::ErrorKind::Unsupported.into()),
        }
    }
}

fn missing(name: &str) -> EditFault {
    refused(format!("it is damaged: it has no part `{name}`"))
}

fn read(error: ZipError) -> EditFault {
    match error {
        ZipError::Io(error) => of_part("list of parts", error),
        error => refused(format!("it is damaged: {error}")),
    }
}

fn written(error: ZipError) -> EditFault {
    match error {
        ZipError::Io(error) => EditFault::Output(error),
        error => EditFault::Output(io::Error::other(error)),
    }
}

fn part<'a, R: Read + Seek>(
    archive: &'a mut ZipArchive<R>,
    names: &HashMap<String, String>,
    name: &str,
) -> Result<zip::read::ZipFile<'a, R>, EditFault> {
    let stored = names.get(&name.to_lowercase()).ok_or_else(|| missing(name))?;
    archive.by_name(stored).map_err(|error| match error {
        ZipError::UnsupportedArchive(ZipError::PASSWORD_REQUIRED) => protected(),
        ZipError::Io(error) => of_part(name, error),
        error => refused(format!("it is damaged: its part `{name}`: {error}")),
    })
}

fn protected() -> EditFault {
    refused("it is protected by a password; remove the password, and send it again")
}

/// What stands in a container: an encrypted workbook, or one of the kind before xlsx.
fn refuse_container(mut input: impl Read) -> EditFault {
    let name: Vec<u8> = "EncryptedPackage".bytes().flat_map(|byte| [byte, 0]).collect();
    let finder = memchr::memmem::Finder::new(&name);
    let mut block = vec![0; 64 * 1024];
    let mut kept = 0;
    loop {
        let length = match crate::decode::read_full(&mut input, &mut block[kept..]) {
            Ok(length) => length,
            Err(error) => return EditFault::Source(error),
        };
        if finder.find(&block[..kept + length]).is_some() {
            return protected();
        }
        if length < block.len() - kept {
            return refused("cells of an older workbook (xls) cannot be set; save it as xlsx");
        }
        kept = name.len();
        let from = block.len() - kept;
        block.copy_within(from.., 0);
    }
}
