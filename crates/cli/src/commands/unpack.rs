//! `unpack`: archives become the files that are in them, without a gate.

use std::os::fd::AsFd;
use std::process::ExitCode;
use std::sync::atomic::AtomicBool;

use serde_json::json;
use vadegate_core::pattern::{Pattern, Template};
use vadegate_core::work::hand::HandSources;
use vadegate_core::work::unpack::Limits;
use vadegate_core::work::unpack::by_hand::{HandUnpack, HandUnpacked};
use vadegate_core::work::unpack::seven::read_for_parent;

use super::deliver::{exists, first_line};
use super::keeping::bar;
use super::merge::{TOLD, as_json_left_out, tell_left_out};
use crate::args::Unpack;
use crate::failure::{FAILED, Failure};
use crate::show;

pub fn unpack(args: &Unpack) -> Result<ExitCode, Failure> {
    let order = order(args)?;
    let failed = |error: &dyn std::fmt::Display| Failure::Failed(error.to_string());
    let mut plan = order.plan().map_err(|error| failed(&error))?;
    let bar = bar("unpacking");
    bar.set_length(plan.count());
    let stopping = AtomicBool::new(false);
    let done = plan.unpack(&order, args.rehearse, &stopping, |done| bar.set_position(done));
    bar.finish_and_clear();
    let done = done.map_err(|error| failed(&error))?;
    if args.json {
        let left_out = as_json_left_out(&plan.left_out);
        show::json(&json!({ "archives": done, "left_out": left_out }))?;
    } else {
        print(&done, args.rehearse)?;
        tell_left_out("left out", &plan.left_out);
    }
    let whole = !plan.left_out.iter().any(|one| one.faulty);
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

/// Reads the archive on standard input for the process that began this one.
pub fn read_seven() -> Result<(), Failure> {
    let archive = std::io::stdin().as_fd().try_clone_to_owned()?;
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    Ok(read_for_parent(archive.into(), &mut out)?)
}

fn order(args: &Unpack) -> Result<HandUnpack, Failure> {
    let wrong = |error: &dyn std::fmt::Display| Failure::Wrong(error.to_string());
    let patterns = |texts: &[String]| -> Result<Vec<Pattern>, Failure> {
        texts
            .iter()
            .map(|text| Pattern::parse(text, false).map_err(|error| wrong(&error)))
            .collect()
    };
    let limits = Limits::default();
    Ok(HandUnpack {
        sources: HandSources {
            paths: args.sources.clone(),
            take: None,
            subfolders: args.subfolders,
        },
        into: Template::parse(args.output.trim_end_matches('/')).map_err(|error| wrong(&error))?,
        exists: exists(args.exists),
        members: patterns(&args.members)?,
        leave: patterns(&args.leave)?,
        flat: args.flat,
        nested: args.nested,
        limits: Limits { members: args.most_members.unwrap_or(limits.members), ..limits },
        password: first_line(args.password_file.as_deref())?,
        key: match &args.key {
            Some(key) => Some((key.clone(), first_line(args.passphrase_file.as_deref())?)),
            None => None,
        },
    })
}

fn print(done: &[HandUnpacked], rehearsed: bool) -> Result<(), Failure> {
    if done.is_empty() {
        return Ok(());
    }
    let mut table = show::table(&["ARCHIVE", "FOLDER", "FILES", "WHAT CAME OF IT"]);
    for one in done.iter().take(TOLD) {
        table.add_row([
            show::cell(one.source.display()),
            show::cell(one.into.display()),
            show::count(one.files),
            show::cell(&one.words),
        ]);
    }
    if let Some(more) = show::beyond(done.len(), TOLD) {
        table.add_row([show::cell(format!("and {more} more"))]);
    }
    show::unbroken(&mut table, &[2]);
    show::print(&table)?;
    let files = show::counted(done.iter().map(|one| one.files).sum(), "file", "files");
    let archives = show::counted(done.len() as u64, "archive", "archives");
    show::line(&match rehearsed {
        true => format!("rehearsed: {files} of {archives}; nothing was written"),
        false => format!("{files} of {archives}"),
    })
}
