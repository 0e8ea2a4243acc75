//! `pass`: gates pass now, in the service or in this process.

use std::io::{IsTerminal, stderr};
use std::process::ExitCode;
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use vadegate_core::config::{Config, parse_duration};
use vadegate_core::engine::{Engine, PassReport};

use crate::args::Pass;
use crate::client::{Remote, gate_names};
use crate::failure::{FAILED, Failure};
use crate::show;

pub fn pass(config: Config, args: &Pass) -> Result<ExitCode, Failure> {
    let gates = if args.gates.is_empty() { gate_names(&config)? } else { args.gates.clone() };
    let wait = args.wait.as_deref().map(parse_duration).transpose();
    let wait = wait.map_err(|error| Failure::Wrong(format!("--wait: {error}")))?;
    let reports = match Remote::of(&config)? {
        Some(remote) => {
            let ask = |gate: &String| remote.at_gate(gate, "pass", &[]);
            waiting(wait, || gates.iter().map(ask).collect::<Result<Vec<PassReport>, _>>())?
        }
        None => pass_here(config, &gates, wait)?,
    };
    let troubled = reports.iter().any(|report| report.held > 0 || !serious(report).is_empty());
    if args.json {
        show::json(&reports)?;
    } else {
        print(&reports)?;
    }
    Ok(if troubled { ExitCode::from(FAILED) } else { ExitCode::SUCCESS })
}

/// Problems for which a person is needed; that the lease cannot tell is none.
fn serious(report: &PassReport) -> Vec<&String> {
    report.problems.iter().filter(|problem| !problem.starts_with("whether somebody")).collect()
}

/// Passes, and with `wait` again and again until no file is still arriving.
fn waiting(
    wait: Option<Duration>,
    pass: impl Fn() -> Result<Vec<PassReport>, Failure>,
) -> Result<Vec<PassReport>, Failure> {
    let begun = Instant::now();
    let mut reports = pass()?;
    while wait.is_some_and(|wait| begun.elapsed() < wait)
        && reports.iter().any(|report| report.arriving + report.waiting_there > 0 && !report.paused)
    {
        // Files settle by the clock; nothing tells when the next one has.
        std::thread::sleep(Duration::from_millis(200));
        for (all, more) in reports.iter_mut().zip(pass()?) {
            all.fetched += more.fetched;
            all.waiting_there = more.waiting_there;
            all.entered += more.entered;
            all.repeats += more.repeats;
            all.passed_over += more.passed_over;
            all.worked += more.worked;
            all.filed += more.filed;
            all.held += more.held;
            all.arriving = more.arriving;
            all.problems = more.problems;
        }
    }
    Ok(reports)
}

fn pass_here(
    config: Config,
    gates: &[String],
    wait: Option<Duration>,
) -> Result<Vec<PassReport>, Failure> {
    let engine = Engine::open(config)?;
    for gate in gates {
        // A wrong name is told before any other gate has worked.
        engine.gate(gate)?;
    }
    waiting(wait, || gates.iter().map(|gate| watched(&engine, gate)).collect())
}

/// Passes, and on a terminal says every moment what is being done.
fn watched(engine: &Engine, gate: &str) -> Result<PassReport, Failure> {
    if !stderr().is_terminal() {
        return Ok(engine.fetch_and_pass(gate, true)?);
    }
    let bar = ProgressBar::new_spinner();
    if let Ok(style) = ProgressStyle::with_template("{spinner} {elapsed} {msg}") {
        bar.set_style(style);
    }
    let (ended, end) = mpsc::channel::<()>();
    let report = std::thread::scope(|scope| {
        let bar = &bar;
        scope.spawn(move || {
            while end.recv_timeout(Duration::from_millis(200)) == Err(RecvTimeoutError::Timeout) {
                if let Ok(view) = engine.gate(gate) {
                    let filed = view.counts.get("filed").copied().unwrap_or(0);
                    let doing = view.doing.unwrap_or_else(|| "passing".into());
                    bar.set_message(format!("gate {gate}: {doing} ({filed} filed so far)"));
                    bar.tick();
                }
            }
        });
        let report = engine.fetch_and_pass(gate, true);
        drop(ended);
        report
    });
    bar.finish_and_clear();
    Ok(report?)
}

fn print(reports: &[PassReport]) -> Result<(), Failure> {
    let mut table =
        show::table(&["GATE", "ENTERED", "REPEATS", "WORKED", "FILED", "HELD", "ARRIVING"]);
    for report in reports {
        table.add_row([
            show::cell(&report.gate),
            show::count(report.entered),
            show::count(report.repeats),
            show::count(report.worked),
            show::count(report.filed),
            show::count(report.held),
            show::count(report.arriving),
        ]);
    }
    show::print(&table)?;
    for report in reports {
        if report.paused {
            show::line(&format!("\n{}: it is paused; `vadegate resume {0}`", report.gate))?;
        }
        for problem in &report.problems {
            show::line("")?;
            show::one(&format!("{}: {problem}", report.gate))?;
        }
        if report.arriving > 0 {
            show::line(&format!(
                "\n{}: {} not complete yet; `vadegate files {0} --verdict wait` says why, `vadegate pass --wait` waits",
                report.gate, report.arriving
            ))?;
        }
        if report.held > 0 {
            show::line(&format!(
                "\n{}: {} held; `vadegate ledger --gate {0} --state held` says why",
                report.gate, report.held
            ))?;
        }
    }
    Ok(())
}
