//! `rehearse`: what a pass would do now.

use std::path::Path;

use vadegate_core::ask::{Rehearsed, Will};

use crate::args::Rehearse;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn rehearse(client: &Client, args: &Rehearse) -> Result<(), Failure> {
    let gates = if args.gates.is_empty() {
        client.gates()?.into_iter().map(|gate| gate.name).collect()
    } else {
        args.gates.clone()
    };
    let mut files = Vec::new();
    for gate in &gates {
        files.extend(client.rehearse(gate)?);
    }
    if args.json { show::json(&files) } else { print(&files) }
}

fn print(files: &[Rehearsed]) -> Result<(), Failure> {
    if files.is_empty() {
        return show::line(
            "A pass would do nothing: no file waits. `vadegate files` says what is left, and why.",
        );
    }
    let here = std::env::current_dir().unwrap_or_default();
    let mut table = show::table(&["GATE", "PATH", "SIZE", "WILL", "WHAT"]);
    for file in files {
        table.add_row([
            show::cell(&file.gate),
            show::cell(&file.place),
            show::cell(show::bytes(file.bytes)).set_alignment(comfy_table::CellAlignment::Right),
            show::word(word(file.will)),
            show::cell(what(file, &here)),
        ]);
    }
    show::unbroken(&mut table, &[0, 2, 3]);
    show::at_least(&mut table, 1, 24);
    show::print(&table)
}

/// What would be done with a file, in words; paths below `here` are shortened.
fn what(file: &Rehearsed, here: &Path) -> String {
    let near = |path: &str| {
        let below = Path::new(path).strip_prefix(here).ok();
        below.map_or_else(|| path.to_owned(), |below| below.display().to_string())
    };
    let mut parts: Vec<String> = file.because.iter().cloned().collect();
    if let (Some(output), Some(mode)) = (&file.output, &file.mode) {
        parts.push(format!("into {} ({mode})", near(output)));
    }
    parts.extend(file.also.iter().map(|one| format!("and {} ({})", near(&one.output), one.mode)));
    if let Some(program) = &file.program {
        parts.push(format!("by {}", near(program)));
    }
    match (&file.filed_to, file.will) {
        (Some(place), _) => parts.push(format!("to {}", near(place))),
        (None, Will::Wait) => {}
        (None, _) => parts.push("stays where it is".into()),
    }
    parts.join(", ")
}

fn word(will: Will) -> &'static str {
    match will {
        Will::Work => "work",
        Will::File => "file",
        Will::Repeat => "repeat",
        Will::PassOver => "pass over",
        Will::Hold => "hold",
        Will::Wait => "wait",
    }
}
