//! `init`: a commented configuration for a folder.

use std::fs::File;
use std::io::{ErrorKind, Write};
use std::path::Path;

use vadegate_core::config::Config;
use vadegate_core::config::draft::{self, quoted};

use crate::args::Init;
use crate::failure::Failure;
use crate::show;

const TEMPLATE: &str = include_str!("init.toml");

/// Writes a file where none is.
fn write_new(file: &Path, text: &str) -> Result<(), Failure> {
    let shown = file.display();
    let written = File::options().write(true).create_new(true).open(file);
    let mut out = written.map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => Failure::Wrong(format!(
            "`{shown}` is there already and was left as it is; name another with --config"
        )),
        _ => Failure::Failed(format!("`{shown}` cannot be made: {error}")),
    })?;
    out.write_all(text.as_bytes())?;
    Ok(out.sync_all()?)
}

pub fn init(file: &Path, args: &Init) -> Result<(), Failure> {
    let wrong = |text: String| Err(Failure::Wrong(text));
    let shown = args.folder.display();
    match std::fs::metadata(&args.folder) {
        Ok(meta) if meta.is_dir() => {}
        Ok(_) => return wrong(format!("`{shown}` is not a folder; name the drop folder")),
        Err(error) => {
            return wrong(format!(
                "the folder `{shown}` cannot be looked at: {error}; make it first"
            ));
        }
    }
    let file = std::path::absolute(file)?;
    let home = file.parent().unwrap_or(Path::new("/")).to_owned();
    let drop = std::path::absolute(&args.folder)?;
    let Some(drop_text) = drop.to_str() else {
        return wrong(format!("the name of `{shown}` is not UTF-8; rename it"));
    };
    let gate = args.gate.clone().unwrap_or_else(|| {
        draft::gate_name(&drop.file_name().unwrap_or_default().to_string_lossy())
    });
    let (drop_text, mut roots) = match drop.strip_prefix(&home) {
        Ok(below) => (below.display().to_string(), Vec::new()),
        Err(_) => (drop_text.to_owned(), vec![quoted(drop_text)]),
    };
    roots.insert(0, quoted("."));
    let text = TEMPLATE
        .replace("@GATE@", &gate)
        .replace("@DROP@", &quoted(if drop_text.is_empty() { "." } else { &drop_text }))
        .replace("@ROOTS@", &roots.join(", "))
        .replace("@TAKE@", &takes(&drop)?);
    // A folder's name, and the user's choice of a gate's, are tried like any
    // configuration; the drop folder must come out as it was named.
    let config = Config::parse(&file, &text)?;
    let same =
        |gate: &vadegate_core::config::Gate| gate.drops.is_one() && gate.drops.base() == drop;
    if !config.gates.iter().any(same) {
        return wrong(format!(
            "the name of `{shown}` has characters that mean something else in a configuration (such as `${{`, `<` or `*`); rename the folder"
        ));
    }
    write_new(&file, &text)?;
    show::line(&format!(
        "Wrote {} with the gate `{gate}` over {}.",
        file.display(),
        drop.display()
    ))?;
    show::line("Next: read it, then `vadegate check`, `vadegate files`, and `vadegate serve`.")
}

/// Patterns for the endings that are there now.
fn takes(folder: &Path) -> Result<String, Failure> {
    let files = std::fs::read_dir(folder)?.filter_map(Result::ok);
    let files = files.filter(|one| one.file_type().is_ok_and(|kind| kind.is_file()));
    let names: Vec<String> = files.filter_map(|one| one.file_name().into_string().ok()).collect();
    let patterns: Vec<String> =
        draft::endings(names.iter().map(String::as_str)).iter().map(|one| quoted(one)).collect();
    Ok(patterns.join(", "))
}
