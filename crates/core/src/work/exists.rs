//! What a work on files does when something lies in the place of what it makes.

use crate::settings::reader::Section;

/// What is done when something lies there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileExists {
    /// The file is held, unless the same bytes are there.
    Fail,
    /// What is there is replaced.
    Replace,
    /// The new file gets a number.
    Number,
    /// What is there stays; that counts as done.
    Leave,
}

impl FileExists {
    /// Reads `exists`.
    pub(crate) fn read(section: &mut Section<'_>) -> Option<Self> {
        section.choice("exists", &FILE_EXISTS)
    }
}

const FILE_EXISTS: [(&str, FileExists); 4] = [
    ("fail", FileExists::Fail),
    ("replace", FileExists::Replace),
    ("number", FileExists::Number),
    ("leave", FileExists::Leave),
];
