//! A pass of a gate, from top to bottom.

pub(crate) mod ask;
pub(crate) mod batches;
pub(crate) mod candidate;
pub(crate) mod commit;
pub(crate) mod companion;
pub(crate) mod complete;
pub(crate) mod ctx;
pub(crate) mod enter;
pub(crate) mod failure;
pub(crate) mod file;
pub(crate) mod fingerprint;
pub(crate) mod hold;
pub(crate) mod in_place;
pub(crate) mod leases;
pub(crate) mod look;
pub(crate) mod moved;
pub(crate) mod noticed;
pub(crate) mod order;
pub(crate) mod pick;
pub(crate) mod publish;
pub(crate) mod recover;
pub(crate) mod replace;
pub(crate) mod report;
pub(crate) mod settle;
pub(crate) mod source;
pub(crate) mod targets;
pub(crate) mod usual;
pub(crate) mod watch;
pub(crate) mod work;

use crate::arrivals::notices::Notices;
use crate::engine::pass::ctx::Pass;
use crate::ledger::error::LedgerError;

/// One pass; `sweep`: everything is looked at, and not only what notices tell of.
pub(crate) fn pass(
    p: &mut Pass,
    sweep: bool,
    notices: Option<&mut Notices>,
) -> Result<(), LedgerError> {
    p.live.load_known()?;
    recover::unfinished(p)?;
    watch::at_drop_folders(p, sweep, notices)?;
    if p.is_closed() || p.stopping() {
        return Ok(());
    }
    publish::committed(p)?;
    settle::settle(p)?;
    if sweep {
        look::end_markers(p)?;
    }
    work::ready_batches(p)?;
    file::file_open(p)
}
