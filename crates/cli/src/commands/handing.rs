//! `drop`: files are handed in at the door of a gate.

use std::fs::File;
use std::path::Path;
use std::process::ExitCode;

use serde::Serialize;
use vadegate_core::act::HandedInFile;
use vadegate_core::ask::EntryView;
use vadegate_core::config::Config;
use vadegate_core::files::Sha256;

use super::keeping::bar;
use crate::args::DropFiles;
use crate::client::{Handed, Remote, who};
use crate::failure::{FAILED, Failure};
use crate::show;

/// What became of a file.
#[derive(Serialize)]
struct Dropped {
    file: String,
    path: String,
    #[serde(flatten)]
    became: Option<HandedInFile>,
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<String>,
}

/// Where a file goes, and what it replaces.
struct Place {
    path: String,
    replaces: Option<Sha256>,
}

pub fn drop_files(config: &Config, args: &DropFiles) -> Result<ExitCode, Failure> {
    if args.files.len() > 1 && (args.path.is_some() || args.mends.is_some()) {
        return Err(Failure::Wrong("--as and --mends are for one file at a time".into()));
    }
    let remote = Remote::of(config)?.ok_or_else(|| {
        Failure::Failed(
            "no service is running that could take it; start `vadegate serve`, or put the file into the drop folder yourself, under another name first".into(),
        )
    })?;
    let who = who(args.by.as_deref());
    let mut all = Vec::new();
    for file in &args.files {
        let place = place(&remote, args, file)?;
        let done = hand_in(&remote, args, (file, &place), who.as_deref());
        let (became, refused) = match done {
            Ok(became) => (Some(became), None),
            // The others may be taken.
            Err(Failure::Problem(problem)) if args.files.len() > 1 => (None, Some(problem.detail)),
            Err(error) => return Err(error),
        };
        all.push(Dropped { file: file.display().to_string(), path: place.path, became, refused });
    }
    if args.json {
        show::json(&all)?;
    } else {
        print(&all)?;
    }
    let well = all.iter().all(|one| one.became.as_ref().is_some_and(|one| one.state != "held"));
    Ok(if well { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

fn place(remote: &Remote, args: &DropFiles, file: &Path) -> Result<Place, Failure> {
    if let Some(path) = &args.path {
        return Ok(Place { path: path.clone(), replaces: None });
    }
    if let Some(entry) = args.mends {
        let entry: EntryView = remote.get(&format!("/api/v1/entries/{entry}"), &[])?;
        let (path, entry) = (entry.place, entry.detail.entry);
        if entry.gate != args.gate {
            return Err(Failure::Wrong(format!(
                "entry {} is of the gate `{}`, not of `{}`",
                entry.id, entry.gate, args.gate
            )));
        }
        return Ok(Place { path: path.unwrap_or(entry.path), replaces: Some(entry.sha256) });
    }
    let name = file.file_name().and_then(|name| name.to_str()).ok_or_else(|| {
        Failure::Wrong(format!("`{}` has no name that can be sent; say --as", file.display()))
    })?;
    Ok(Place { path: name.to_owned(), replaces: None })
}

fn hand_in(
    remote: &Remote,
    args: &DropFiles,
    (file, place): (&Path, &Place),
    who: Option<&str>,
) -> Result<HandedInFile, Failure> {
    let failed = |error| Failure::Failed(format!("`{}` cannot be read: {error}", file.display()));
    let mut open = File::open(file).map_err(failed)?;
    let meta = open.metadata().map_err(failed)?;
    if !meta.is_file() {
        return Err(Failure::Wrong(format!("`{}` is no file", file.display())));
    }
    let sum = Sha256::of_reader(&mut open).map_err(failed)?;
    let handed = Handed {
        gate: &args.gate,
        path: &place.path,
        who,
        bytes: meta.len(),
        sha256: sum,
        replaces: place.replaces,
    };
    let bar = bar("handing in");
    bar.set_length(meta.len());
    let done = remote.hand_in(&handed, &mut open, &|there| bar.set_position(there));
    bar.finish_and_clear();
    done
}

fn print(all: &[Dropped]) -> Result<(), Failure> {
    let mut table = show::table(&["FILE", "AS", "ENTRY", "STATE", "NOTE"]);
    for one in all {
        let (entry, state, note) = match (&one.became, &one.refused) {
            (Some(became), _) => {
                let note = match (became.repeat_of, &became.reason) {
                    (Some(first), _) => format!("the same as entry {first}"),
                    (None, Some(reason)) => reason.clone(),
                    (None, None) => String::new(),
                };
                let entry = became.entry.map(|entry| entry.to_string()).unwrap_or_default();
                (entry, became.state.clone(), note)
            }
            (None, refused) => {
                (String::new(), "refused".to_owned(), refused.clone().unwrap_or_default())
            }
        };
        table.add_row(vec![
            show::cell(&one.file),
            show::cell(&one.path),
            show::cell(entry),
            show::word(&state),
            show::cell(note),
        ]);
    }
    show::print(&table)
}
