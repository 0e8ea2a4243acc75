//! The work `unpack`: an archive becomes the files that are in it, all of them or none.
//!
//! Members are staged in a hidden folder beside the one into which is unpacked, made durable
//! together, entered in the ledger with the commit, and published behind it: by one rename
//! where nothing is there yet.

pub(crate) mod archive;
pub(crate) mod budget;
pub mod by_hand;
pub(crate) mod carry_out;
pub(crate) mod config;
pub(crate) mod kind;
pub(crate) mod members;
pub(crate) mod names;
pub(crate) mod read_single;
pub(crate) mod read_tar;
pub(crate) mod read_zip;
pub mod seven;
pub(crate) mod store;

pub use crate::work::unpack::config::Limits;

use std::sync::Arc;
use std::time::Duration;

use crate::ledger::words::{Effect, WorkKind};
use crate::pattern::template::Template;
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::openpgp::keys::KeyFile;
use crate::work::retry::Retry;
use crate::work::seam::{
    Blocked, Drive, ReadContext, Work, WorkFindings, WorkPlace, WorkPlan, WorkView, Worker,
};
use crate::work::unpack::carry_out::plan_one;
use crate::work::unpack::config::UnpackConfig;

/// Reads the `unpack` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    let config = config::read(section, context)?;
    // Members come below the folder, under names of their own.
    let member = Template::parse(&format!("{}/<name>", config.into.source())).ok()?;
    Some(Arc::new(Unpack { config: Arc::new(config), member }))
}

/// The work of a gate that unpacks.
#[derive(Debug)]
struct Unpack {
    config: Arc<UnpackConfig>,
    /// Where members come, for who asks where is written.
    member: Template,
}

impl Work for Unpack {
    fn kind(&self) -> WorkKind {
        WorkKind::Unpack
    }

    fn effect(&self) -> Effect {
        Effect::Staged
    }

    fn drive(&self) -> Drive {
        Drive::Each
    }

    fn may_leave(&self) -> bool {
        self.config.exists == FileExists::Leave
    }

    fn retry(&self) -> Retry {
        Retry { wait: Duration::from_secs(60), up_to: Duration::from_secs(60), tries: u32::MAX }
    }

    fn view(&self) -> WorkView {
        WorkView {
            does: "unpacks each archive",
            label: "Folder",
            detail: Some(self.config.into.source().to_owned()),
            adds: false,
        }
    }

    fn places(&self) -> Vec<WorkPlace<'_>> {
        vec![WorkPlace::Output(&self.member)]
    }

    fn meant_fields(&self) -> Vec<&str> {
        self.config.into.uses().collect()
    }

    fn check(&self, _: &std::path::Path, findings: &mut WorkFindings) {
        if let Some(Err(why)) =
            self.config.password.as_ref().map(crate::settings::secret::Secret::read)
        {
            findings.faults.push(format!("the password {why}"));
        }
        if let Some(Err(why)) = self.config.key.as_ref().map(KeyFile::open) {
            findings.faults.push(why.to_string());
        }
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        Some(Box::new(Unpacker(Arc::clone(&self.config))))
    }
}

struct Unpacker(Arc<UnpackConfig>);

impl Worker for Unpacker {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        plan_one(&self.0, batch, env)
    }
}
