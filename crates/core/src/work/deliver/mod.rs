//! The work `deliver`: each file is copied to one place or several, all or none visible.
//!
//! Copies are staged in the folders in which they will stand, made durable together, and
//! brought to their names once they are committed.

pub(crate) mod bundle;
pub mod by_hand;

pub(crate) mod carry_out;
pub(crate) mod config;
pub(crate) mod far;
pub(crate) mod plan;
pub(crate) mod spool;
pub(crate) mod stage;
pub(crate) mod upload;

pub use crate::files::compress::Compression;
pub use crate::work::exists::FileExists;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use crate::ledger::types::Entry;
use crate::ledger::words::{Effect, WorkKind};
use crate::pattern::template::TemplateError;
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::deliver::carry_out::Seals;
use crate::work::deliver::config::{DeliverConfig, DestinationConfig};
use crate::work::deliver::plan::plan_batch;
use crate::work::env::Env;
use crate::work::openpgp::keys::KeyFault;
use crate::work::openpgp::seal::SealConfig;
use crate::work::retry::Retry;
use crate::work::seam::{
    Blocked, Drive, ReadContext, Target, Work, WorkFindings, WorkPlace, WorkPlan, WorkView, Worker,
};

/// So many files are delivered together: made durable, claimed and committed at once.
const TOGETHER: usize = 1000;

/// Reads the `deliver` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    Some(Arc::new(Deliver(Arc::new(config::read(section, context)?))))
}

/// The work of a gate that delivers.
#[derive(Debug)]
struct Deliver(Arc<DeliverConfig>);

impl Work for Deliver {
    fn kind(&self) -> WorkKind {
        WorkKind::Deliver
    }

    fn effect(&self) -> Effect {
        Effect::Staged
    }

    fn drive(&self) -> Drive {
        Drive::Batches { alone: false }
    }

    fn together(&self) -> usize {
        if self.0.bundle.is_some() { usize::MAX } else { TOGETHER }
    }

    fn may_leave(&self) -> bool {
        let bundle = self.0.bundle.iter().map(|one| one.exists);
        let all = self.0.to.iter().map(|one| one.exists).chain(bundle);
        all.into_iter().any(|exists| exists == FileExists::Leave)
    }

    fn needs_batch(&self) -> Option<&'static str> {
        let words = "`bundle` makes one archive of each batch; say which files are one with [gate.NAME.batch], such as when = { idle = \"1m\" } in it";
        self.0.bundle.is_some().then_some(words)
    }

    fn retry(&self) -> Retry {
        // A server that was away is mostly back soon.
        let wait = Duration::from_secs(if self.afar().is_empty() { 60 } else { 2 });
        Retry { wait, up_to: Duration::from_secs(60), tries: u32::MAX }
    }

    fn view(&self) -> WorkView {
        let bundle = self.0.bundle.iter().map(|one| one.into.source());
        let all: Vec<String> =
            bundle.map(str::to_owned).chain(self.0.to.iter().map(|one| one.shown())).collect();
        let label = if all.len() == 1 { "Destination" } else { "Destinations" };
        let does = match (self.0.bundle.is_some(), self.0.to.is_empty()) {
            (true, true) => "bundles into one archive",
            (true, false) => "bundles, and delivers each file",
            _ => "delivers each file",
        };
        WorkView { does, label, detail: Some(all.join(", ")), adds: false }
    }

    fn places(&self) -> Vec<WorkPlace<'_>> {
        let bundle = self.0.bundle.iter().map(|one| &one.into);
        bundle.chain(self.0.here().map(|one| &one.into)).map(WorkPlace::Output).collect()
    }

    fn afar(&self) -> Vec<&str> {
        let far = self.0.to.iter().filter_map(|one| one.far.as_ref());
        far.map(|far| far.place.as_str()).collect()
    }

    fn folders_afar(&self) -> Vec<(&str, String)> {
        let folder = |one: &DestinationConfig| {
            let folder = one.into.fixed_folder().display().to_string();
            folder.trim_matches('/').to_owned()
        };
        let far = self.0.to.iter().filter_map(|one| Some((one.far.as_ref()?, folder(one))));
        far.map(|(far, folder)| (far.place.as_str(), folder)).collect()
    }

    fn place(&self) -> String {
        let places = self.afar().join("` or `");
        format!("nothing can be delivered to `{places}`")
    }

    fn meant_fields(&self) -> Vec<&str> {
        let bundle = self.0.bundle.iter().flat_map(|one| one.into.uses().chain(one.member.uses()));
        bundle.chain(self.0.to.iter().flat_map(|one| one.into.uses())).collect()
    }

    fn target(&self, entry: &Entry, env: &Env<'_>) -> Result<String, TemplateError> {
        match &self.0.bundle {
            Some(bundle) => env.path_for(&bundle.into, entry),
            None => Ok(String::new()),
        }
    }

    fn locks(&self, target: &str, _: &Entry, _: &Env<'_>) -> Result<Vec<Target>, TemplateError> {
        // Copies of single files meet what is there when they are brought to their names.
        let bundle = self.0.bundle.iter().map(|_| Target::Output(PathBuf::from(target)));
        Ok(bundle.collect())
    }

    fn check(&self, _: &std::path::Path, findings: &mut WorkFindings) {
        findings.faults.extend(self.0.open_seals().err().map(|fault| fault.to_string()));
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        Some(Box::new(Delivering(Arc::clone(&self.0))))
    }
}

impl DeliverConfig {
    /// Reads the keys for which is encrypted, and with which is signed.
    fn open_seals(&self) -> Result<Seals, KeyFault> {
        let open = |seal: Option<&SealConfig>| seal.map(SealConfig::open).transpose();
        let bundle = self.bundle.as_ref().and_then(|bundle| bundle.seal.as_ref());
        let to = self.to.iter().map(|one| one.seal.as_ref());
        Ok(Seals {
            bundle: open(bundle)?,
            words: to.clone().map(|seal| seal.map(SealConfig::words)).collect(),
            to: to.map(open).collect::<Result<_, _>>()?,
        })
    }

    /// The destinations on this machine.
    fn here(&self) -> impl Iterator<Item = &DestinationConfig> {
        self.to.iter().filter(|one| one.far.is_none())
    }

    /// Their numbers among all destinations.
    fn here_numbers(&self) -> Vec<usize> {
        let all = self.to.iter().enumerate();
        all.filter(|(_, one)| one.far.is_none()).map(|(number, _)| number).collect()
    }

    /// Whether it may replace what lies somewhere.
    fn replaces(&self) -> bool {
        self.here().any(|one| one.exists == FileExists::Replace)
    }
}

struct Delivering(Arc<DeliverConfig>);

impl Worker for Delivering {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        plan_batch(&self.0, batch, env)
    }
}
