//! `check`: is the configuration right, and does this machine go with it?

use std::path::Path;
use std::process::ExitCode;

use vadegate_core::config::{Config, ConfigError, Finding, Weight, check as try_out};

use crate::failure::{Failure, WRONG};
use crate::show;

pub fn check(file: &Path, json: bool) -> Result<ExitCode, Failure> {
    let (findings, gates) = match Config::read(file) {
        Ok(config) => (try_out(&config), config.gates.len()),
        Err(ConfigError::Faulty { faults, .. }) => (faults.iter().map(Finding::from).collect(), 0),
        Err(unreadable) => return Err(unreadable.into()),
    };
    let faults = findings.iter().filter(|finding| finding.weight == Weight::Fault).count();
    if json {
        show::json(&findings)?;
    } else {
        for finding in &findings {
            print(file, finding)?;
        }
        let warnings = findings.len() - faults;
        let shown = file.display();
        show::line(&match (faults, warnings) {
            (0, 0) => format!("{shown}: all is well with {gates} gate(s)"),
            (0, _) => format!("{shown}: no fault, {warnings} warning(s), {gates} gate(s)"),
            _ => format!("{shown}: {faults} fault(s), {warnings} warning(s)"),
        })?;
    }
    Ok(if faults > 0 { ExitCode::from(WRONG) } else { ExitCode::SUCCESS })
}

fn print(file: &Path, finding: &Finding) -> Result<(), Failure> {
    let mut place = file.display().to_string();
    for number in [finding.line, finding.column].into_iter().flatten() {
        place.push_str(&format!(":{number}"));
    }
    let weight = match finding.weight {
        Weight::Fault => "fault",
        Weight::Warning => "warning",
    };
    let gate = finding.gate.as_ref().map(|gate| format!(" gate `{gate}`:")).unwrap_or_default();
    show::line(&format!("{place}: {weight}:{gate} {}", finding.message))
}
