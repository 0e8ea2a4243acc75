//! `gates`, `pause` and `resume`.

use vadegate_core::ask::{GateState, GateView};
use vadegate_core::config::Config;
use vadegate_core::engine::Engine;

use crate::args::{GateNames, Gates};
use crate::client::{Client, Doer, Remote, who};
use crate::failure::Failure;
use crate::show;

const NO_GATE: &str = "The configuration has no gate. Add one as [gate.NAME], or write one with `vadegate init FOLDER`.";

pub fn gates(client: &Client, args: &Gates) -> Result<(), Failure> {
    let gates = if args.gates.is_empty() {
        client.gates()?
    } else {
        args.gates.iter().map(|name| client.gate(name)).collect::<Result<_, _>>()?
    };
    if args.json {
        return show::json(&gates);
    }
    if gates.is_empty() {
        return show::line(NO_GATE);
    }
    print_table(&gates)?;
    gates.iter().try_for_each(print_open_batches)?;
    gates.iter().try_for_each(print_notes)?;
    let problems = gates.iter().flat_map(|gate| gate.problems.iter().map(move |p| (gate, p)));
    for (gate, problem) in problems {
        show::line("")?;
        show::one(&format!("{}: {problem}", gate.name))?;
    }
    if let Some(fault) = client.fault()? {
        show::line(&format!(
            "\nThe changed configuration was not taken; the one before is still in force:\n{fault}"
        ))?;
    }
    if matches!(client, Client::Here(_)) {
        show::line(
            "\nNo service is running here; `vadegate serve` starts it, `vadegate pass` works one pass.",
        )?;
    }
    Ok(())
}

fn print_table(gates: &[GateView]) -> Result<(), Failure> {
    let mut table = show::table(&[
        "GATE",
        "STATE",
        "WORK",
        "ARRIVING",
        "WAITING",
        "HELD",
        "FILED",
        "FILED TODAY",
        "REPEATS TODAY",
        "LAST ARRIVAL",
    ]);
    for gate in gates {
        let count = |state: &str| show::count(gate.counts.get(state).copied().unwrap_or(0));
        let waiting = ["ready", "working", "worked"];
        let waiting = waiting.iter().filter_map(|state| gate.counts.get(*state)).sum();
        table.add_row([
            show::cell(&gate.name),
            show::word(state(gate.state)),
            show::cell(gate.work),
            count("arriving"),
            show::count(waiting),
            count("held"),
            count("filed"),
            show::count(gate.filed_today),
            show::count(gate.repeats_today),
            show::cell(show::ago(gate.last_arrival)),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 2, 9]);
    show::print(&table)
}

/// What is worth knowing of a gate and is no trouble: who paused it, what it passes by.
fn print_notes(gate: &GateView) -> Result<(), Failure> {
    let name = &gate.name;
    if let Some(pause) = &gate.pause {
        let by = pause.by.as_deref().unwrap_or("somebody");
        let since = pause.since.map(|at| format!(", {}", show::ago(Some(at))));
        let since = since.unwrap_or_default();
        show::line("")?;
        show::one(&format!("{name}: paused by {by}{since}; `vadegate resume {name}`"))?;
    }
    if let Some(closed) = &gate.closed {
        show::line("")?;
        show::one(&format!(
            "{name}: closed, {}; it {}, and `vadegate pass {name}` works at any hour",
            closed.because, closed.opens
        ))?;
    }
    if gate.untaken > 0 {
        let files = show::counted(gate.untaken, "file lies", "files lie");
        show::line("")?;
        show::one(&format!(
            "{name}: {files} there that no pattern takes; `vadegate files {name} --verdict leave` lists them"
        ))?;
    }
    Ok(())
}

/// Batches that are being gathered, and what they wait for.
fn print_open_batches(gate: &GateView) -> Result<(), Failure> {
    for batch in &gate.open_batches {
        let missing = if batch.missing.is_empty() {
            String::new()
        } else {
            format!("; missing: {}", batch.missing.join(", "))
        };
        let (files, by) = (batch.files, batch.by.as_deref().unwrap_or(&batch.output));
        let plural = if files == 1 { "" } else { "s" };
        show::line("")?;
        show::one(&format!(
            "{}: a batch for {by} is being gathered, {files} file{plural} so far: {}{missing}",
            gate.name, batch.closes
        ))?;
    }
    Ok(())
}

fn state(state: GateState) -> &'static str {
    match state {
        GateState::Open => "open",
        GateState::Paused => "paused",
        GateState::Closed => "closed",
        GateState::Troubled => "troubled",
    }
}

pub fn set_paused(config: Config, names: &GateNames, paused: bool) -> Result<(), Failure> {
    let (gates, who) = (&names.gates, who(names.by.as_deref()));
    let done = if paused { "paused" } else { "resumed" };
    match Remote::of(&config)? {
        Some(remote) => {
            for gate in gates {
                let doing = if paused { "pause" } else { "resume" };
                let by: Vec<_> = who.iter().map(|who| ("who", who.as_str())).collect();
                let view: GateView = remote.at_gate(gate, doing, &by)?;
                show::line(&format!("gate `{}` is {done}", view.name))?;
            }
        }
        None => {
            let here = Doer::Here(Box::new(Engine::open(config)?));
            for gate in gates {
                here.set_paused(gate, paused, who.as_deref())?;
                show::line(&format!("gate `{gate}` is {done}, for the next service or pass"))?;
            }
        }
    }
    Ok(())
}
