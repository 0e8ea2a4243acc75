//! Figures for Prometheus, in its text format.

use prometheus::{Encoder, IntGauge, IntGaugeVec, Opts, Registry, TextEncoder};
use vadegate_core::ask::GateView;
use vadegate_core::engine::{Engine, EngineError};

/// Writes the present figures.
pub(crate) fn write(engine: &Engine) -> Result<String, EngineError> {
    let gates = engine.gates()?;
    let registry = Registry::new();
    // The names and labels are fixed and good, so none of this can fail.
    let _ = fill(&registry, engine, &gates);
    let mut text = Vec::new();
    let _ = TextEncoder::new().encode(&registry.gather(), &mut text);
    Ok(String::from_utf8_lossy(&text).into_owned())
}

fn fill(registry: &Registry, engine: &Engine, gates: &[GateView]) -> prometheus::Result<()> {
    let by_gate = |name: &str, help: &str, labels: &[&str]| -> prometheus::Result<IntGaugeVec> {
        let figures = IntGaugeVec::new(Opts::new(name, help), labels)?;
        registry.register(Box::new(figures.clone()))?;
        Ok(figures)
    };
    let entries = by_gate(
        "vadegate_entries",
        "Entries in the ledger by state; `arriving` are files that have not settled.",
        &["gate", "state"],
    )?;
    let paused = by_gate("vadegate_gate_paused", "1 while the gate is paused.", &["gate"])?;
    let problems = by_gate("vadegate_gate_problems", "Standing problems of the gate.", &["gate"])?;
    let arrival = by_gate(
        "vadegate_last_arrival_timestamp_seconds",
        "When the newest entry was entered, in seconds since 1970.",
        &["gate"],
    )?;
    for gate in gates {
        for (state, count) in &gate.counts {
            entries.with_label_values(&[&gate.name, state]).set(signed(*count));
        }
        paused.with_label_values(&[&gate.name]).set(i64::from(gate.paused));
        problems.with_label_values(&[&gate.name]).set(signed(gate.problems.len() as u64));
        if let Some(at) = gate.last_arrival {
            arrival.with_label_values(&[&gate.name]).set(at.as_second());
        }
    }
    let one = |name: &str, help: &str, value: i64| -> prometheus::Result<()> {
        let figure = IntGauge::new(name, help)?;
        figure.set(value);
        registry.register(Box::new(figure))
    };
    one(
        "process_start_time_seconds",
        "When the service started, in seconds since 1970.",
        engine.started().as_second(),
    )?;
    if let Some(bytes) = resident_bytes() {
        one("process_resident_memory_bytes", "Memory in use, in bytes.", bytes)?;
    }
    Ok(())
}

fn signed(count: u64) -> i64 {
    i64::try_from(count).unwrap_or(i64::MAX)
}

/// What `/proc/self/status` says, where there is one.
fn resident_bytes() -> Option<i64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
    let kib: i64 = line.trim().strip_suffix(" kB")?.trim().parse().ok()?;
    Some(kib * 1024)
}
