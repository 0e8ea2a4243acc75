//! Whether places can be reached, and used as the gates will use them.

use std::io::Cursor;

use vadegate_places::{Fault, Place, join};

use crate::afar::config::PlaceConfig;
use crate::afar::opened::Places;
use crate::check::found::add;
use crate::config::Config;
use crate::config::fetch::AfterFetch;
use crate::config::gate::Gate;
use crate::settings::fault::{Finding, Severity};

/// A file by which it is tried whether one may write.
const TRIED: &str = ".vadegate-check.part";

/// Signs in at each place, lists what gates look at, and writes a small file where they will
/// write, which is removed again. What it finds does not depend on this machine alone, and may
/// be another thing a minute later.
pub fn check_places(config: &Config) -> Vec<Finding> {
    let places = Places::default();
    config.places.iter().flat_map(|place| check_place(config, &places, place)).collect()
}

/// A gate that fetches what it delivers would go on for ever.
pub(super) fn check_own_round(gate: &Gate, findings: &mut Vec<Finding>) {
    let (Some(fetch), Some(work)) = (&gate.fetch, &gate.work) else { return };
    for (place, folder) in work.folders_afar() {
        let start = &fetch.folder.start;
        let below =
            folder == *start || folder.starts_with(&format!("{start}/")) || start.is_empty();
        let looks_into = folder == *start || gate.depth > 0 || !fetch.folder.below.is_empty();
        if place == fetch.place && below && looks_into {
            add(
                findings,
                Severity::Warning,
                gate,
                format!(
                    "it delivers into `{folder}` of the place `{place}`, and fetches from there too: what it delivers may come back; deliver elsewhere, or have other names in `take`"
                ),
            );
        }
    }
}

fn check_place(config: &Config, places: &Places, place: &PlaceConfig) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut note = |severity, gate: Option<&str>, why: String| {
        findings.push(Finding {
            severity,
            gate: gate.map(str::to_owned),
            file: Some(place.file.display().to_string()),
            line: Some(place.line),
            column: None,
            message: format!("the place `{}`: {why}", place.name),
        });
    };
    if place.at.is_in_clear() {
        let why = "files and the password go over the network in clear; use sftp://, ftps:// or webdavs:// where the server has it";
        note(Severity::Warning, None, why.into());
    }
    let opened = places.open(place);
    if let Err(fault) = opened.place.greet() {
        note(Severity::Fault, None, fault.to_string());
        return findings;
    }
    let server = &*opened.place;
    for gate in &config.gates {
        let name = Some(gate.name.as_str());
        if let Some(fetch) = gate.fetch.as_ref().filter(|fetch| fetch.place == place.name) {
            let folder = &fetch.folder.start;
            if let Err(fault) = server.list(folder, &mut |_| true) {
                note(Severity::Fault, name, format!("`{folder}` cannot be looked at: {fault}"));
            } else if fetch.after != AfterFetch::Leave
                && fetch.folder.below.is_empty()
                && let Err(why) = try_writing(server, folder)
            {
                let why = format!(
                    "files of `{folder}` are to be deleted or moved there, and it cannot be written to: {why}"
                );
                note(Severity::Fault, name, why);
            }
        }
        let written = gate.work.iter().flat_map(|work| work.folders_afar());
        for (_, folder) in written.filter(|(to, _)| *to == place.name) {
            // It is made when the first file is delivered.
            let there = server.look(&folder).is_ok_and(|found| found.is_some());
            if (there || folder.is_empty())
                && let Err(why) = try_writing(server, &folder)
            {
                note(Severity::Fault, name, format!("`{folder}` cannot be written to: {why}"));
            }
        }
    }
    findings
}

fn try_writing(place: &dyn Place, folder: &str) -> Result<(), Fault> {
    let path = join(folder, TRIED);
    let written = place.write(&path, 0, 8, &mut Cursor::new(b"vadegate"));
    let removed = place.remove(&path);
    written.and(removed)
}
