//! `tell`: who hears of what; `told`: what they were told.

use std::process::ExitCode;

use vadegate_core::config::Config;

use crate::args::{Tell, Told};
use crate::client::{Client, Doer, asked};
use crate::failure::{FAILED, Failure};
use crate::show;

const NOBODY: &str =
    "Nobody is told of anything. Say who hears of what as [tell.NAME] in the configuration.";

pub fn tell(config: Config, args: &Tell) -> Result<ExitCode, Failure> {
    if let (true, Some(name)) = (args.test, &args.name) {
        let test = Doer::of(config)?.test_tell(name)?;
        if args.json {
            show::json(&test)?;
        } else {
            show::one(&match &test.because {
                None => format!("{}: {} has taken it.", test.tell, test.receiver),
                Some(why) => format!("{}: {} has not taken it: {why}", test.tell, test.receiver),
            })?;
        }
        return Ok(if test.taken { ExitCode::SUCCESS } else { ExitCode::from(FAILED) });
    }
    let mut tells = Client::of(config)?.tells()?;
    if let Some(name) = &args.name {
        tells.retain(|tell| tell.name == *name);
        if tells.is_empty() {
            return Err(Failure::Wrong(format!(
                "there is no tell `{name}`; `vadegate tell` lists them"
            )));
        }
    }
    if args.json {
        show::json(&tells)?;
        return Ok(ExitCode::SUCCESS);
    }
    if tells.is_empty() {
        show::line(NOBODY)?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = show::table(&["TELL", "OF", "ABOUT", "RECEIVER", "WAITING", "FAILED"]);
    for tell in &tells {
        table.add_row([
            show::cell(&tell.name),
            show::cell(tell.of.join(", ")),
            show::cell(if tell.about.is_empty() { "all".into() } else { tell.about.join(", ") }),
            show::cell(&tell.receiver),
            show::count(tell.waiting),
            show::count(tell.failed),
        ]);
    }
    show::unbroken(&mut table, &[0]);
    show::print(&table)?;
    for tell in &tells {
        if let Some(problem) = &tell.problem {
            show::one(&format!("{}: {problem}", tell.name))?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

pub fn told(config: Config, args: &Told) -> Result<(), Failure> {
    let none = config.tells.is_empty() && asked().service.is_none();
    let zone = config.service.timezone.clone();
    let client = Client::of(config)?;
    let state = args.state;
    let messages = client.messages(args.name.as_deref(), state, args.newest)?;
    if args.json {
        return show::json(&messages);
    }
    if messages.is_empty() {
        return show::line(if none { NOBODY } else { "Nothing was told that fits." });
    }
    let headings = ["MESSAGE", "TELL", "WRITTEN", "STATE", "TRIES", "SUBJECT", "LAST ANSWER"];
    let mut table = show::table(&headings);
    for message in &messages {
        table.add_row([
            show::cell(message.id),
            show::cell(&message.tell),
            show::cell(show::time(message.at, &zone)),
            show::word(message.state.word()),
            show::count(u64::from(message.tries)),
            show::cell(&message.subject),
            show::cell(&message.words),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 2, 3, 4]);
    show::print(&table)
}
