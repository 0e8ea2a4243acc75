//! What differs from what was right, in one folder.

use std::collections::BTreeMap;
use std::path::Path;

use crate::config::lookout::Lookout;
use crate::files::roots::Reach;
use crate::files::sha256::Sha256;
use crate::filing::moving::sum_of;
use crate::ledger::lookouts::RightFile;
use crate::watch::lookouts::look::FileSeen;
use crate::words::grouped;

/// How a file differs from what was right.
pub(crate) enum Differs {
    /// It was not there.
    New,
    /// It was there, like this.
    Gone(RightFile),
    /// It was like this; what is different of it.
    Other(RightFile, &'static str),
}

/// What differs, by the name of the file. All else is right as it is.
#[derive(Default)]
pub(crate) struct Differing(BTreeMap<Box<str>, Differs>);

impl Differing {
    pub fn clear(&mut self) {
        self.0.clear();
    }

    /// Whether a file differs.
    pub fn has(&self, name: &str) -> bool {
        self.0.contains_key(name)
    }

    pub fn insert(&mut self, name: &str, differs: Differs) {
        self.0.insert(name.into(), differs);
    }

    /// A file is seen for the first time, or has changed; `was` how it was when it was right,
    /// as far as the folder knows it. Gives the sum of its right content.
    pub fn seen(
        &mut self,
        (lookout, folder): (&Lookout, &str),
        name: &str,
        seen: &FileSeen,
        was: Option<RightFile>,
    ) -> Option<Box<Sha256>> {
        let right = match self.0.remove(name) {
            Some(Differs::Gone(right) | Differs::Other(right, _)) => Some(right),
            Some(Differs::New) => None,
            None => was,
        };
        let Some(right) = right else {
            self.insert(name, Differs::New);
            return None;
        };
        let is = right_file(lookout, folder, name, seen, Some(&right));
        if is != right {
            self.insert(name, Differs::Other(right, right.differs(&is)));
        }
        right.sha256.map(Box::new)
    }

    /// A file is gone; `was` how it was when it was right, if nothing differed.
    pub fn gone(&mut self, name: &str, was: RightFile) {
        let right = match self.0.remove(name) {
            Some(Differs::New) => return,
            Some(Differs::Gone(right) | Differs::Other(right, _)) => right,
            None => was,
        };
        self.insert(name, Differs::Gone(right));
    }

    /// All of it in words.
    pub fn words(&self) -> Option<String> {
        let (name, differs) = self.0.first_key_value()?;
        let first = match differs {
            Differs::New => format!("{name} is new"),
            Differs::Gone(_) => format!("{name} is gone"),
            Differs::Other(_, what) => format!("{name} has another {what}"),
        };
        Some(match self.0.len() {
            1 => first,
            count => format!("{first}, and {} more", grouped(count as u64 - 1)),
        })
    }
}

/// A file as it is right; its content is read again only when something of it has changed.
pub(crate) fn right_file(
    lookout: &Lookout,
    folder: &str,
    name: &str,
    seen: &FileSeen,
    before: Option<&RightFile>,
) -> RightFile {
    let mut file = seen.right(None);
    if lookout.deep {
        let same = before.filter(|before| before.changed_ns == seen.changed_ns);
        let path = || format!("{folder}/{name}");
        file.sha256 = match same {
            Some(before) => before.sha256,
            None => Reach::anywhere().at(Path::new(&path())).and_then(|at| sum_of(&at)).ok(),
        };
    }
    file
}

impl FileSeen {
    /// The file as it is right, when it is right as it was seen.
    pub fn right(&self, sha256: Option<Sha256>) -> RightFile {
        RightFile {
            bytes: self.bytes,
            modified_ns: self.modified_ns,
            changed_ns: self.changed_ns,
            owner: self.owner,
            mode: self.mode,
            sha256,
        }
    }
}
