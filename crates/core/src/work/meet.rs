//! How a copy meets what lies in its place.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};

use crate::files::at::{At, Meta};
use crate::files::compress::{Compression, is_content};
use crate::files::roots::Reach;
use crate::files::sha256::Sha256;
use crate::filing::folders::numbered;
use crate::ledger::requests::{OutputAt, PlannedOutput};
use crate::ledger::words::{OutputMode, OutputRole};
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::seam::Blocked;

/// A copy that is to be made, or why there is none to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct CopyPlan {
    pub path: PathBuf,
    pub mode: OutputMode,
    pub compress: Option<Compression>,
    /// Why what is there stays.
    pub left: Option<&'static str>,
    /// The version in whose place it comes, and of no other.
    pub base_sha256: Option<Sha256>,
}

/// Why a copy cannot be planned.
#[derive(Debug)]
pub(crate) enum Unmet {
    /// The file is held.
    Hold(String),
    /// The place cannot be looked at now: no fault of the file.
    Place(String),
}

/// What is copied.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Content {
    pub bytes: u64,
    pub sha256: Sha256,
}

/// What comes to a path.
type Coming = (Sha256, Option<Compression>);

/// The paths that copies of a plan take, with what comes there.
#[derive(Default)]
pub(crate) struct Taken {
    all: HashMap<PathBuf, Coming>,
    /// Those of the file that is being planned.
    its: Vec<(PathBuf, Coming)>,
}

impl Taken {
    fn get(&self, path: &Path) -> Option<Coming> {
        let its = self.its.iter().rev().find(|(taken, _)| taken == path).map(|(_, one)| *one);
        its.or_else(|| self.all.get(path).copied())
    }

    fn take(&mut self, path: PathBuf, coming: Coming) {
        self.its.push((path, coming));
    }

    /// The file comes there.
    pub fn keep(&mut self) {
        self.all.extend(self.its.drain(..));
    }

    /// It does not: it stands in the way of no other.
    pub fn forget(&mut self) {
        self.its.clear();
    }
}

const SAME: &str = "the same bytes are there";
const OTHER: &str = "something is there";

/// Decides how a copy meets what lies at `path`, or what comes there before it.
pub(crate) fn meet(
    reach: &Reach,
    path: &Path,
    exists: FileExists,
    compress: Option<Compression>,
    content: Content,
    taken: &mut Taken,
) -> Result<CopyPlan, Unmet> {
    let there = look(reach, path)?;
    let before = taken.get(path);
    let plan = |path: &Path, mode, left| CopyPlan {
        path: path.to_owned(),
        mode,
        compress,
        left,
        base_sha256: None,
    };
    let planned = match exists {
        _ if there.is_none() && before.is_none() => {
            let number = exists == FileExists::Number;
            plan(path, if number { OutputMode::Number } else { OutputMode::Create }, None)
        }
        FileExists::Leave => plan(path, OutputMode::Leave, Some(OTHER)),
        FileExists::Replace => match there {
            Some((_, meta)) if matches!(meta.kind, crate::files::version::Kind::Folder) => {
                return Err(Unmet::Hold(format!(
                    "`{}` is a folder, which no file replaces; move it away, or deliver elsewhere",
                    path.display()
                )));
            }
            _ => plan(path, OutputMode::Replace, None),
        },
        FileExists::Number => plan(&free(reach, path, taken)?, OutputMode::Number, None),
        FileExists::Fail => {
            let same = match (before, &there) {
                (Some(before), _) => before == (content.sha256, compress),
                (None, Some((at, meta))) if meta.is_file() => holds(at, compress, content),
                _ => false,
            };
            if !same {
                let what = match before {
                    Some(_) => "another file of the same batch goes there too",
                    None => "something else is there already",
                };
                return Err(Unmet::Hold(format!(
                    "it is to be delivered to `{}`, and {what}; move that away, or say exists = \"replace\", \"number\" or \"leave\"",
                    path.display()
                )));
            }
            plan(path, OutputMode::Leave, Some(SAME))
        }
    };
    if planned.left.is_none() {
        taken.take(planned.path.clone(), (content.sha256, compress));
    }
    Ok(planned)
}

/// What was committed for a place earlier comes there before what replaces it.
pub(crate) fn refuse_pending(env: &Env<'_>, path: &Path) -> Result<(), Blocked> {
    if !env.ledger.pending_output(&path.display().to_string())? {
        return Ok(());
    }
    let path = path.display();
    Err(Blocked::Output(format!("what came to `{path}` before does not stand there yet")))
}

/// What lies at a path.
fn look(reach: &Reach, path: &Path) -> Result<Option<(At, Meta)>, Unmet> {
    let looked = || -> io::Result<Option<(At, Meta)>> {
        let Some(at) = reach.at_if_there(path)? else { return Ok(None) };
        Ok(at.look()?.map(|meta| (at, meta)))
    };
    looked()
        .map_err(|error| Unmet::Place(format!("`{}` cannot be looked at: {error}", path.display())))
}

/// Whether the file there has this content; what cannot be read has not.
fn holds(at: &At, compress: Option<Compression>, content: Content) -> bool {
    let Content { bytes, sha256 } = content;
    let holds = at.open().and_then(|file| match compress {
        Some(compress) => compress.holds(file, bytes, sha256),
        None => is_content(file, bytes, sha256),
    });
    holds.unwrap_or(false)
}

/// The path with the lowest number that is free.
fn free(reach: &Reach, path: &Path, taken: &Taken) -> Result<PathBuf, Unmet> {
    for number in 2..100_000 {
        let numbered = numbered(path, number);
        if taken.get(&numbered).is_none() && look(reach, &numbered)?.is_none() {
            return Ok(numbered);
        }
    }
    Err(Unmet::Hold(format!("no free name is left beside `{}`", path.display())))
}

impl CopyPlan {
    /// What comes in the place of the file of which it is made.
    pub fn in_place(path: PathBuf, base: Sha256) -> Self {
        let (mode, base_sha256) = (OutputMode::InPlace, Some(base));
        CopyPlan { path, mode, compress: None, left: None, base_sha256 }
    }

    /// It as an output: of the entry with this number in its batch, or of all of them.
    pub fn planned(&self, role: OutputRole, of: Option<usize>) -> PlannedOutput {
        let folder = self.path.parent().unwrap_or(Path::new("/")).to_owned();
        PlannedOutput {
            path: self.path.display().to_string(),
            at: if self.left.is_some() { OutputAt::There } else { OutputAt::Staged(folder) },
            mode: self.mode,
            base_bytes: 0,
            base_sha256: self.base_sha256,
            role,
            of,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::sha256::Sum;
    use std::fs;

    fn planned(
        home: &Path,
        exists: FileExists,
        content: &[u8],
        taken: &mut Taken,
    ) -> Result<(String, OutputMode, Option<&'static str>), String> {
        let reach = Reach::below(&[home.to_owned()], &home.join("state"));
        let content = Content { bytes: content.len() as u64, sha256: Sum::of(content) };
        match meet(&reach, &home.join("out/a.csv"), exists, None, content, taken) {
            Ok(plan) => {
                let name = plan.path.file_name().unwrap().to_string_lossy().into_owned();
                Ok((name, plan.mode, plan.left))
            }
            Err(Unmet::Hold(why) | Unmet::Place(why)) => Err(why),
        }
    }

    #[test]
    fn each_answer_meets_what_is_there_and_what_comes_there_in_its_way() {
        use FileExists::{Fail, Leave, Number, Replace};
        use OutputMode as Mode;
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        let name = |name: &str, mode, left| Ok((name.to_owned(), mode, left));
        for (exists, mode) in [
            (Fail, Mode::Create),
            (Replace, Mode::Create),
            (Leave, Mode::Create),
            (Number, Mode::Number),
        ] {
            let planned = planned(home, exists, b"rows", &mut Taken::default());
            assert_eq!(planned, name("a.csv", mode, None), "{exists:?} where nothing is");
        }
        // Two of one batch that come to one place.
        let twice = |exists, second: &[u8]| {
            let mut taken = Taken::default();
            planned(home, exists, b"rows", &mut taken).unwrap();
            planned(home, exists, second, &mut taken)
        };
        assert_eq!(twice(Fail, b"rows"), name("a.csv", Mode::Leave, Some(SAME)));
        assert!(twice(Fail, b"other").unwrap_err().contains("of the same batch"));
        assert_eq!(twice(Replace, b"other"), name("a.csv", Mode::Replace, None));
        assert_eq!(twice(Number, b"other"), name("a-2.csv", Mode::Number, None));
        assert_eq!(twice(Leave, b"other"), name("a.csv", Mode::Leave, Some(OTHER)));
        // What lies there.
        fs::create_dir(home.join("out")).unwrap();
        fs::write(home.join("out/a.csv"), "rows").unwrap();
        fs::write(home.join("out/a-2.csv"), "rows").unwrap();
        let once = |exists, content: &[u8]| planned(home, exists, content, &mut Taken::default());
        assert_eq!(once(Fail, b"rows"), name("a.csv", Mode::Leave, Some(SAME)));
        assert!(once(Fail, b"rowz").unwrap_err().contains("something else is there already"));
        assert_eq!(once(Replace, b"rows"), name("a.csv", Mode::Replace, None));
        assert_eq!(once(Number, b"rows"), name("a-3.csv", Mode::Number, None));
        assert_eq!(once(Leave, b"other"), name("a.csv", Mode::Leave, Some(OTHER)));
        // A folder, and a link to the same bytes: neither is followed, nor replaced by force.
        fs::remove_file(home.join("out/a.csv")).unwrap();
        std::os::unix::fs::symlink("a-2.csv", home.join("out/a.csv")).unwrap();
        assert!(once(Fail, b"rows").is_err());
        assert_eq!(once(Leave, b"rows"), name("a.csv", Mode::Leave, Some(OTHER)));
        fs::remove_file(home.join("out/a.csv")).unwrap();
        fs::create_dir(home.join("out/a.csv")).unwrap();
        assert!(once(Replace, b"rows").unwrap_err().contains("is a folder"));
    }
}
