//! `deliver`: copies of files to one place or several, without a gate.

use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use serde_json::json;
use vadegate_core::pattern::Pattern;
use vadegate_core::work::deliver::by_hand::{Done, HandCopy, HandDeliver};
use vadegate_core::work::deliver::{Compression, FileExists};
use vadegate_core::work::hand::HandSources;

use super::keeping::with_bar;
use super::merge::{TOLD, as_json_left_out, tell_left_out};
use crate::args::{Compress, Deliver, IfFileThere};
use crate::failure::{FAILED, Failure};
use crate::show;

pub fn deliver(args: &Deliver) -> Result<ExitCode, Failure> {
    let take = args.take.as_deref().map(|take| Pattern::parse(take, false)).transpose();
    let take = take.map_err(|error| Failure::Wrong(error.to_string()))?;
    let order = HandDeliver {
        sources: HandSources { paths: args.sources.clone(), take, subfolders: args.subfolders },
        to: args.to.clone(),
        exists: exists(args.exists),
        compress: args.compress.map(|compress| match compress {
            Compress::Gzip => Compression::Gzip,
            Compress::Zstd => Compression::Zstd,
            Compress::Zip => Compression::Zip,
        }),
        encrypt_for: args.encrypt_for.clone(),
        sign_with: match &args.sign_with {
            Some(key) => Some((key.clone(), first_line(args.passphrase_file.as_deref())?)),
            None => None,
        },
    };
    let mut plan = order.plan().map_err(|error| Failure::Failed(error.to_string()))?;
    let (read, bytes) = (Arc::clone(&plan.read), plan.bytes);
    let copies = match args.rehearse {
        true => Ok(plan.copies()),
        false => with_bar("delivering", bytes, &read, || plan.deliver(&AtomicBool::new(false))),
    };
    let copies = copies.map_err(|error| Failure::Failed(error.to_string()))?;
    if args.json {
        let left_out = as_json_left_out(&plan.left_out);
        show::json(&json!({ "copies": copies, "left_out": left_out }))?;
    } else {
        print(&copies, args.rehearse)?;
        tell_left_out("left out", &plan.left_out);
    }
    let whole = !plan.left_out.iter().any(|one| one.faulty);
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

/// The first line of a file in which a secret stands.
pub fn first_line(path: Option<&Path>) -> Result<Option<String>, Failure> {
    let Some(path) = path else { return Ok(None) };
    let text = std::fs::read_to_string(path).map_err(|error| {
        Failure::Wrong(format!("the secret in `{}` cannot be read: {error}", path.display()))
    })?;
    Ok(Some(text.lines().next().unwrap_or_default().to_owned()))
}

pub fn exists(wanted: IfFileThere) -> FileExists {
    match wanted {
        IfFileThere::Fail => FileExists::Fail,
        IfFileThere::Replace => FileExists::Replace,
        IfFileThere::Number => FileExists::Number,
        IfFileThere::Leave => FileExists::Leave,
    }
}

fn word(done: Done) -> &'static str {
    match done {
        Done::Made => "made",
        Done::Replaced => "replaced",
        Done::Numbered => "numbered",
        Done::Left => "left",
    }
}

fn print(copies: &[HandCopy], rehearsed: bool) -> Result<(), Failure> {
    if copies.is_empty() {
        return Ok(());
    }
    let bytes = if rehearsed { "" } else { "BYTES" };
    let mut table = show::table(&["SOURCE", "DESTINATION", "DONE", bytes]);
    for one in copies.iter().take(TOLD) {
        let because = one.because.map(|why| format!(": {why}")).unwrap_or_default();
        table.add_row([
            show::cell(one.source.display()),
            show::cell(one.path.display()),
            show::cell(format!("{}{because}", word(one.done))),
            if rehearsed { show::cell("") } else { show::count(one.bytes) },
        ]);
    }
    if let Some(more) = show::beyond(copies.len(), TOLD) {
        table.add_row([show::cell(format!("and {more} more"))]);
    }
    show::unbroken(&mut table, &[2, 3]);
    show::print(&table)?;
    let count = |done| copies.iter().filter(|one| one.done == done).count();
    let counts = [Done::Made, Done::Replaced, Done::Numbered, Done::Left]
        .into_iter()
        .filter(|done| count(*done) > 0)
        .map(|done| format!("{} {}", show::grouped(count(done) as u64), word(done)));
    let counts = counts.collect::<Vec<_>>().join(", ");
    let copies_of = show::counted(copies.len() as u64, "copy", "copies");
    let written: u64 = copies.iter().map(|one| one.bytes).sum();
    show::line(&match rehearsed {
        true => format!("rehearsed: {copies_of} ({counts}); nothing was written"),
        false => format!("{copies_of}: {counts}, {}", show::bytes(written)),
    })
}
