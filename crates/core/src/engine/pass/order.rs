//! In which order files are worked.

use crate::config::gate::{Gate, Order};
use crate::engine::pass::candidate::Candidate;
use crate::ledger::types::Entry;
use crate::pattern::natural::{field_order, natural_order};

/// Which of two entries comes first, in the gate's order; those that are alike in the
/// order in which they were entered.
pub(crate) fn by_order(gate: &Gate, a: &Entry, b: &Entry) -> std::cmp::Ordering {
    let order = match &gate.order {
        Order::Oldest => a.modified.cmp(&b.modified),
        Order::Newest => b.modified.cmp(&a.modified),
        Order::Name => natural_order(&a.path, &b.path),
        Order::Smallest => a.bytes.cmp(&b.bytes),
        Order::Largest => b.bytes.cmp(&a.bytes),
        Order::Field(field) => {
            let value = |entry: &Entry| entry.fields.get(field).cloned().unwrap_or_default();
            field_order(&value(a), &value(b))
        }
    };
    order.then(a.id.cmp(&b.id))
}

pub(crate) fn sort(candidates: &mut [Candidate], gate: &Gate) {
    let by_name = |a: &Candidate, b: &Candidate| natural_order(&a.path, &b.path);
    let modified = |one: &Candidate| one.version.modified_ns;
    let bytes = |one: &Candidate| one.version.bytes;
    candidates.sort_by(|a, b| {
        let order = match &gate.order {
            Order::Oldest => modified(a).cmp(&modified(b)),
            Order::Newest => modified(b).cmp(&modified(a)),
            Order::Name => std::cmp::Ordering::Equal,
            Order::Smallest => bytes(a).cmp(&bytes(b)),
            Order::Largest => bytes(b).cmp(&bytes(a)),
            Order::Field(field) => {
                let value = |one: &Candidate| one.fields.get(field).cloned().unwrap_or_default();
                field_order(&value(a), &value(b))
            }
        };
        order.then_with(|| by_name(a, b))
    });
}
