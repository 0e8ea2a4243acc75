//! What makes two files the same, and what becomes of repeats and revisions.

use std::path::Path;
use std::time::Duration;

use crate::pattern::template::Template;
use crate::settings::keys::{duration, path_template};
use crate::settings::reader::Section;

/// What makes an entry a repeat of an earlier one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Once {
    /// The same SHA-256.
    Content,
    /// The same path below the drop folder.
    Name,
    /// Both.
    NameAndContent,
}

/// What becomes of repeats.
#[derive(Debug, Clone)]
pub enum Repeats {
    /// They go where worked files go.
    File,
    /// They go to a folder of their own.
    Into(Template),
    /// They stay where they are.
    Leave,
    /// They are deleted.
    Delete,
    /// They are held.
    Hold,
}

impl PartialEq for Repeats {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Repeats::Into(one), Repeats::Into(other)) => one.source() == other.source(),
            (one, other) => std::mem::discriminant(one) == std::mem::discriminant(other),
        }
    }
}

/// The keys that are about identity.
pub(crate) struct Identity {
    pub once: Once,
    pub once_across: Option<String>,
    pub once_for: Option<Duration>,
    pub repeats: Repeats,
    pub hold_revisions: bool,
}

pub(crate) fn read(section: &mut Section<'_>, folder: &Path, fields: &[String]) -> Identity {
    let once =
        [("content", Once::Content), ("name", Once::Name), ("name+content", Once::NameAndContent)];
    let once = section.choice("once", &once).unwrap_or(Once::Content);
    let once_across = section.text("once_across").and_then(|group| {
        if group.value.trim().is_empty() {
            group.at.fault("`once_across` is empty; name the group of gates".into());
            return None;
        }
        Some(group.value)
    });
    let once_for = duration(section, "once_for");
    let repeats = read_repeats(section, folder, fields);
    if matches!(repeats, Repeats::Delete) && once == Once::Name {
        section.fault_here(
            "repeats = \"delete\" with once = \"name\" would delete files whose content was never worked; say once = \"name+content\", or file or hold the repeats".into(),
        );
    }
    let revisions = [("work", false), ("hold", true)];
    let hold_revisions = section.choice("revisions", &revisions).unwrap_or(false);
    Identity { once, once_across, once_for, repeats, hold_revisions }
}

fn read_repeats(section: &mut Section<'_>, folder: &Path, fields: &[String]) -> Repeats {
    if !section.has("repeats") {
        return Repeats::File;
    }
    if !section.is_text("repeats") {
        let Some(mut repeats) = section.section("repeats") else { return Repeats::File };
        let into = path_template(&mut repeats, "into", folder, fields);
        repeats.finish();
        return into.map_or(Repeats::File, Repeats::Into);
    }
    let words = [("file", 0), ("leave", 1), ("delete", 2), ("hold", 3)];
    match section.choice("repeats", &words) {
        Some(1) => Repeats::Leave,
        Some(2) => Repeats::Delete,
        Some(3) => Repeats::Hold,
        _ => Repeats::File,
    }
}
