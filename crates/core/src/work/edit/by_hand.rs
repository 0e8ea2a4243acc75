//! Editing files by hand: the work `edit` without a gate, a service or a ledger.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use serde::Serialize;
use vadegate_tables::edit::text::LineEnd;
use vadegate_tables::edit::{CellPlace, CellSet, SheetChoice, ValueType};

use crate::files::sha256::Sha256;
use crate::filing::moving::sum_of;
use crate::ledger::words::OutputRole;
use crate::pattern::template::Template;
use crate::work::edit::carry_out::{Source, stage};
use crate::work::edit::config::{CellConfig, EditConfig, ReplaceConfig, TextConfig};
use crate::work::edit::content::{EditedContent, Editing, Unedited};
use crate::work::edit::looked::Looked;
use crate::work::exists::FileExists;
use crate::work::hand::{
    HandError, HandFile, HandSources, LeftOut, NoPlaceFor, REACH, by_hand, failed,
};
use crate::work::hand_staged::StagedByHand;
use crate::work::meet::{Content, CopyPlan, Taken, Unmet, meet};
use crate::work::staged::Staged;

/// What is to be edited, and how.
pub struct HandEdit {
    /// Files, and folders of which all files are taken.
    pub sources: HandSources,
    /// Where each comes: a path, or a folder to which the name is added; none where it takes
    /// the place of its file.
    pub into: Option<String>,
    /// What is done when something is there.
    pub exists: FileExists,
    /// What is set.
    pub orders: HandEditing,
}

/// What is set in each file.
pub struct HandEditing(EditConfig);

/// A file that was edited, or would be.
#[derive(Debug, Clone, Serialize)]
pub struct HandEdited {
    /// The file.
    pub source: PathBuf,
    /// Where what was edited came.
    pub path: PathBuf,
    /// Why what is there stays.
    pub because: Option<&'static str>,
    /// What was done, in words.
    pub words: String,
    /// Cells that were set.
    pub cells: Vec<HandCell>,
    /// Bytes of what was made; 0 before that.
    pub bytes: u64,
}

/// A cell that was set.
#[derive(Debug, Clone, Serialize)]
pub struct HandCell {
    /// The sheet's name.
    pub sheet: String,
    /// The cell, such as `B2`.
    pub cell: String,
    /// What stands there now.
    pub value: String,
}

/// Files that were found.
pub struct HandEditPlan {
    files: Vec<HandFile>,
    /// Files that take no part, with those that could not be edited.
    pub left_out: Vec<LeftOut>,
    /// Bytes of all files.
    pub bytes: u64,
    /// Bytes of the files that were edited so far.
    pub read: Arc<AtomicU64>,
}

impl HandEditing {
    /// Reads cells such as `Cover!B2=<now:%F>`, and pairs of words: what is looked for, and
    /// what takes its place. A sheet is its name, its number from 1, or `*`.
    ///
    /// # Errors
    /// [`HandError::Refused`], with what is wrong.
    pub fn read(
        cells: &[String],
        as_type: ValueType,
        replace: &[(String, String)],
        regex: bool,
    ) -> Result<Self, HandError> {
        let cells = cells.iter().map(|text| cell(text, as_type)).collect::<Result<Vec<_>, _>>()?;
        let pair = |(find, with): &(String, String)| {
            if find.is_empty() {
                return Err(HandError::Refused("what is to be replaced is empty".into()));
            }
            let find = Looked::read(find, regex).map_err(|why| {
                HandError::Refused(format!("`{find}` is no regular expression: {why}"))
            })?;
            Ok(ReplaceConfig { find, with: parsed(with)? })
        };
        let replace = replace.iter().map(pair).collect::<Result<Vec<_>, _>>()?;
        let text = (!replace.is_empty()).then(|| TextConfig { replace, ..TextConfig::default() });
        let exists = FileExists::Fail;
        Ok(HandEditing(EditConfig { into: None, exists, cells, text }))
    }

    /// Has lines end so.
    pub fn line_end(&mut self, end: LineEnd) {
        self.0.text.get_or_insert_default().line_end = Some(end);
    }

    /// Whether anything is done.
    pub fn is_empty(&self) -> bool {
        self.0.cells.is_empty() && self.0.text.is_none()
    }
}

fn parsed(text: &str) -> Result<Template, HandError> {
    Template::parse(text)
        .map_err(|error| HandError::Refused(error.to_string().replacen("pattern", "template", 1)))
}

fn cell(text: &str, as_type: ValueType) -> Result<CellConfig, HandError> {
    let wrong = || {
        HandError::Refused(format!(
            "`{text}` sets no cell; expected SHEET!CELL=VALUE, such as 'Cover!B2=checked'"
        ))
    };
    let (place, value) = text.split_once('=').ok_or_else(wrong)?;
    let (sheet, place) = place.rsplit_once('!').ok_or_else(wrong)?;
    let sheet = match (sheet.trim_matches('\''), sheet.parse()) {
        ("*", _) => SheetChoice::All,
        (_, Ok(number)) => SheetChoice::Number(number),
        (name, _) => SheetChoice::Named(name.to_owned()),
    };
    let place = CellPlace::parse(place.trim()).ok_or_else(wrong)?;
    Ok(CellConfig { sheet, place, value: parsed(value)?, as_type })
}

impl HandEdit {
    /// Finds the files.
    ///
    /// # Errors
    /// [`HandError`], when there is none, or something cannot be read.
    pub fn plan(&self) -> Result<HandEditPlan, HandError> {
        let mut left_out = Vec::new();
        let files = self.sources.find(&mut left_out, |_| Ok(None))?;
        if files.is_empty() && left_out.is_empty() {
            return Err(HandError::Refused("there is nothing to edit: no file was found".into()));
        }
        let bytes = files.iter().map(|file| file.version.bytes).sum();
        Ok(HandEditPlan { files, left_out, bytes, read: Arc::default() })
    }

    /// Where what is made of a file comes.
    fn place(
        &self,
        file: &HandFile,
        taken: &mut Taken,
    ) -> Result<Result<CopyPlan, NoPlaceFor>, HandError> {
        let Some(into) = &self.into else {
            let path = std::path::absolute(&file.path).map_err(failed(&file.path))?;
            let sum = by_hand(&path).and_then(|at| sum_of(&at)).map_err(failed(&file.path))?;
            return Ok(Ok(CopyPlan::in_place(path, sum)));
        };
        let last = into.rsplit('/').next().unwrap_or("");
        let path = match last.contains("<name>") || last.contains("<stem>") {
            true => into.clone(),
            false => format!("{}/<name>", into.trim_end_matches('/')),
        };
        let whole = std::path::absolute(&path).map_err(failed(Path::new(into)))?;
        let template = parsed(&whole.display().to_string())?;
        let path = match template.path(&file.fields, &file.values(None)) {
            Ok(path) => PathBuf::from(path),
            Err(error) => return Ok(Err(error.into())),
        };
        if std::path::absolute(&file.path).is_ok_and(|own| own == path) {
            return Ok(Err(NoPlaceFor::Itself));
        }
        let never = Content { bytes: u64::MAX, sha256: Sha256::default() };
        Ok(match meet(&REACH, &path, self.exists, None, never, taken) {
            Ok(place) => {
                taken.keep();
                Ok(place)
            }
            Err(Unmet::Hold(_)) if self.exists == FileExists::Fail => {
                Err(NoPlaceFor::Occupied(path))
            }
            Err(Unmet::Hold(why) | Unmet::Place(why)) => Err(NoPlaceFor::Met(why)),
        })
    }
}

impl HandEditPlan {
    /// How many files there are.
    pub fn count(&self) -> u64 {
        self.files.len() as u64
    }

    /// Edits all files, each whole or not at all; with `rehearse` nothing is written. One
    /// that cannot be edited is left out with its reason, and the others go on.
    ///
    /// # Errors
    /// [`HandError`], when what is made cannot be written.
    pub fn edit(
        &mut self,
        order: &HandEdit,
        rehearse: bool,
        stopping: &AtomicBool,
    ) -> Result<Vec<HandEdited>, HandError> {
        let (mut done, mut taken) = (Vec::new(), Taken::default());
        for (number, file) in std::mem::take(&mut self.files).iter().enumerate() {
            let editing = order.orders.0.editing(&file.fields, &file.values(None));
            let placed = order.place(file, &mut taken)?;
            let editing = editing.map_err(|why| why.to_string());
            let placed = placed.map_err(|why| why.to_string());
            match editing.and_then(|editing| Ok((editing, placed?))) {
                Ok((editing, place)) => {
                    match one(number, file, &place, &editing, rehearse, stopping)? {
                        Ok(edited) => done.push(edited),
                        Err(why) => self.left_out.push(LeftOut::faulty(&file.path, why.0)),
                    }
                }
                Err(why) => self.left_out.push(LeftOut::faulty(&file.path, why)),
            }
            self.read.fetch_add(file.version.bytes, Ordering::Relaxed);
        }
        Ok(done)
    }
}

/// Why a file cannot be edited, in words: it is left out.
struct Unfit(String);

fn one(
    number: usize,
    file: &HandFile,
    place: &CopyPlan,
    editing: &Editing,
    rehearse: bool,
    stopping: &AtomicBool,
) -> Result<Result<HandEdited, Unfit>, HandError> {
    let told = |path: PathBuf, edited: EditedContent, bytes| HandEdited {
        source: file.path.clone(),
        path,
        because: place.left,
        words: place.left.map_or_else(|| edited.words(), |why| format!("left: {why}")),
        cells: edited.cells.into_iter().map(HandCell::of).collect(),
        bytes,
    };
    if place.left.is_some() {
        return Ok(Ok(told(place.path.clone(), EditedContent::default(), 0)));
    }
    if rehearse {
        let opened = by_hand(&file.path).and_then(|at| at.open()).map_err(failed(&file.path))?;
        let edited = editing.write(opened, &mut std::io::sink(), stopping);
        return Ok(match edited {
            Ok(edited) => Ok(told(place.path.clone(), edited, 0)),
            Err(unedited) => Err(Unfit(words_of(unedited, &file.path)?)),
        });
    }
    let mut by_hand = StagedByHand::default();
    let at = by_hand.place_for(place, number)?;
    let source = Source { path: &file.path, version: &file.version };
    match stage(&REACH, &source, editing, &at, stopping) {
        Ok((copy, edited)) => {
            let mut staged = Staged::default();
            let made = staged.keep(&at, copy);
            by_hand.keep(place, &at, &made, OutputRole::Edited);
            let placed = staged
                .make_durable()
                .map_err(|error| HandError::Refused(error.to_string()))
                .and_then(|()| by_hand.publish());
            if placed.is_err() {
                by_hand.discard();
            }
            let placed = placed?;
            // Of what was edited in place the original lies there now.
            by_hand.remove_replaced().map_err(failed(&file.path))?;
            let (path, bytes) =
                placed.into_iter().next().unwrap_or_else(|| (place.path.clone(), 0));
            Ok(Ok(told(path, edited, bytes)))
        }
        Err(unedited) => {
            by_hand.discard();
            words_of(unedited, &file.path).map(|why| Err(Unfit(why)))
        }
    }
}

impl HandCell {
    fn of(set: CellSet) -> Self {
        let CellSet { sheet, cell, value } = set;
        HandCell { sheet, cell, value }
    }
}

/// Why a file is left out; an error where nothing goes on.
fn words_of(unedited: Unedited, path: &Path) -> Result<String, HandError> {
    match unedited {
        Unedited::Refused(why) => Ok(why),
        Unedited::Source(error) if error.kind() == std::io::ErrorKind::NotFound => {
            Ok("it changed while it was edited".into())
        }
        Unedited::Source(error) => Err(failed(path)(error)),
        Unedited::Output(error) => {
            Err(HandError::Refused(format!("`{}` cannot be edited: {error}", path.display())))
        }
        Unedited::Stopped => Err(HandError::Refused("it was stopped".into())),
    }
}
