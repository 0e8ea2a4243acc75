//! Trying a configuration on the machine: are the folders there, may they be
//! read and written, do gates stand in each other's way.

use std::ffi::CString;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::{Archive, Config, Fault, Gate, Work, write_duration};
use crate::arrivals::notices::try_notices;
use crate::arrivals::{Kind, sweep};
use crate::pattern::Pattern;

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// It will not work so.
    Fault,
    /// It works, but hardly as meant.
    Warning,
}

/// One thing that [`check`] found.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Finding {
    /// Fault or warning.
    pub weight: Weight,
    /// The gate, if it is about one.
    pub gate: Option<String>,
    /// The file in which it is, if it is about one.
    pub file: Option<String>,
    /// Line in that file, if it is about one.
    pub line: Option<usize>,
    /// Column of that line, if it is about a value there.
    pub column: Option<usize>,
    /// What is wrong, where, and what to do.
    pub message: String,
}

impl From<&Fault> for Finding {
    fn from(fault: &Fault) -> Self {
        Finding {
            weight: Weight::Fault,
            gate: None,
            file: Some(fault.file.display().to_string()),
            line: Some(fault.line),
            column: Some(fault.column),
            message: fault.message.clone(),
        }
    }
}

/// Tries `config` on this machine; an empty list means that all is well.
pub fn check(config: &Config) -> Vec<Finding> {
    let mut findings = Vec::new();
    if config.gates.is_empty() {
        findings.push(Finding {
            weight: Weight::Warning,
            gate: None,
            file: None,
            line: None,
            column: None,
            message: "there is no gate; add one as [gate.NAME] with `drop` and `archive`".into(),
        });
    }
    for gate in &config.gates {
        check_gate(config, gate, &mut findings);
    }
    for (at, gate) in config.gates.iter().enumerate() {
        for other in &config.gates[..at] {
            check_two(other, gate, &mut findings);
        }
    }
    findings
}

fn add(findings: &mut Vec<Finding>, weight: Weight, gate: &Gate, message: String) {
    findings.push(Finding {
        weight,
        gate: Some(gate.name.clone()),
        file: Some(gate.file.display().to_string()),
        line: Some(gate.line),
        column: None,
        message,
    });
}

fn check_gate(config: &Config, gate: &Gate, findings: &mut Vec<Finding>) {
    if check_drop(gate, findings) {
        check_notices(gate, findings);
    }
    check_patterns(gate, findings);
    if !config.within_roots(&gate.drop) {
        add(findings, Weight::Fault, gate, outside("drop folder", &gate.drop));
    } else if let Err(problem) = config.really_within_roots(&gate.drop) {
        add(findings, Weight::Fault, gate, problem);
    }
    let mut places = Vec::new();
    if let Archive::Into(template) = &gate.archive {
        places.push(("archive", fixed_folder(template.fixed_start()), true));
    }
    if let Some(template) = &gate.hold {
        places.push(("hold", fixed_folder(template.fixed_start()), true));
    }
    if let Work::Merge(merge) = &gate.work {
        places.push(("output", fixed_folder(merge.into.fixed_start()), false));
    }
    for (what, folder, moved_to) in places {
        check_place(config, gate, what, &folder, moved_to, findings);
    }
    if let Work::Run(run) = &gate.work
        && run.program.is_absolute()
        && !may(&run.program, libc::X_OK)
    {
        let shown = run.program.display();
        let problem = format!(
            "the program `{shown}` is not there or may not be run; correct `program`, or chmod +x it"
        );
        add(findings, Weight::Fault, gate, problem);
    }
}

/// Whether two gates would both take one file: by their patterns, and by what
/// lies there now.
fn check_two(first: &Gate, second: &Gate, findings: &mut Vec<Finding>) {
    let (outer, inner) = if second.drop.starts_with(&first.drop) {
        (first, second)
    } else if first.drop.starts_with(&second.drop) {
        (second, first)
    } else {
        return;
    };
    let below = inner.drop.strip_prefix(&outer.drop).unwrap_or(Path::new(""));
    if below.components().next().is_some() && !outer.subfolders {
        return;
    }
    // Gates that leave their files do not take them from each other.
    if matches!((&first.archive, &second.archive), (Archive::Leave, Archive::Leave)) {
        return;
    }
    let both = |path: &str| {
        let of_outer = below.join(path).display().to_string();
        inner.takes(path).is_ok() && outer.takes(&of_outer).is_ok()
    };
    let examples = inner.take.iter().chain(&outer.take).map(Pattern::example);
    let mut shared: Vec<String> = examples.filter(|example| both(example)).collect();
    // A folder that cannot be read is told elsewhere.
    let _ = sweep(&inner.drop, inner.depth, |seen| {
        if seen.kind == Kind::File && both(&seen.path) {
            shared.insert(0, seen.path);
        }
    });
    let Some(path) = shared.first() else { return };
    let (a, b, drop) = (&first.name, &second.name, inner.drop.display());
    let message = format!(
        "gates `{a}` and `{b}` would both take `{path}` from `{drop}`; make their `take` or `leave` apart, or let both say archive = \"leave\""
    );
    add(findings, Weight::Fault, second, message);
}

/// Patterns that can take nothing, because what they match is always left.
fn check_patterns(gate: &Gate, findings: &mut Vec<Finding>) {
    for pattern in &gate.take {
        let example = pattern.example();
        if let Err(why) = gate.takes(&example)
            && !why.starts_with("no pattern")
        {
            let source = pattern.source();
            let message =
                format!("the pattern `{source}` hardly takes anything: of `{example}`, {why}");
            add(findings, Weight::Warning, gate, message);
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
        add(findings, Weight::Warning, gate, message);
    }
}

/// Whether the kernel tells of changes in the drop folder.
fn check_notices(gate: &Gate, findings: &mut Vec<Finding>) {
    if let Err(why) = try_notices(&gate.drop, gate.subfolders) {
        let every = write_duration(gate.sweep);
        let message = format!(
            "there are no notices for `{}`: {why}; sweeps find everything, each {every}",
            gate.drop.display()
        );
        add(findings, Weight::Warning, gate, message);
    }
}

/// Whether the drop folder is as it should be.
fn check_drop(gate: &Gate, findings: &mut Vec<Finding>) -> bool {
    let drop = gate.drop.display();
    let fault = match std::fs::metadata(&gate.drop) {
        Err(error) => format!(
            "the drop folder `{drop}` cannot be looked at: {error}; make it, or correct `drop`"
        ),
        Ok(meta) if !meta.is_dir() => {
            format!("the drop `{drop}` is not a folder; correct `drop`")
        }
        Ok(_) if !may(&gate.drop, libc::R_OK | libc::X_OK) => format!(
            "the drop folder `{drop}` may not be read; give this user read and search permission"
        ),
        Ok(_) if matches!(gate.archive, Archive::Into(_)) && !may(&gate.drop, libc::W_OK) => {
            format!(
                "files may not be moved out of `{drop}`; give this user write permission, or say archive = \"leave\""
            )
        }
        Ok(_) => return true,
    };
    add(findings, Weight::Fault, gate, fault);
    false
}

fn outside(what: &str, folder: &Path) -> String {
    format!(
        "the {what} `{}` lies outside the roots; add its folder to `roots` in [service]",
        folder.display()
    )
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
    if !config.within_roots(folder) {
        add(findings, Weight::Fault, gate, outside(&format!("{what} folder"), folder));
    }
    let watched = config.gates.iter().find(|other| {
        other.name != gate.name && other.subfolders && folder.starts_with(&other.drop)
    });
    if let Some(other) = watched {
        let message = format!(
            "the {what} folder `{shown}` lies inside the drop folder of gate `{}`, which looks below: its files would be seen there as arrivals",
            other.name
        );
        add(findings, Weight::Warning, gate, message);
    }
    if folder.starts_with(&gate.drop) {
        let taken = if gate.subfolders {
            "its files would be seen as arrivals again"
        } else {
            "keep it apart"
        };
        add(
            findings,
            Weight::Warning,
            gate,
            format!("the {what} folder `{shown}` lies inside the drop folder; {taken}"),
        );
    }
    let Some(there) = nearest_there(folder) else { return };
    if !may(&there, libc::W_OK | libc::X_OK) {
        add(
            findings,
            Weight::Fault,
            gate,
            format!(
                "the {what} folder `{shown}` cannot be written: `{}` gives no permission",
                there.display()
            ),
        );
    }
    if moved_to
        && let (Ok(a), Ok(b)) = (std::fs::metadata(&there), std::fs::metadata(&gate.drop))
        && a.dev() != b.dev()
    {
        add(
            findings,
            Weight::Warning,
            gate,
            format!(
                "the {what} folder `{shown}` is on another device than the drop folder; each file will be copied and verified, which is slower than a rename"
            ),
        );
    }
}

/// The folder that the fixed part of a path template names.
pub(crate) fn fixed_folder(fixed: &str) -> PathBuf {
    let (folder, _) = fixed.rsplit_once('/').unwrap_or((fixed, ""));
    PathBuf::from(if folder.is_empty() { "/" } else { folder })
}

/// The nearest folder above `path`, or itself, that is there.
fn nearest_there(path: &Path) -> Option<PathBuf> {
    path.ancestors().find(|folder| std::fs::metadata(folder).is_ok()).map(Path::to_owned)
}

/// What the operating system says to access(2) for the effective user.
fn may(path: &Path, mode: i32) -> bool {
    let Ok(path) = CString::new(path.as_os_str().as_bytes()) else { return false };
    // SAFETY: `path` is a valid C string for the length of the call.
    unsafe { libc::faccessat(libc::AT_FDCWD, path.as_ptr(), mode, libc::AT_EACCESS) == 0 }
}
