//! The commands, a file each.

mod accounts;
mod board;
mod check;
mod clear;
mod deliver;
mod due;
mod edit;
mod entry;
mod events;
mod export;
mod files;
mod find;
mod gates;
mod handing;
mod init;
mod keeping;
mod ledger;
mod listed;
mod listing;
mod lookouts;
mod merge;
mod pass;
mod people;
mod place;
mod rehearse;
mod reload;
mod report;
mod sample;
mod serve;
mod tell;
mod unpack;
mod why;
mod worker;

use std::io::Write;
use std::process::ExitCode;

use vadegate_core::config::Config;

use crate::args::{Args, Command, Handing, LogFormat, Watching};
use crate::client::{self, Client};
use crate::failure::Failure;

/// Does what the command line asks; gives the exit status of what was done.
pub fn run(args: Args) -> Result<ExitCode, Failure> {
    let file = args.config;
    client::ask(&args.which)?;
    only_here(&args.command)?;
    let config = || client::config(&file);
    let client = || Client::of(config()?);
    let done = |outcome: Result<(), Failure>| outcome.map(|()| ExitCode::SUCCESS);
    match args.command {
        Command::Serve(serve) => {
            logging(serve.log);
            done(serve::serve(config()?, serve.listen))
        }
        Command::Demo(demo) => {
            logging(demo.log);
            done(crate::demo::demo(&demo))
        }
        Command::Check(check) => match &check.against {
            None => check::check(&file, check.json),
            Some(folder) => done(check::against(&config()?, folder, check.json)),
        },
        Command::Init(init) => done(init::init(&file, &init)),
        Command::Gates(gates) => done(gates::gates(&client()?, &gates)),
        Command::Files(files) => done(files::files(config()?, &files)),
        Command::Find(args) => done(find::find(&client()?, &args)),
        Command::Why(why) => done(why::why(&client()?, &why)),
        Command::Rehearse(args) => done(rehearse::rehearse(&client()?, &args)),
        Command::Pass(pass) => {
            logging(LogFormat::Human);
            pass::pass(config()?, &pass)
        }
        Command::Reload(args) => done(reload::reload(&file, &args)),
        Command::Pause(names) => done(gates::set_paused(config()?, &names, true)),
        Command::Resume(names) => done(gates::set_paused(config()?, &names, false)),
        Command::Merge(args) => merge::merge(&args),
        Command::Deliver(args) => deliver::deliver(&args),
        Command::Edit(args) => edit::edit(&args),
        Command::Unpack(args) => unpack::unpack(&args),
        Command::ReadSeven => done(unpack::read_seven()),
        Command::Sample(args) => done(sample::sample(&args)),
        Command::Ledger(args) => done(ledger::ledger(config()?, &args)),
        Command::Entry(args) => done(entry::entry(config()?, &args)),
        Command::Reopen(args) => people::reopen(config()?, &args),
        Command::Release(args) => people::release(config()?, &args),
        Command::Forget(args) => people::forget(config()?, &args),
        Command::Unload(args) => people::unload(config()?, &args),
        Command::Adopt(args) => people::adopt(config()?, &args),
        Command::Clear(args) => clear::clear(config()?, &args),
        Command::Removed(args) => clear::removed(config()?, &args).map(|()| ExitCode::SUCCESS),
        Command::Handing(Handing::Place(args)) => done(place::place(config()?, &args)),
        Command::Handing(Handing::Drop(args)) => handing::drop_files(&config()?, &args),
        Command::Watching(command) => watch(command, config()?),
        Command::Accounts(command) => accounts::accounts(config()?, &command),
        Command::Verify(args) => keeping::verify(config()?, &args),
        Command::Backup(args) => done(keeping::backup(config()?, &args)),
        Command::Restore(args) => done(keeping::restore(&config()?, &args)),
        Command::Trim(args) => done(keeping::trim(config()?, &args)),
        Command::Worker(args) => worker::worker(&file, &args),
        Command::Events(events) => done(events::events(config()?, &events)),
    }
}

/// Refuses what works with the files of this machine for a service elsewhere.
fn only_here(command: &Command) -> Result<(), Failure> {
    let here = matches!(
        command,
        Command::Serve(_)
            | Command::Demo(_)
            | Command::Check(_)
            | Command::Init(_)
            | Command::Verify(_)
            | Command::Backup(_)
            | Command::Restore(_)
    );
    if here && client::asked().service.is_some() {
        return Err(Failure::Wrong(
            "this command works with the files of its own machine; run it where the service is, without --service".into(),
        ));
    }
    Ok(())
}

fn watch(command: Watching, config: Config) -> Result<ExitCode, Failure> {
    match command {
        Watching::Board(args) => return board::board(config, &args),
        Watching::Due(args) => due::due(config, &args)?,
        Watching::Excuse(args) => due::excuse(config, &args)?,
        Watching::Lookouts(args) => return lookouts::lookouts(config, &args),
        Watching::Report(args) => report::report(config, &args)?,
        Watching::Tell(args) => return tell::tell(config, &args),
        Watching::Told(args) => tell::told(config, &args)?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Logs go to stderr; what is logged is said by `VADEGATE_LOG`.
fn logging(format: LogFormat) {
    use tracing_subscriber::EnvFilter;
    let filter = EnvFilter::try_from_env("VADEGATE_LOG")
        .unwrap_or_else(|_| EnvFilter::new("info,actix_server=warn,actix_http=off"));
    // What comes with names stands escaped, and so would colours.
    let logs = tracing_subscriber::fmt().with_env_filter(filter).with_ansi(false);
    // A second start in one process keeps the first.
    let _ = match format {
        LogFormat::Human => logs.with_target(false).with_writer(|| Plain).try_init(),
        LogFormat::Json => logs.json().with_writer(std::io::stderr).try_init(),
    };
}

/// Lines of the log on stderr. A name with a line end in it makes no line of its own,
/// and nothing reaches a terminal that it would obey.
struct Plain;

impl Write for Plain {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        // A whole line is written at a time.
        let text = String::from_utf8_lossy(bytes);
        let line = text.strip_suffix('\n').unwrap_or(&text);
        let mut out = std::io::stderr().lock();
        writeln!(out, "{}", crate::show::visible(line))?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
