//! Figures for Prometheus, in its text format.

use std::collections::HashMap;

use prometheus::core::{Collector, Desc};
use prometheus::proto::{Bucket, Counter, Histogram, LabelPair, Metric, MetricFamily, MetricType};
use prometheus::{Encoder, IntGauge, IntGaugeVec, Opts, Registry, TextEncoder};
use vadegate_core::ask::GateView;
use vadegate_core::engine::{BOUNDS, Durations, Engine, EngineError, GateFigures};

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
    registry.register(Box::new(Figures::of(engine)?))?;
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

/// What gates have counted and timed since the start.
struct Figures {
    about: Vec<Desc>,
    families: Vec<MetricFamily>,
}

impl Collector for Figures {
    fn desc(&self) -> Vec<&Desc> {
        self.about.iter().collect()
    }

    fn collect(&self) -> Vec<MetricFamily> {
        self.families.clone()
    }
}

impl Figures {
    fn of(engine: &Engine) -> prometheus::Result<Self> {
        let mut figures = Figures { about: Vec::new(), families: Vec::new() };
        let gates = engine.figures();
        figures.add(
            "vadegate_pass_duration_seconds",
            "How long passes took.",
            MetricType::HISTOGRAM,
            gates.iter().map(|(gate, of)| histogram(&[("gate", gate)], &of.passes)).collect(),
        )?;
        let batches = gates.iter().flat_map(|(gate, of)| {
            of.batches
                .iter()
                .map(move |(work, took)| histogram(&[("gate", gate), ("work", work.word())], took))
        });
        figures.add(
            "vadegate_batch_duration_seconds",
            "How long batches took that were worked, from the claim to the record.",
            MetricType::HISTOGRAM,
            batches.collect(),
        )?;
        for (name, help, value) in COUNTERS {
            let counters = gates.iter().map(|(gate, of)| counter(&[("gate", gate)], value(of)));
            figures.add(name, help, MetricType::COUNTER, counters.collect())?;
        }
        let failures = gates.iter().flat_map(|(gate, of)| {
            let kinds = of.failures.iter();
            kinds.map(move |(kind, count)| counter(&[("gate", gate), ("kind", kind)], *count))
        });
        figures.add(
            "vadegate_batch_failures_total",
            "Batches that were not worked, by the kind of failure.",
            MetricType::COUNTER,
            failures.collect(),
        )?;
        Ok(figures)
    }

    fn add(
        &mut self,
        name: &str,
        help: &str,
        kind: MetricType,
        metrics: Vec<Metric>,
    ) -> prometheus::Result<()> {
        // A family without a figure is no family.
        if metrics.is_empty() {
            return Ok(());
        }
        self.about.push(Desc::new(name.into(), help.into(), Vec::new(), HashMap::new())?);
        let mut family = MetricFamily::default();
        family.set_name(name.into());
        family.set_help(help.into());
        family.set_field_type(kind);
        family.set_metric(metrics);
        self.families.push(family);
        Ok(())
    }
}

/// A counter of a gate: its name, what it counts, and where it stands.
type GateCounter = (&'static str, &'static str, fn(&GateFigures) -> u64);

const COUNTERS: [GateCounter; 3] = [
    ("vadegate_files_worked_total", "Files that were worked.", |of| of.files),
    ("vadegate_bytes_worked_total", "Bytes of the files that were worked.", |of| of.bytes),
    ("vadegate_rows_worked_total", "Rows that the files gave that were worked.", |of| of.rows),
];

fn labelled(labels: &[(&str, &str)]) -> Metric {
    let pair = |(name, value): &(&str, &str)| {
        let mut pair = LabelPair::default();
        pair.set_name((*name).to_owned());
        pair.set_value((*value).to_owned());
        pair
    };
    let mut metric = Metric::default();
    metric.set_label(labels.iter().map(pair).collect());
    metric
}

fn counter(labels: &[(&str, &str)], value: u64) -> Metric {
    let mut counter = Counter::default();
    counter.set_value(value as f64);
    let mut metric = labelled(labels);
    metric.set_counter(counter);
    metric
}

fn histogram(labels: &[(&str, &str)], durations: &Durations) -> Metric {
    let mut so_far = 0;
    let bucket = |(bound, count): (&f64, &u64)| {
        so_far += count;
        let mut bucket = Bucket::default();
        bucket.set_upper_bound(*bound);
        bucket.set_cumulative_count(so_far);
        bucket
    };
    let mut histogram = Histogram::default();
    histogram.set_bucket(BOUNDS.iter().zip(&durations.classes).map(bucket).collect());
    histogram.set_sample_count(durations.count);
    histogram.set_sample_sum(durations.seconds);
    let mut metric = labelled(labels);
    metric.set_histogram(histogram);
    metric
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
