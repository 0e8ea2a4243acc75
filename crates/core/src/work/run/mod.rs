//! The work `run`: a program for each file.

pub(crate) mod config;
pub(crate) mod process;
mod start;

use std::path::Path;
use std::sync::Arc;

use crate::files::access::may_run;
use crate::ledger::requests::Claimed;
use crate::ledger::types::Entry;
use crate::ledger::words::{Effect, WorkKind};
use crate::pattern::Fields;
use crate::pattern::template::{Builtins, TemplateError};
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::outcome::{Carried, Failure, Made};
use crate::work::retry::Retry;
use crate::work::run::config::RunConfig;
use crate::work::run::process::{Ended, Order, run};
use crate::work::seam::{
    Blocked, Drive, EntryVerdict, Planned, ReadContext, Work, WorkFindings, WorkPlan, WorkView,
    Worker,
};
use std::fmt;

/// Reads the `run` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    Some(Arc::new(Run(Arc::new(config::read(section, context)?))))
}

/// The work of a gate that runs a program.
#[derive(Debug)]
struct Run(Arc<RunConfig>);

impl Work for Run {
    fn kind(&self) -> WorkKind {
        WorkKind::Run
    }

    fn effect(&self) -> Effect {
        Effect::Unprovable
    }

    fn drive(&self) -> Drive {
        Drive::Each
    }

    fn retry(&self) -> Retry {
        self.0.retry
    }

    fn view(&self) -> WorkView {
        WorkView {
            does: "runs a program for each file",
            label: "Program",
            detail: Some(self.0.program.display().to_string()),
            adds: false,
        }
    }

    fn check(&self, config: &Path, findings: &mut WorkFindings) {
        findings.faults.extend(problem_of(config, &self.0.program));
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        Some(Box::new(Running(Arc::clone(&self.0))))
    }
}

/// Why a program cannot be run, for a configuration in this file.
pub(crate) fn problem_of(config: &Path, program: &Path) -> Option<String> {
    if !program.is_absolute() {
        return not_in_path(config, program);
    }
    (!may_run(program)).then(|| {
        format!(
            "the program `{}` is not there or may not be run; correct `program`, or chmod +x it",
            program.display()
        )
    })
}

/// Why a program that is named without a path will not be found.
fn not_in_path(config: &Path, program: &Path) -> Option<String> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    if std::env::split_paths(&path).any(|folder| may_run(&folder.join(program))) {
        return None;
    }
    let shown = program.display();
    let beside = config.with_file_name(program);
    let beside = match beside.symlink_metadata().is_ok() {
        true => format!("; one of that name lies beside the configuration: write \"./{shown}\""),
        false => String::new(),
    };
    Some(format!("the program `{shown}` is in no folder of PATH{beside}"))
}

struct Running(Arc<RunConfig>);

impl Worker for Running {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        let config = &self.0;
        let (mut verdicts, mut programs, mut doing) = (Vec::new(), Vec::new(), String::new());
        for member in batch.members {
            let entry = &member.filing.entry;
            doing = format!("running {} for {}", config.program.display(), entry.path);
            let verdict = if (env.is_unchanged)(&member.filing) {
                match arguments(config, &entry.fields, &env.values(entry)) {
                    Ok(args) => {
                        let source = entry.lies_at();
                        programs.push((args, entry_environment(&member.filing.entry, &source)));
                        EntryVerdict::Fits
                    }
                    Err(why) => EntryVerdict::Hold(why.to_string()),
                }
            } else {
                EntryVerdict::Gone
            };
            verdicts.push((member, verdict));
        }
        Ok(WorkPlan {
            verdicts,
            outputs: Vec::new(),
            program: Some(config.program.display().to_string()),
            foreign: None,
            doing,
            work: Box::new(Programs { config: Arc::clone(config), programs }),
        })
    }
}

/// Arguments and environment of a program.
type Invocation = (Vec<String>, Vec<(String, String)>);

/// A program that is to run for a claimed entry.
struct Programs {
    config: Arc<RunConfig>,
    /// One for each entry; entries are worked one by one.
    programs: Vec<Invocation>,
}

impl Planned for Programs {
    fn carry_out(self: Box<Self>, _: &Claimed, env: &Env<'_>) -> Carried {
        let mut words = String::new();
        for (args, environment) in self.programs {
            let order = Order {
                program: &self.config.program,
                args,
                environment,
                handed_on: &self.config.env,
                folder: env.folder,
                limit: self.config.limit,
                input: None,
            };
            let (ended, printed) = run(&order, env.stopping);
            words.push_str(&printed);
            let failure = match ended {
                Ended::Done => continue,
                Ended::Again => Failure::Again(None, "the program says try again later".to_owned()),
                Ended::Stopped => {
                    Failure::Interrupted("the service stopped while its program ran".to_owned())
                }
                Ended::Failed(reason) | Ended::NotStarted(reason) => Failure::Refused(reason),
            };
            return Carried { words, outcome: Err(failure) };
        }
        Carried { words, outcome: Ok(Made::default()) }
    }
}

/// Why a program is not started with its arguments.
#[derive(Debug, Clone, PartialEq, Eq)]
enum ArgumentFault {
    Template(TemplateError),
    /// What a file brings would be an option.
    Option {
        source: String,
        value: String,
    },
}

impl fmt::Display for ArgumentFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ArgumentFault::Template(error) => write!(f, "{error}"),
            ArgumentFault::Option { source, value } => write!(
                f,
                "the argument `{source}` comes to `{value}`, which a program takes for an option; put \"--\" before it in `args`, or say dashes = \"allow\""
            ),
        }
    }
}

impl From<TemplateError> for ArgumentFault {
    fn from(error: TemplateError) -> Self {
        ArgumentFault::Template(error)
    }
}

/// The arguments of the program. A value that begins with a dash would be taken for an
/// option: only the gate may write options, or say that it is expected.
fn arguments(
    config: &RunConfig,
    fields: &Fields,
    values: &Builtins<'_>,
) -> Result<Vec<String>, ArgumentFault> {
    let mut args = Vec::with_capacity(config.args.len());
    let mut options_ended = config.dashes;
    for template in &config.args {
        let source = template.source();
        let value = template.text(fields, values)?;
        if value.starts_with('-') && !source.starts_with('-') && !options_ended {
            return Err(ArgumentFault::Option { source: source.to_owned(), value });
        }
        options_ended |= source == "--";
        args.push(value);
    }
    Ok(args)
}

/// The entry, as the program finds it in its environment.
pub(crate) fn entry_environment(entry: &Entry, source: &Path) -> Vec<(String, String)> {
    let mut variables = vec![
        ("VADEGATE_FILE".to_owned(), source.display().to_string()),
        ("VADEGATE_NAME".into(), entry.name.clone()),
        ("VADEGATE_GATE".into(), entry.gate.clone()),
        ("VADEGATE_ENTRY".into(), entry.id.to_string()),
        ("VADEGATE_BYTES".into(), entry.bytes.to_string()),
        ("VADEGATE_SHA256".into(), entry.sha256.to_string()),
        ("VADEGATE_TRY".into(), (entry.tries + 1).to_string()),
    ];
    let fields = entry.fields.iter();
    variables.extend(
        fields.map(|(name, value)| {
            (format!("VADEGATE_FIELD_{}", name.to_uppercase()), value.clone())
        }),
    );
    variables
}
