//! Trying a configuration on the machine: are the folders there, may they be
//! read and written, do gates stand in each other's way.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::Access;

use crate::arrivals::notices::{Hub, Notices};
pub use crate::check::afar::check_places;
use crate::check::found::add;
use crate::check::overlap::check_two;
use crate::config::Config;
use crate::config::drops::FoundFolders;
use crate::config::gate::{Archive, Gate};
use crate::config::identity::{Once, Repeats};
use crate::config::taking::NotTaken;
use crate::config::tell::{Tell, TellBy};
use crate::files::access::may;
use crate::files::lock::owner_of;
use crate::files::owning;
use crate::pattern::Pattern;
use crate::pattern::template::Template;
pub use crate::settings::fault::{Finding, Severity};
use crate::settings::values::write_duration;
use crate::work::run::problem_of;
use crate::work::seam::{WorkFindings, WorkPlace};

mod afar;
pub(crate) mod found;
pub(crate) mod overlap;

/// Tries `config` on this machine; an empty list means that all is well.
pub fn check(config: &Config) -> Vec<Finding> {
    let mut findings = Vec::new();
    if config.gates.is_empty() {
        let why = "there is no gate; add one as [gate.NAME] with `drop` and `archive`";
        findings.push(Finding { severity: Severity::Warning, ..Finding::fault(why.into()) });
    }
    for gate in &config.gates {
        check_gate(config, gate, &mut findings);
    }
    findings.extend(config.tells.iter().filter_map(|tell| check_tell(config, tell)));
    findings.extend(config.calendars.problems().into_iter().map(Finding::fault));
    for (at, gate) in config.gates.iter().enumerate() {
        for other in &config.gates[..at] {
            check_two(&config.reach, other, gate, &mut findings);
        }
    }
    findings
}

/// Whether the program of a tell can be run.
fn check_tell(config: &Config, tell: &Tell) -> Option<Finding> {
    let TellBy::Run { program, .. } = &tell.by else { return None };
    let why = problem_of(&config.file, program)?;
    Some(Finding::fault(format!("the tell `{}`: {why}", tell.name)))
}

fn check_gate(config: &Config, gate: &Gate, findings: &mut Vec<Finding>) {
    let found = gate.drops.find();
    let faults = findings.len();
    check_drops(config, gate, &found, findings);
    if findings.len() == faults {
        check_notices(config, gate, &found, findings);
    }
    check_patterns(gate, findings);
    for (what, template, moved_to) in written(gate) {
        let folder = folder_of(what, template);
        check_place(config, gate, what, &folder, moved_to, findings);
        check_no_file(gate, what, &folder, findings);
    }
    for place in gate.places() {
        if let WorkPlace::Fixed(what, path) = place {
            let folder = path.parent().unwrap_or(Path::new("/"));
            check_place(config, gate, what, folder, false, findings);
        }
    }
    check_own_outputs(gate, findings);
    afar::check_own_round(gate, findings);
    check_identity(gate, findings);
    if let Some(work) = &gate.work {
        let mut found = WorkFindings::default();
        work.check(&config.file, &mut found);
        found.faults.into_iter().for_each(|why| add(findings, Severity::Fault, gate, why));
        found.warnings.into_iter().for_each(|why| add(findings, Severity::Warning, gate, why));
    }
}

/// Every place into which the gate writes files: what it is, its template, and whether
/// sources are moved there.
fn written(gate: &Gate) -> Vec<(&'static str, &Template, bool)> {
    let mut places = Vec::new();
    if let Archive::Into(template, _) = &gate.archive {
        places.push(("archive", template, true));
    }
    if let Some(template) = &gate.hold {
        places.push(("hold", template, true));
    }
    if let Repeats::Into(template) = &gate.repeats {
        places.push(("repeats", template, true));
    }
    // The account stands beside the output.
    places.extend(gate.outputs().into_iter().map(|template| ("output", template, false)));
    places
}

/// The folder that is surely written to: the template of an output names a file in it,
/// all others name the folder.
fn folder_of(what: &str, template: &Template) -> PathBuf {
    let whole = template.uses().next().is_none() && what != "output";
    if whole { PathBuf::from(template.fixed_start()) } else { template.fixed_folder() }
}

/// A folder that is there as a file.
fn check_no_file(gate: &Gate, what: &str, folder: &Path, findings: &mut Vec<Finding>) {
    let found = folder.ancestors().find_map(|path| Some((path, path.symlink_metadata().ok()?)));
    if let Some((path, meta)) = found
        && !meta.is_dir()
        && !meta.is_symlink()
    {
        let shown = path.display();
        let message = format!(
            "the {what} folder needs `{shown}`, which is a file; move it away, or name another folder"
        );
        add(findings, Severity::Fault, gate, message);
    }
}

/// Outputs that the gate's own patterns would take for sources.
fn check_own_outputs(gate: &Gate, findings: &mut Vec<Finding>) {
    for template in gate.outputs() {
        let example = PathBuf::from(template.example());
        if gate.takes_path(&example) {
            let source = template.source();
            let message = format!(
                "the output `{source}` lies in the gate's own drop folder, and its patterns take it (such as `{}`); write it elsewhere, or leave it: leave = […]",
                example.file_name().unwrap_or_default().display()
            );
            add(findings, Severity::Fault, gate, message);
        }
    }
}

/// Rows whose meaning is in the name, at a gate for which the same content is the same.
fn check_identity(gate: &Gate, findings: &mut Vec<Finding>) {
    if gate.once != Once::Content {
        return;
    }
    let captured: Vec<&str> = gate.meant_fields().collect();
    if let Some(field) = captured.first() {
        let message = format!(
            "`<{field}>` from the name goes into rows or outputs, and once = \"content\": of two files with the same bytes and another `<{field}>` only the first is worked; say once = \"name+content\" if both are meant"
        );
        add(findings, Severity::Warning, gate, message);
    }
}

/// Patterns that can take nothing, because what they match is always left.
fn check_patterns(gate: &Gate, findings: &mut Vec<Finding>) {
    for pattern in &gate.take {
        let example = pattern.example();
        if let Err(why) = gate.takes(&example)
            && !matches!(why, NotTaken::Nearest { .. })
        {
            let source = pattern.source();
            let message =
                format!("the pattern `{source}` hardly takes anything: of `{example}`, {why}");
            add(findings, Severity::Warning, gate, message);
        }
    }
    let needs_folders = |pattern: &&Pattern| {
        !gate.subfolders && pattern.source().contains('/') && pattern.example().contains('/')
    };
    for pattern in gate.take.iter().filter(needs_folders) {
        let source = pattern.source();
        let message = format!(
            "the pattern `{source}` asks for subfolders, and the gate does not look below; say subfolders = true"
        );
        add(findings, Severity::Warning, gate, message);
    }
}

/// Whether the kernel tells of changes in the drop folders.
fn check_notices(config: &Config, gate: &Gate, found: &FoundFolders, findings: &mut Vec<Finding>) {
    if !gate.notices {
        return;
    }
    let mut notices = Notices::new(Hub::start().map(Arc::new), Arc::new(|| {}));
    notices.begin();
    for folder in &found.folders {
        let watch = &mut |folder: &_, place: &str| notices.watch(folder, place);
        // That it cannot be read is told elsewhere.
        let _ = gate.drops.sweep(&config.reach, folder, gate.depth, watch, |_| ());
    }
    for why in notices.end(true) {
        let every = write_duration(gate.sweep);
        let message =
            format!("there are no notices of {why}; sweeps find everything, each {every}");
        add(findings, Severity::Warning, gate, message);
    }
}

/// Whether the drop folders are as they should be.
fn check_drops(config: &Config, gate: &Gate, found: &FoundFolders, findings: &mut Vec<Finding>) {
    for problem in &found.problems {
        let message = format!("{problem}; make it, or correct `drop`");
        add(findings, Severity::Fault, gate, message);
    }
    if found.folders.is_empty() && found.problems.is_empty() {
        let message = format!(
            "no folder fits the drop folder `{}` yet; one that appears is taken in",
            gate.drops.shown()
        );
        add(findings, Severity::Warning, gate, message);
    }
    for folder in &found.folders {
        let folder = gate.drops.path_of(folder);
        check_drop(gate, &folder, findings);
        if let Some(problem) = outside(config, "drop folder", &folder) {
            add(findings, Severity::Fault, gate, problem);
        } else if let Err(problem) = config.really_within_roots(&folder) {
            add(findings, Severity::Fault, gate, problem.to_string());
        } else if let Some(problem) = worked_elsewhere(config, gate, &folder) {
            add(findings, Severity::Fault, gate, problem);
        }
    }
}

/// Whether another service than that of this configuration works the folder.
fn worked_elsewhere(config: &Config, gate: &Gate, path: &Path) -> Option<String> {
    let folder = config.reach.folder(path).ok()?;
    let elsewhere = owning::belongs_elsewhere(&folder, !gate.only_looks())?;
    let ours = owner_of(&config.service.state);
    // A kernel that does not name the process leaves it open who that is.
    (ours.is_none() || elsewhere.process.is_some() && elsewhere.process != ours)
        .then(|| owning::words(path, elsewhere))
}

/// Whether a drop folder is as it should be.
fn check_drop(gate: &Gate, folder: &Path, findings: &mut Vec<Finding>) {
    let drop = folder.display();
    let fault = match std::fs::metadata(folder) {
        Err(error) => format!(
            "the drop folder `{drop}` cannot be looked at: {error}; make it, or correct `drop`"
        ),
        Ok(meta) if !meta.is_dir() => {
            format!("the drop `{drop}` is not a folder; correct `drop`")
        }
        Ok(_) if !may(folder, Access::READ_OK | Access::EXEC_OK) => format!(
            "the drop folder `{drop}` may not be read; give this user read and search permission"
        ),
        Ok(_)
            if matches!(gate.archive, Archive::Into(..) | Archive::Delete)
                && !may(folder, Access::WRITE_OK) =>
        {
            format!(
                "files may not be moved out of `{drop}`; give this user write permission, or say archive = \"leave\""
            )
        }
        Ok(_) => return,
    };
    add(findings, Severity::Fault, gate, fault);
}

/// Why a folder is none in which files may lie.
fn outside(config: &Config, what: &str, folder: &Path) -> Option<String> {
    let shown = folder.display();
    if config.within_roots(folder) {
        return None;
    }
    Some(match config.reach.is_state(folder) {
        true => format!(
            "the {what} `{shown}` is the state folder, which is never data; name another folder"
        ),
        false => format!(
            "the {what} `{shown}` lies outside the roots; add its folder to `roots` in [service]"
        ),
    })
}

fn check_place(
    config: &Config,
    gate: &Gate,
    what: &str,
    folder: &Path,
    moved_to: bool,
    findings: &mut Vec<Finding>,
) {
    let shown = folder.display();
    if let Some(problem) = outside(config, &format!("{what} folder"), folder) {
        add(findings, Severity::Fault, gate, problem);
    }
    let watched = config
        .gates
        .iter()
        .find(|other| other.name != gate.name && other.subfolders && other.has_in_drop(folder));
    if let Some(other) = watched {
        let message = format!(
            "the {what} folder `{shown}` lies inside the drop folder of gate `{}`, which looks below: its files would be seen there as arrivals",
            other.name
        );
        add(findings, Severity::Warning, gate, message);
    }
    if gate.has_in_drop(folder) {
        let taken = if gate.subfolders {
            "its files would be seen as arrivals again"
        } else {
            "keep it apart"
        };
        add(
            findings,
            Severity::Warning,
            gate,
            format!("the {what} folder `{shown}` lies inside the drop folder; {taken}"),
        );
    }
    check_reached(gate, what, folder, moved_to, findings);
}

/// Whether a place can be written, and what it costs to move files there.
fn check_reached(
    gate: &Gate,
    what: &str,
    folder: &Path,
    moved_to: bool,
    findings: &mut Vec<Finding>,
) {
    let shown = folder.display();
    let Some(there) = nearest_there(folder) else { return };
    if !may(&there, Access::WRITE_OK | Access::EXEC_OK) {
        add(
            findings,
            Severity::Fault,
            gate,
            format!(
                "the {what} folder `{shown}` cannot be written: `{}` gives no permission",
                there.display()
            ),
        );
    }
    if moved_to
        && let Ok(place) = std::fs::metadata(&there)
        && gate.drops.find().folders.iter().any(|folder| {
            std::fs::metadata(gate.drops.path_of(folder))
                .is_ok_and(|drop| drop.dev() != place.dev())
        })
    {
        add(
            findings,
            Severity::Warning,
            gate,
            format!(
                "the {what} folder `{shown}` is on another device than the drop folder; each file will be copied and verified, which is slower than a rename"
            ),
        );
    }
}

/// The nearest folder above `path`, or itself, that is there.
fn nearest_there(path: &Path) -> Option<PathBuf> {
    path.ancestors().find(|folder| std::fs::metadata(folder).is_ok()).map(Path::to_owned)
}
