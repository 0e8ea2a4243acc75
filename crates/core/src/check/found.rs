//! What was found at a gate.

use crate::config::gate::Gate;
use crate::settings::fault::{Finding, Severity};

/// Adds something that was found at a gate.
pub(crate) fn add(findings: &mut Vec<Finding>, severity: Severity, gate: &Gate, message: String) {
    findings.push(Finding {
        severity,
        gate: Some(gate.name.clone()),
        file: Some(gate.file.display().to_string()),
        line: Some(gate.line),
        column: None,
        message,
    });
}
