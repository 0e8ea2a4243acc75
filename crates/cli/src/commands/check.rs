//! `check`: is the configuration right, and does this machine go with it?

use std::path::Path;
use std::process::ExitCode;

use serde::Serialize;
use vadegate_core::arrivals::{Kind, sweep};
use vadegate_core::check::{Finding, Severity, check as try_out, check_places};
use vadegate_core::config::{Config, ConfigError};
use vadegate_core::pattern::{Fields, natural_order};

use crate::failure::{Failure, WRONG};
use crate::show;

pub fn check(file: &Path, json: bool) -> Result<ExitCode, Failure> {
    let (findings, gates) = match Config::read(file) {
        Ok(config) => {
            let mut findings = try_out(&config);
            findings.extend(check_places(&config));
            (findings, config.gates.len())
        }
        Err(ConfigError::Faulty { faults, .. }) => (faults.iter().map(Finding::from).collect(), 0),
        Err(unreadable) => return Err(unreadable.into()),
    };
    let faults = findings.iter().filter(|finding| finding.severity == Severity::Fault).count();
    if json {
        show::json(&findings)?;
    } else {
        for finding in &findings {
            print(file, finding)?;
        }
        let warnings = findings.len() - faults;
        let warned = |count| show::counted(count as u64, "warning", "warnings");
        let gates = show::counted(gates as u64, "gate", "gates");
        let shown = file.display();
        show::line(&match (faults, warnings) {
            (0, 0) => format!("{shown}: all is well with {gates}"),
            (0, _) => format!("{shown}: no fault, {}, {gates}", warned(warnings)),
            _ => format!(
                "{shown}: {}, {}",
                show::counted(faults as u64, "fault", "faults"),
                warned(warnings)
            ),
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
    let severity = match finding.severity {
        Severity::Fault => "fault",
        Severity::Warning => "warning",
    };
    let gate = finding.gate.as_ref().map(|gate| format!(" gate `{gate}`:")).unwrap_or_default();
    show::line(&format!("{place}: {severity}:{gate} {}", finding.message))
}

/// What the gates would make of one name.
#[derive(Serialize)]
struct Tried {
    path: String,
    gates: Vec<String>,
    fields: Fields,
    because: Option<String>,
}

/// `check --against`: which gate would take the files of a folder, by their names.
pub fn against(config: &Config, folder: &Path, json: bool) -> Result<(), Failure> {
    let mut tried = Vec::new();
    // A person looks with their own rights: the folder need not be in the roots.
    let reach = vadegate_core::files::Reach::anywhere();
    let problems = sweep(&reach, &std::path::absolute(folder)?, u32::MAX, |seen| {
        if seen.kind == Kind::File {
            tried.push(try_name(config, seen.path));
        }
    })
    .map_err(|problem| Failure::Wrong(problem.to_string()))?;
    tried.sort_by(|a, b| natural_order(&a.path, &b.path));
    if json {
        show::json(&tried)?;
    } else {
        print_tried(&tried, folder)?;
    }
    match problems.first() {
        None => Ok(()),
        Some(problem) => Err(Failure::Failed(problem.to_string())),
    }
}

fn try_name(config: &Config, path: String) -> Tried {
    let mut tried = Tried { path, gates: Vec::new(), fields: Fields::new(), because: None };
    for gate in &config.gates {
        // A gate that does not look below sees the name alone.
        let name = tried.path.rsplit('/').next().unwrap_or(&tried.path);
        let seen = if gate.subfolders { &tried.path } else { name };
        match gate.takes(seen) {
            Ok(fields) => {
                tried.fields.extend(fields);
                tried.gates.push(gate.name.clone());
            }
            Err(why) => {
                let earlier = tried.because.take().map(|earlier| format!("{earlier}; "));
                tried.because =
                    Some(format!("{}{}: {why}", earlier.unwrap_or_default(), gate.name));
            }
        }
    }
    if !tried.gates.is_empty() {
        tried.because = None;
    }
    tried
}

fn print_tried(tried: &[Tried], folder: &Path) -> Result<(), Failure> {
    if tried.is_empty() {
        return show::line(&format!("No file lies in {}.", folder.display()));
    }
    let mut table = show::table(&["PATH", "TAKEN BY", "FIELDS", "LEFT BECAUSE"]);
    for one in tried {
        let fields = one.fields.iter().map(|(name, value)| format!("{name}={value}"));
        table.add_row([
            show::cell(&one.path),
            show::cell(if one.gates.is_empty() { "-".into() } else { one.gates.join(", ") }),
            show::cell(fields.collect::<Vec<_>>().join(" ")),
            show::cell(one.because.as_deref().unwrap_or("")),
        ]);
    }
    show::at_least(&mut table, 0, 20);
    show::unbroken(&mut table, &[1]);
    show::print(&table)?;
    let taken = tried.iter().filter(|one| !one.gates.is_empty()).count();
    show::line(&format!("\n{taken} of {} files would be taken, by their names.", tried.len()))
}
