//! What was found at a gate.

use crate::config::gate::Gate;
use crate::settings::fault::{Finding, Weight};

/// Adds something that was found at a gate.
pub(crate) fn add(findings: &mut Vec<Finding>, weight: Weight, gate: &Gate, message: String) {
    findings.push(Finding {
        weight,
        gate: Some(gate.name.clone()),
        file: Some(gate.file.display().to_string()),
        line: Some(gate.line),
        column: None,
        message,
    });
}
