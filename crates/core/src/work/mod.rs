//! Works: what a gate does with its files. Each is a room of its own; [`seam`] is what the
//! engine knows of them, and [`WORKS`] lists them.
//!
//! To add one: a folder here, a line in [`WORKS`], a word in
//! [`WorkKind`], and its points in [`crate::fault`].

pub(crate) mod batch;
pub(crate) mod deaths;
pub mod deliver;
pub mod edit;
pub(crate) mod env;
pub(crate) mod exists;
pub mod hand;
pub(crate) mod hand_staged;
pub(crate) mod load;
pub(crate) mod meet;
pub mod merge;
pub(crate) mod offer;
pub(crate) mod openpgp;
pub(crate) mod outcome;
pub(crate) mod retry;
pub(crate) mod run;
pub(crate) mod seam;
pub(crate) mod send;
pub(crate) mod side_by_side;
pub(crate) mod staged;
pub(crate) mod tables;
pub mod unpack;
pub(crate) mod web;

use crate::ledger::words::WorkKind;
use crate::work::seam::Kind;

/// Of a work without places nothing is lost with them.
fn nothing_lost(place: &str, proof: &str) -> String {
    format!(
        "interrupted while it was worked into `{place}`; look there for `{proof}`, then release it"
    )
}

/// All works.
pub(crate) const WORKS: &[Kind] = &[
    Kind { kind: WorkKind::Merge, read: merge::read, lost: nothing_lost },
    Kind { kind: WorkKind::Load, read: load::read, lost: load::lost_place },
    Kind { kind: WorkKind::Run, read: run::read, lost: nothing_lost },
    Kind { kind: WorkKind::Unpack, read: unpack::read, lost: nothing_lost },
    Kind { kind: WorkKind::Deliver, read: deliver::read, lost: nothing_lost },
    Kind { kind: WorkKind::Edit, read: edit::read, lost: nothing_lost },
    Kind { kind: WorkKind::Send, read: send::read, lost: send::lost_place },
    Kind { kind: WorkKind::Offer, read: offer::read, lost: nothing_lost },
];
