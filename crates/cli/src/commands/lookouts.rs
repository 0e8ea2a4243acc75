//! `lookouts`: limits of folders and files, and what happens in them.

use std::process::ExitCode;
use std::time::Duration;

use jiff::tz::TimeZone;
use vadegate_core::config::Config;
use vadegate_core::ledger::{Happening, HappeningId};
use vadegate_core::watch::lookouts::LookoutView;
use vadegate_service::{OrderBy, RightOrder};

use crate::args::Lookouts;
use crate::client::{Client, Doer, who};
use crate::failure::{FAILED, Failure};
use crate::show;

const NONE: &str = "Nothing is looked out for. Write limits of folders as [lookout.NAME].";

/// How often it is asked for what is new.
const ASK: Duration = Duration::from_secs(1);

pub fn lookouts(config: Config, args: &Lookouts) -> Result<ExitCode, Failure> {
    let zone = config.service.timezone.clone();
    if let (true, Some(name)) = (args.take_as_right, &args.name) {
        let why = args.why.clone().unwrap_or_default();
        let by = OrderBy { who: who(args.by.as_deref()), why };
        Doer::of(config)?.set_right(name, &RightOrder { by })?;
        show::line(&format!("What `{name}` sees next is right from then on."))?;
        return Ok(ExitCode::SUCCESS);
    }
    let client = Client::of(config)?;
    if let (true, Some(name)) = (args.events, &args.name) {
        return events(&client, name, args, &zone).map(|()| ExitCode::SUCCESS);
    }
    let mut all = client.lookouts()?;
    if let Some(name) = &args.name {
        all.retain(|lookout| lookout.name == *name);
        if all.is_empty() {
            return Err(Failure::Wrong(format!(
                "there is no lookout `{name}`; `vadegate lookouts` lists them"
            )));
        }
    }
    let broken = all.iter().any(|lookout| !lookout.breaches.is_empty());
    if args.breaches {
        let breaches: Vec<&Happening> = all.iter().flat_map(|one| &one.breaches).collect();
        match args.json {
            true => show::json(&breaches)?,
            false if breaches.is_empty() => show::line("No limit is broken.")?,
            false => print_happenings(&breaches, &zone)?,
        }
        return Ok(if broken { ExitCode::from(FAILED) } else { ExitCode::SUCCESS });
    }
    match args.json {
        true => show::json(&all)?,
        false if all.is_empty() => show::line(NONE)?,
        false => print(&all, &zone)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn print(all: &[LookoutView], zone: &TimeZone) -> Result<(), Failure> {
    let headings = ["LOOKOUT", "AT", "EVERY", "LOOKED", "FOLDERS", "FILES", "BYTES", "BREACHES"];
    let mut table = show::table(&headings);
    for one in all {
        table.add_row([
            show::cell(&one.name),
            show::cell(&one.at),
            show::cell(&one.every),
            show::cell(match one.looked_at {
                Some(_) => show::ago(one.looked_at),
                None => "never".into(),
            }),
            show::count(one.folders),
            show::count(one.files),
            show::cell(show::bytes(one.bytes)),
            show::count(one.breaches.len() as u64),
        ]);
    }
    show::unbroken(&mut table, &[0, 2, 3]);
    show::print(&table)?;
    let breaches: Vec<&Happening> = all.iter().flat_map(|one| &one.breaches).collect();
    if breaches.is_empty() {
        return Ok(());
    }
    show::line("")?;
    print_happenings(&breaches, zone)
}

fn print_happenings(all: &[&Happening], zone: &TimeZone) -> Result<(), Failure> {
    let mut table = show::table(&["WHAT", "SINCE", "ENDED", "LOOKOUT", "OF", "HOW"]);
    for one in all {
        table.add_row([
            show::word(&one.kind),
            show::cell(show::time(one.at, zone)),
            show::cell(one.ended_at.map(|at| show::time(at, zone)).unwrap_or_default()),
            show::cell(one.about.strip_prefix("lookout:").unwrap_or(&one.about)),
            show::cell(&one.subject),
            show::cell(&one.words),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 2, 3]);
    show::print(&table)
}

fn events(client: &Client, name: &str, args: &Lookouts, zone: &TimeZone) -> Result<(), Failure> {
    let mut events = client.lookout_events(name, 100)?;
    if !args.follow {
        return match args.json {
            true => show::json(&events),
            false if events.is_empty() => show::line("Nothing has happened there."),
            false => print_happenings(&events.iter().collect::<Vec<_>>(), zone),
        };
    }
    let mut last = HappeningId::of(0);
    loop {
        // Oldest first, and each once.
        events.retain(|one| one.id > last);
        for one in events.iter().rev() {
            last = one.id;
            match args.json {
                true => show::line(&serde_json::to_string(one).map_err(std::io::Error::other)?)?,
                false => show::one(&format!(
                    "{} {} {}: {}",
                    show::time(one.at, zone),
                    one.kind,
                    one.subject,
                    one.words
                ))?,
            }
        }
        std::thread::sleep(ASK);
        events = client.lookout_events(name, 1000)?;
    }
}
