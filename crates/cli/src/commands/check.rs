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

/// The name of a finding's file as the user would write it.
fn shown_from_here(of_finding: Option<&str>, file: &Path) -> String {
    let main = || file.display().to_string();
    let Some(of_finding) = of_finding else { return main() };
    let absolute = std::path::absolute(file).unwrap_or_else(|_| file.to_owned());
    if Path::new(of_finding) == absolute {
        return main();
    }
    let folder = absolute.parent().unwrap_or(Path::new("/"));
    let below = Path::new(of_finding).strip_prefix(folder).ok();
    match (below, file.parent()) {
        (Some(below), Some(parent)) => parent.join(below).display().to_string(),
        _ => of_finding.to_owned(),
    }
}

fn print(file: &Path, finding: &Finding) -> Result<(), Failure> {
    let mut place = shown_from_here(finding.file.as_deref(), file);
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
