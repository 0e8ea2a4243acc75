//! `edit`: cells of workbooks and words of texts are set, without a gate.

use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use serde_json::json;
use vadegate_core::pattern::Pattern;
use vadegate_core::work::edit::by_hand::{HandEdit, HandEdited, HandEditing};
use vadegate_core::work::edit::{LineEnd, ValueType};
use vadegate_core::work::hand::HandSources;

use super::deliver::exists;
use super::keeping::with_bar;
use super::merge::{TOLD, as_json_left_out, tell_left_out};
use super::people::confirm;
use crate::args::{CellType, Edit, LineEnds};
use crate::failure::{FAILED, Failure};
use crate::show;

pub fn edit(args: &Edit) -> Result<ExitCode, Failure> {
    let order = order(args)?;
    let mut plan = order.plan().map_err(|error| Failure::Failed(error.to_string()))?;
    if order.into.is_none() && !args.in_place && !args.rehearse {
        let files = show::counted(plan.count(), "file", "files");
        confirm(&format!("Edit {files} in place?"), "--in-place, or -o FOLDER")?;
    }
    let (read, bytes) = (Arc::clone(&plan.read), plan.bytes);
    let stopping = AtomicBool::new(false);
    let done = with_bar("editing", bytes, &read, || plan.edit(&order, args.rehearse, &stopping));
    let done = done.map_err(|error| Failure::Failed(error.to_string()))?;
    if args.json {
        let left_out = as_json_left_out(&plan.left_out);
        show::json(&json!({ "files": done, "left_out": left_out }))?;
    } else {
        print(&done, args.rehearse)?;
        tell_left_out("left out", &plan.left_out);
    }
    let whole = !plan.left_out.iter().any(|one| one.faulty);
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

fn order(args: &Edit) -> Result<HandEdit, Failure> {
    let take = args.take.as_deref().map(|take| Pattern::parse(take, false)).transpose();
    let take = take.map_err(|error| Failure::Wrong(error.to_string()))?;
    let as_type = match args.as_type {
        CellType::Guess => ValueType::Guess,
        CellType::Text => ValueType::Text,
        CellType::Number => ValueType::Number,
        CellType::Date => ValueType::Date,
        CellType::Boolean => ValueType::Boolean,
        CellType::Formula => ValueType::Formula,
    };
    let (pairs, _) = args.replace.as_chunks::<2>();
    let pairs: Vec<(String, String)> =
        pairs.iter().map(|[find, with]| (find.clone(), with.clone())).collect();
    let orders = HandEditing::read(&args.set, as_type, &pairs, args.regex);
    let mut orders = orders.map_err(|error| Failure::Wrong(error.to_string()))?;
    match args.line_end {
        Some(LineEnds::Lf) => orders.line_end(LineEnd::Lf),
        Some(LineEnds::Crlf) => orders.line_end(LineEnd::CrLf),
        None => {}
    }
    if orders.is_empty() {
        return Err(Failure::Wrong(
            "say what is set: --set 'Cover!B2=checked' for workbooks, --replace FIND WITH or --line-end for texts".into(),
        ));
    }
    Ok(HandEdit {
        sources: HandSources { paths: args.sources.clone(), take, subfolders: args.subfolders },
        into: args.output.clone(),
        exists: exists(args.exists),
        orders,
    })
}

fn print(done: &[HandEdited], rehearsed: bool) -> Result<(), Failure> {
    if done.is_empty() {
        return Ok(());
    }
    let bytes = if rehearsed { "" } else { "BYTES" };
    let mut table = show::table(&["SOURCE", "DESTINATION", "DONE", bytes]);
    for one in done.iter().take(TOLD) {
        table.add_row([
            show::cell(one.source.display()),
            show::cell(one.path.display()),
            show::cell(&one.words),
            if rehearsed { show::cell("") } else { show::count(one.bytes) },
        ]);
    }
    if let Some(more) = show::beyond(done.len(), TOLD) {
        table.add_row([show::cell(format!("and {more} more"))]);
    }
    show::unbroken(&mut table, &[3]);
    show::print(&table)?;
    let files = show::counted(done.len() as u64, "file", "files");
    let written: u64 = done.iter().map(|one| one.bytes).sum();
    show::line(&match rehearsed {
        true => format!("rehearsed: {files}; nothing was written"),
        false => format!("{files} edited, {}", show::bytes(written)),
    })
}
