//! The `unpack` section of a gate.

use encoding_rs::Encoding;

use crate::pattern::Pattern;
use crate::pattern::template::Template;
use crate::settings::keys::{path_template, patterns};
use crate::settings::reader::Section;
use crate::settings::secret::Secret;
use crate::settings::values::parse_bytes;
use crate::work::exists::FileExists;
use crate::work::openpgp::keys::KeyFile;
use crate::work::seam::ReadContext;

/// The `unpack` section of a gate.
#[derive(Debug, Clone)]
pub(crate) struct UnpackConfig {
    /// The folder into which an archive is unpacked.
    pub into: Template,
    /// What is done when something lies there. Default: the archive is held.
    pub exists: FileExists,
    /// What of the archive is taken.
    pub choice: Choice,
    pub limits: Limits,
    /// Opens members that are encrypted.
    pub password: Option<Secret>,
    /// Reads messages that are encrypted for it.
    pub key: Option<KeyFile>,
}

/// What of an archive is taken, and under which names.
#[derive(Debug, Clone)]
pub(crate) struct Choice {
    /// Members that are taken; all when none is named.
    pub take: Vec<Pattern>,
    /// Members that are left out.
    pub leave: Vec<Pattern>,
    /// Whether folders in the archive are dropped.
    pub flat: bool,
    /// How names are written that are no UTF-8. Default: code page 437.
    pub names: Option<&'static Encoding>,
    /// So deep archives in archives are unpacked.
    pub nested: u32,
}

/// Beyond these an archive is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Members of all archives together. Default 10,000.
    pub members: u64,
    /// Bytes that come out. Default 10 GB.
    pub bytes: u64,
    /// So many times as much may come out as the archive has. Default 200.
    pub ratio: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Limits { members: 10_000, bytes: 10_000_000_000, ratio: 200 }
    }
}

pub(crate) fn read(mut section: Section<'_>, context: &ReadContext<'_>) -> Option<UnpackConfig> {
    let into = path_template(&mut section, "into", context.folder, context.fields);
    let exists = FileExists::read(&mut section).unwrap_or(FileExists::Fail);
    let take = patterns(section.texts("take").unwrap_or_default(), false);
    let leave = patterns(section.texts("leave").unwrap_or_default(), false);
    let choice = Choice {
        take,
        leave,
        flat: section.flag("flat").unwrap_or(false),
        names: read_names(&mut section),
        nested: section.count("nested").unwrap_or(0),
    };
    let limits = read_limits(&mut section);
    let password = match section.has("password") {
        true => section
            .section("password")
            .and_then(|table| Secret::table(table, context.folder, "`password`")),
        false => None,
    };
    let key = KeyFile::read(&mut section, "key", context.folder);
    section.finish();
    Some(UnpackConfig { into: into?, exists, choice, limits, password, key: key? })
}

fn read_names(section: &mut Section<'_>) -> Option<&'static Encoding> {
    let text = section.text("names")?;
    let found = Encoding::for_label(text.value.as_bytes());
    if found.is_none() {
        text.at.fault(format!(
            "`names` is \"{}\"; expected an encoding such as \"shift_jis\" or \"windows-1252\"",
            text.value
        ));
    }
    found
}

fn read_limits(section: &mut Section<'_>) -> Limits {
    let mut limits = Limits::default();
    if let Some(members) = section.count("members") {
        limits.members = members.into();
    }
    if let Some(ratio) = section.count("ratio") {
        limits.ratio = u64::from(ratio).max(1);
    }
    if let Some(text) = section.text("bytes") {
        match parse_bytes(&text.value) {
            Ok(bytes) => limits.bytes = bytes,
            Err(why) => text.at.fault(format!("`bytes`: {why}")),
        }
    }
    limits
}
