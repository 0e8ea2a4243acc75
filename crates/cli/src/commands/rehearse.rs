//! `rehearse`: what a pass would do now.

use comfy_table::Cell;
use vadegate_core::engine::{Rehearsed, Will};

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
    let mut table = show::table(&["GATE", "PATH", "SIZE", "WILL", "INTO", "FILED TO", "BECAUSE"]);
    for file in files {
        let into = match (&file.output, &file.mode, &file.program) {
            (Some(output), Some(mode), _) => format!("{output} ({mode})"),
            (_, _, Some(program)) => program.clone(),
            _ => String::new(),
        };
        table.add_row([
            Cell::new(&file.gate),
            Cell::new(&file.path),
            Cell::new(show::bytes(file.bytes)).set_alignment(comfy_table::CellAlignment::Right),
            show::word(word(file.will)),
            Cell::new(into),
            Cell::new(file.filed_to.as_deref().unwrap_or("stays")),
            Cell::new(file.because.as_deref().unwrap_or("")),
        ]);
    }
    show::unbroken(&mut table, &[0, 2, 3]);
    show::at_least(&mut table, 1, 20);
    show::print(&table)
}

fn word(will: Will) -> &'static str {
    match will {
        Will::Work => "work",
        Will::File => "file",
        Will::Repeat => "repeat",
        Will::Hold => "hold",
        Will::Wait => "wait",
    }
}
