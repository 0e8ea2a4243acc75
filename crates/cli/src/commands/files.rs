//! `files`: what lies in drop folders.

use comfy_table::Cell;
use vadegate_core::arrivals::Kind;
use vadegate_core::engine::{FileView, Verdict};

use crate::args::Files;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn files(client: &Client, args: &Files) -> Result<(), Failure> {
    let all = args.gates.is_empty();
    let gates = if all {
        client.gates()?.into_iter().map(|gate| gate.name).collect()
    } else {
        args.gates.clone()
    };
    let mut files: Vec<FileView> = Vec::new();
    let mut unread = Vec::new();
    for gate in &gates {
        match client.files(gate) {
            Ok(found) => files.extend(found),
            // One folder that cannot be read does not hide the others.
            Err(failure) if all => unread.push(format!("gate `{gate}`: {failure}")),
            Err(failure) => return Err(failure),
        }
    }
    if let Some(wanted) = &args.verdict {
        files.retain(|file| word(file.verdict) == wanted);
    }
    if args.json {
        show::json(&files)?;
    } else {
        print(&files, args)?;
    }
    if unread.is_empty() { Ok(()) } else { Err(Failure::Failed(unread.join("\nvadegate: "))) }
}

fn print(files: &[FileView], args: &Files) -> Result<(), Failure> {
    if files.is_empty() {
        let such = args.verdict.as_ref().map(|word| format!(" with verdict `{word}`"));
        return show::line(&format!(
            "Nothing lies in the drop folder{}{}.",
            if args.gates.len() == 1 {
                format!(" of gate `{}`", args.gates[0])
            } else {
                "s".into()
            },
            such.unwrap_or_default()
        ));
    }
    let mut table = show::table(&["GATE", "PATH", "SIZE", "MODIFIED", "VERDICT", "BECAUSE"]);
    for file in files {
        table.add_row([
            Cell::new(&file.gate),
            Cell::new(&file.path),
            Cell::new(size(file)).set_alignment(comfy_table::CellAlignment::Right),
            Cell::new(show::ago(Some(file.modified))),
            show::word(word(file.verdict)),
            Cell::new(&file.because),
        ]);
    }
    show::unbroken(&mut table, &[0, 2, 3, 4]);
    show::at_least(&mut table, 1, 24);
    show::at_least(&mut table, 5, 28);
    show::print(&table)
}

/// The size of a file; of anything else, what it is.
fn size(file: &FileView) -> String {
    match file.kind {
        Kind::File => show::bytes(file.bytes),
        Kind::Folder => "folder".into(),
        Kind::Link => "link".into(),
        Kind::Special => "special".into(),
    }
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Take => "take",
        Verdict::Wait => "wait",
        Verdict::Leave => "leave",
        Verdict::Repeat => "repeat",
        Verdict::Known => "known",
        Verdict::Unreadable => "unreadable",
    }
}
