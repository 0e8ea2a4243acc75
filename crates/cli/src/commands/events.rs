//! `events`: what happened, and what happens.

use jiff::tz::TimeZone;
use vadegate_core::config::Config;
use vadegate_core::ledger::{Change, ChangeId};

use crate::args::Events;
use crate::client::{Client, Remote};
use crate::failure::Failure;
use crate::show;

pub fn events(config: Config, args: &Events) -> Result<(), Failure> {
    let zone = config.service.timezone.clone();
    if !args.follow {
        let changes = Client::of(config)?.changes(args.after, args.limit)?;
        return if args.json { show::json(&changes) } else { print(&changes, &zone) };
    }
    let Some(remote) = Remote::of(&config)? else {
        return Err(Failure::Failed(
            "no service is running here, so nothing can be followed; start `vadegate serve`, or leave --follow out".into(),
        ));
    };
    let client = Client::of(config)?;
    let mut last = args.after.unwrap_or(ChangeId::of(0));
    if args.after.is_none() {
        for change in client.changes(None, args.limit)? {
            one(&change, args.json, &zone)?;
            last = change.id;
        }
    }
    remote.follow(last, |change| one(change, args.json, &zone))
}

fn one(change: &Change, json: bool, zone: &TimeZone) -> Result<(), Failure> {
    if json {
        return show::line(&serde_json::to_string(change).map_err(std::io::Error::other)?);
    }
    show::line(&format!(
        "{}  {:<12} {:<8} entry {} {}: {}",
        show::time(change.at, zone),
        change.gate,
        change.state.word(),
        change.entry,
        change.path,
        change.words
    ))
}

fn print(changes: &[Change], zone: &TimeZone) -> Result<(), Failure> {
    if changes.is_empty() {
        return show::line("Nothing has happened yet.");
    }
    let mut table = show::table(&["CHANGE", "TIME", "GATE", "ENTRY", "STATE", "PATH", "WHAT"]);
    for change in changes {
        table.add_row([
            show::cell(change.id).set_alignment(comfy_table::CellAlignment::Right),
            show::cell(show::time(change.at, zone)),
            show::cell(&change.gate),
            show::cell(change.entry).set_alignment(comfy_table::CellAlignment::Right),
            show::word(change.state.word()),
            show::cell(&change.path),
            show::cell(&change.words),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 2, 3, 4]);
    show::print(&table)
}
