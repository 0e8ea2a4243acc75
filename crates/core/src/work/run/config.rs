//! The `run` section of a gate.

use std::path::PathBuf;
use std::time::Duration;

use crate::pattern::template::Template;
use crate::settings::keys::{duration, join, template};
use crate::settings::reader::Section;
use crate::work::retry::Retry;
use crate::work::seam::ReadContext;

/// The `run` section of a gate.
#[derive(Debug, Clone)]
pub(crate) struct RunConfig {
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
    /// After "try again later". Default 30 s, doubled up to 30 min, 20 times.
    pub retry: Retry,
}

pub(crate) fn read(mut section: Section<'_>, context: &ReadContext<'_>) -> Option<RunConfig> {
    let program = section.text("program");
    if program.is_none() && !section.has("program") {
        section.fault_here(
            "`program` is missing; expected a program such as \"bin/check-manifest\"".into(),
        );
    }
    let args = section.texts("args").unwrap_or_default();
    let args = args.iter().filter_map(|text| template(text, context.fields)).collect();
    let env = section.texts("env").unwrap_or_default();
    let env = env.into_iter().map(|name| name.value).collect();
    let dashes = [("hold", false), ("allow", true)];
    let dashes = section.choice("dashes", &dashes).unwrap_or(false);
    let limit = duration(&mut section, "limit").unwrap_or(Duration::from_secs(600));
    let retry = Retry::read(&mut section);
    section.finish();
    let program = program?.value;
    // A bare name is looked up in PATH, as everywhere; a path is a path.
    let program =
        if program.contains('/') { join(context.folder, &program) } else { program.into() };
    Some(RunConfig { program, args, env, dashes, limit, retry })
}
