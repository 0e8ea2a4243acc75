//! The work `edit`: cells of a workbook or words of a text are set, and nothing else of the
//! file changes.
//!
//! With `into` what was edited comes to a place of its own. Without it, it takes the place
//! of the file in the drop folder: the two change names at once, and only if the file that
//! lies there is the version that was edited.

pub mod by_hand;
pub(crate) mod carry_out;
pub(crate) mod config;
pub(crate) mod content;
pub(crate) mod looked;
pub(crate) mod plan;

pub use vadegate_tables::edit::ValueType;
pub use vadegate_tables::edit::text::LineEnd;

use std::sync::Arc;
use std::time::Duration;

use crate::ledger::words::{Effect, WorkKind};
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::edit::config::EditConfig;
use crate::work::edit::plan::plan_one;
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::retry::Retry;
use crate::work::seam::{Blocked, Drive, ReadContext, Work, WorkPlace, WorkPlan, WorkView, Worker};

/// Reads the `edit` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    Some(Arc::new(Edit(Arc::new(config::read(section, context)?))))
}

/// The work of a gate that edits.
#[derive(Debug)]
struct Edit(Arc<EditConfig>);

impl Work for Edit {
    fn kind(&self) -> WorkKind {
        WorkKind::Edit
    }

    fn effect(&self) -> Effect {
        Effect::Staged
    }

    fn drive(&self) -> Drive {
        Drive::Each
    }

    fn may_leave(&self) -> bool {
        self.0.exists == FileExists::Leave
    }

    fn edits_in_place(&self) -> bool {
        self.0.into.is_none()
    }

    fn minds_open_workbooks(&self) -> bool {
        !self.0.cells.is_empty()
    }

    fn retry(&self) -> Retry {
        Retry { wait: Duration::from_secs(60), up_to: Duration::from_secs(60), tries: u32::MAX }
    }

    fn view(&self) -> WorkView {
        let does = match (self.0.cells.is_empty(), self.0.text.is_some()) {
            (false, true) => "sets cells of workbooks, and words of texts",
            (false, false) => "sets cells of each workbook",
            _ => "sets words of each text",
        };
        let detail = match &self.0.into {
            Some(into) => into.source().to_owned(),
            None => "in place".to_owned(),
        };
        WorkView { does, label: "Destination", detail: Some(detail), adds: false }
    }

    fn places(&self) -> Vec<WorkPlace<'_>> {
        self.0.into.iter().map(WorkPlace::Output).collect()
    }

    fn meant_fields(&self) -> Vec<&str> {
        let values = self.0.cells.iter().map(|cell| &cell.value);
        let words = self.0.text.iter().flat_map(|text| &text.replace).map(|one| &one.with);
        self.0.into.iter().chain(values).chain(words).flat_map(|one| one.uses()).collect()
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        Some(Box::new(Editor(Arc::clone(&self.0))))
    }
}

struct Editor(Arc<EditConfig>);

impl Worker for Editor {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        plan_one(&self.0, batch, env)
    }
}
