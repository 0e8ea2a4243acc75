//! `clear`: removes files by a rule; `removed`: what was removed.

use std::process::ExitCode;

use jiff::tz::TimeZone;
use vadegate_core::act::Cleared;
use vadegate_core::config::Config;
use vadegate_core::config::clear::AdHocClear;
use vadegate_service::{ClearOrder, OrderBy};

use super::people::confirm;
use crate::args::{Clear, Removed};
use crate::client::{Client, Doer, who};
use crate::failure::{FAILED, Failure};
use crate::show;

/// What is told of at the most.
const TOLD: usize = 20;

pub fn clear(config: Config, args: &Clear) -> Result<ExitCode, Failure> {
    let mut order = order(args)?;
    let zone = config.service.timezone.clone();
    let doer = Doer::of(config)?;
    if args.rehearse || !args.yes {
        let would = doer.clear(&order)?;
        if args.rehearse {
            return end(&would, args.json, Told::Would, &zone);
        }
        if !args.json {
            tell(&would, Told::Would, &zone)?;
        }
        if !would.removed.is_empty() {
            let files = show::counted(would.removed.len() as u64, "file", "files");
            let verb = if would.removed[0].moved_to.is_some() { "Move" } else { "Remove" };
            confirm(&format!("{verb} {files}?"), "--yes")?;
        }
    }
    order.rehearse = false;
    let done = doer.clear(&order)?;
    end(&done, args.json, if args.yes { Told::Done } else { Told::AsSaid }, &zone)
}

/// What of a clear is told.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Told {
    /// What would go.
    Would,
    /// What went, and nobody was told before.
    Done,
    /// What went, as it was told before.
    AsSaid,
}

fn end(cleared: &Cleared, json: bool, what: Told, zone: &TimeZone) -> Result<ExitCode, Failure> {
    if json {
        show::json(cleared)?;
    } else {
        tell(cleared, what, zone)?;
    }
    let whole = cleared.problems.is_empty();
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

fn order(args: &Clear) -> Result<ClearOrder, Failure> {
    let ad_hoc = !args.matches.is_empty();
    let rule = match ad_hoc {
        true => Some(AdHocClear {
            folder: std::path::absolute(&args.what)?.display().to_string(),
            matches: args.matches.clone(),
            leave: args.leave.clone(),
            subfolders: args.subfolders,
            older: args.older.clone(),
            keep_newest: args.keep_newest,
            empty_folders: args.empty_folders,
            into: args.into.clone(),
        }),
        false => None,
    };
    if rule.is_none() && (args.older.is_some() || args.into.is_some() || args.keep_newest.is_some())
    {
        return Err(Failure::Wrong(
            "say which files of the folder go: --match '*.tmp'; a rule of the configuration has its own".into(),
        ));
    }
    Ok(ClearOrder {
        name: (!ad_hoc).then(|| args.what.clone()),
        rule,
        by: OrderBy { who: who(args.by.as_deref()), why: args.why.clone().unwrap_or_default() },
        rehearse: true,
        most: args.most,
    })
}

fn tell(cleared: &Cleared, what: Told, zone: &TimeZone) -> Result<(), Failure> {
    if what != Told::AsSaid {
        tell_files(cleared, what, zone)?;
    }
    for problem in cleared.problems.iter().take(TOLD) {
        show::say(&format!("not done: {problem}"));
    }
    if let Some(more) = show::beyond(cleared.problems.len(), TOLD) {
        show::say(&format!("not done: {more} more"));
    }
    let files = show::counted(cleared.removed.len() as u64, "file", "files");
    let bytes = show::bytes(cleared.removed.iter().map(|one| one.bytes).sum());
    let folders = match cleared.folders.len() {
        0 => String::new(),
        count => format!(", and {}", show::counted(count as u64, "empty folder", "empty folders")),
    };
    let stays = match cleared.stays.len() {
        0 => String::new(),
        count => format!("; {} of those that fit stay", show::grouped(count as u64)),
    };
    let moved = cleared.removed.first().is_some_and(|one| one.moved_to.is_some());
    show::line(&match (what == Told::Would, moved) {
        (true, true) => format!("would be moved: {files} ({bytes}){folders}{stays}"),
        (true, false) => format!("would be removed: {files} ({bytes}){folders}{stays}"),
        (false, true) => format!("moved: {files} ({bytes}){folders}{stays}"),
        (false, false) => format!("removed: {files} ({bytes}){folders}{stays}"),
    })
}

/// Tells which files went, or would go, and which stay.
fn tell_files(cleared: &Cleared, what: Told, zone: &TimeZone) -> Result<(), Failure> {
    let to = if what == Told::Done { "WENT TO" } else { "GOES TO" };
    let mut table = show::table(&["FILE", "BYTES", "MODIFIED", to]);
    for one in cleared.removed.iter().take(TOLD) {
        table.add_row([
            show::cell(&one.path),
            show::count(one.bytes),
            show::cell(show::time(one.modified, zone)),
            show::cell(one.moved_to.as_deref().unwrap_or("removed")),
        ]);
    }
    if let Some(more) = show::beyond(cleared.removed.len(), TOLD) {
        table.add_row([show::cell(format!("and {more} more"))]);
    }
    if !cleared.removed.is_empty() {
        show::unbroken(&mut table, &[1, 2]);
        show::print(&table)?;
    }
    for one in cleared.stays.iter().take(TOLD) {
        show::line(&format!("stays: {}: {}", one.path, one.because))?;
    }
    if let Some(more) = show::beyond(cleared.stays.len(), TOLD) {
        show::line(&format!("and {more} more stay"))?;
    }
    Ok(())
}

pub fn removed(config: Config, args: &Removed) -> Result<(), Failure> {
    let zone = config.service.timezone.clone();
    let removals = Client::of(config)?.removals(args.rule.as_deref(), args.limit)?;
    if args.json {
        return show::json(&removals);
    }
    if removals.is_empty() {
        return show::line("Nothing was removed.");
    }
    let mut table = show::table(&["REMOVED", "RULE", "FILE", "BYTES", "ENTRY", "WHO", "WHY"]);
    for one in &removals {
        let at = one.removed_at.map(|at| show::time(at, &zone));
        let moved = one.moved_to.as_ref().map(|to| format!(", moved to {to}")).unwrap_or_default();
        table.add_row([
            show::cell(at.unwrap_or_else(|| "under way".into())),
            show::cell(&one.rule),
            show::cell(format!("{}{moved}", one.path)),
            show::count(one.bytes),
            show::cell(one.entry.map(|id| id.to_string()).unwrap_or_default()),
            show::cell(&one.who),
            show::cell(&one.why),
        ]);
    }
    show::unbroken(&mut table, &[0, 3]);
    show::print(&table)
}
