//! The work `offer`: entries are handed out to workers that ask for them.

use std::sync::Arc;
use std::time::Duration;

use crate::ledger::words::{Effect, WorkKind};
use crate::settings::keys::duration;
use crate::settings::reader::Section;
use crate::work::retry::Retry;
use crate::work::seam::{Drive, ReadContext, Work, WorkView, Worker};

/// Reads the `offer` section of a gate.
pub(crate) fn read(mut section: Section<'_>, _: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    let lease = duration(&mut section, "lease").unwrap_or(Duration::from_secs(60));
    let retry = Retry::read(&mut section);
    section.finish();
    Some(Arc::new(Offer { lease, retry }))
}

/// The work of a gate that offers its entries.
#[derive(Debug)]
struct Offer {
    /// How long a worker may have an entry without a word. Default 1 min.
    lease: Duration,
    /// After "again". Default 30 s, doubled up to 30 min, 20 times.
    retry: Retry,
}

impl Work for Offer {
    fn kind(&self) -> WorkKind {
        WorkKind::Offer
    }

    fn effect(&self) -> Effect {
        Effect::Unprovable
    }

    fn drive(&self) -> Drive {
        Drive::Pulled { lease: self.lease }
    }

    fn retry(&self) -> Retry {
        self.retry
    }

    fn view(&self) -> WorkView {
        WorkView { does: "offers files to workers", label: "Offer", detail: None, adds: false }
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        None
    }
}
