//! The work of a gate: what is done with its files.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::keys::{duration, join, template};
use super::load::{self, LoadConfig};
use super::merge::{self, MergeConfig};
use super::reader::Section;
use crate::pattern::Template;

/// What a gate does with its files.
#[derive(Debug, Clone)]
pub enum Work {
    /// Nothing: it only files them.
    None,
    /// Their rows are merged into an output.
    Merge(Box<MergeConfig>),
    /// Their rows are loaded into a table of a database.
    Load(Box<LoadConfig>),
    /// A program is run for each.
    Run(RunConfig),
    /// They are handed out to workers that ask.
    Offer(OfferConfig),
}

impl Work {
    /// The configuration's word for it; `none` for a gate that only files.
    pub fn word(&self) -> &'static str {
        match self {
            Work::None => "none",
            Work::Merge(_) => "merge",
            Work::Load(_) => "load",
            Work::Run(_) => "run",
            Work::Offer(_) => "offer",
        }
    }
}

/// The `run` section of a gate.
#[derive(Debug, Clone)]
pub struct RunConfig {
    /// The program; one with a `/` is relative to the configuration file.
    pub program: PathBuf,
    /// Its arguments, one template each.
    pub args: Vec<Template>,
    /// Environment variables of the service that it is given, beside those that every
    /// program needs. Default none.
    pub env: Vec<String>,
    /// Whether values of fields may begin with `-`, and so be taken for options.
    /// Default no: such a file is held.
    pub dashes: bool,
    /// How long it may take. Default 10 minutes.
    pub limit: Duration,
    /// How long to wait after "try again later"; doubled each time. Default 30 s.
    pub wait: Duration,
    /// The longest wait. Default 30 min.
    pub wait_up_to: Duration,
    /// How often "try again later" is accepted before the entry is held.
    /// Default 20.
    pub tries: u32,
}

/// The `offer` section of a gate.
#[derive(Debug, Clone)]
pub struct OfferConfig {
    /// How long a worker may have an entry without a word. Default 1 min.
    pub lease: Duration,
    /// How long to wait after "again"; doubled each time. Default 30 s.
    pub wait: Duration,
    /// The longest wait. Default 30 min.
    pub wait_up_to: Duration,
    /// How often "again" is accepted before the entry is held. Default 20.
    pub tries: u32,
}

pub(super) fn read(
    name: &str,
    section: &mut Section<'_>,
    folder: &Path,
    fields: &[String],
) -> Option<Work> {
    const WORKS: [&str; 4] = ["merge", "load", "run", "offer"];
    // The work of what it is like gives way to a work of its own.
    let own: Vec<&str> = WORKS.into_iter().filter(|work| section.has_of_its_own(work)).collect();
    let mut works = Vec::new();
    for work in WORKS {
        if !own.is_empty() && !own.contains(&work) || !section.has(work) {
            section.has(work);
            continue;
        }
        let Some(inner) = section.section(work) else { continue };
        works.extend(match work {
            "merge" => merge::read(inner, folder, fields).map(|merge| Work::Merge(Box::new(merge))),
            "load" => load::read(inner, folder, fields).map(|load| Work::Load(Box::new(load))),
            "run" => read_run(inner, folder, fields).map(Work::Run),
            _ => Some(Work::Offer(read_offer(inner))),
        });
    }
    if let [one, other, ..] = &works[..] {
        let (one, other) = (one.word(), other.word());
        section.fault_here(format!(
            "the gate `{name}` has both `{one}` and `{other}`; a gate has one work, so make two gates"
        ));
        return None;
    }
    Some(works.pop().unwrap_or(Work::None))
}

fn read_offer(mut section: Section<'_>) -> OfferConfig {
    let lease = duration(&mut section, "lease").unwrap_or(Duration::from_secs(60));
    let (wait, wait_up_to, tries) = read_tries(&mut section);
    section.finish();
    OfferConfig { lease, wait, wait_up_to, tries }
}

/// How often something is tried, and how long is waited between.
fn read_tries(section: &mut Section<'_>) -> (Duration, Duration, u32) {
    let wait = duration(section, "wait").unwrap_or(Duration::from_secs(30));
    let wait_up_to = duration(section, "wait_up_to").unwrap_or(Duration::from_secs(1800));
    (wait, wait_up_to, section.count("tries").unwrap_or(20))
}

fn read_run(mut section: Section<'_>, folder: &Path, fields: &[String]) -> Option<RunConfig> {
    let program = section.text("program");
    if program.is_none() && !section.has("program") {
        section.fault_here(
            "`program` is missing; expected a program such as \"bin/check-manifest\"".into(),
        );
    }
    let args = section.texts("args").unwrap_or_default();
    let args = args.iter().filter_map(|text| template(text, fields)).collect();
    let env = section.texts("env").unwrap_or_default();
    let env = env.into_iter().map(|name| name.value).collect();
    let dashes = [("hold", false), ("allow", true)];
    let dashes = section.choice("dashes", &dashes).unwrap_or(false);
    let limit = duration(&mut section, "limit").unwrap_or(Duration::from_secs(600));
    let (wait, wait_up_to, tries) = read_tries(&mut section);
    section.finish();
    let program = program?.value;
    // A bare name is looked up in PATH, as everywhere; a path is a path.
    let program = if program.contains('/') { join(folder, &program) } else { program.into() };
    Some(RunConfig { program, args, env, dashes, limit, wait, wait_up_to, tries })
}
