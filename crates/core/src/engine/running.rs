//! The work `run`: a program for each ready entry.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc;
use std::time::Duration;

use super::backoff::backoff;
use super::gate::GateRunner;
use super::live::Live;
use super::places::builtins;
use crate::config::{Interrupted, RunConfig, Work, write_duration};
use crate::filing::sum_of;
use crate::ledger::{Cause, Claim, CommitBatch, Filing, Hold, LedgerError};
use crate::pattern::{Builtins, Fields};
use crate::work::run::{Ended, Order, run};

/// After the ledger could not record a finished program, it is tried again
/// this much later.
const RECORD_AGAIN: Duration = Duration::from_secs(1);

impl GateRunner {
    /// Runs the gate's program for each ready entry, as many at once as the gate
    /// says. Only the programs run beside each other: what is claimed and recorded
    /// goes through this thread alone.
    pub fn run_programs(&mut self) -> Result<(), LedgerError> {
        let live = Arc::clone(&self.live);
        let Work::Run(config) = &live.gate.work else { return Ok(()) };
        let (ready, next) = live.ready()?;
        if let Some(next) = next {
            self.wake_in(next);
        }
        let at_once = live.gate.at_once.unwrap_or(1);
        let mut ready = ready.into_iter();
        let (hand_over, ended) = mpsc::channel::<Ran>();
        let mut outcome = Ok(());
        std::thread::scope(|scope| {
            let mut running = 0;
            loop {
                while running < at_once && outcome.is_ok() && !self.stopping() {
                    if live.state().paused {
                        break;
                    }
                    let Some(filing) = ready.next() else { break };
                    match self.begin_run(config, filing) {
                        Ok(None) => {}
                        Ok(Some(begun)) => {
                            running += 1;
                            let (hand_over, live) = (hand_over.clone(), &live);
                            scope.spawn(move || {
                                // The gate's thread waits for each that it began.
                                let _ = hand_over.send(begun.run(live));
                            });
                        }
                        Err(error) => outcome = Err(error),
                    }
                }
                if running == 0 {
                    break;
                }
                let Ok(ran) = ended.recv() else { break };
                running -= 1;
                // Also after a failure: a program that has ended wants its record.
                let recorded = self.end_run(config, ran).and_then(|()| self.file_open());
                outcome = std::mem::replace(&mut outcome, Ok(())).and(recorded);
            }
        });
        self.doing(None);
        outcome
    }

    /// Claims an entry for the program; `None` when there is nothing to run.
    fn begin_run(
        &mut self,
        config: &RunConfig,
        filing: Filing,
    ) -> Result<Option<Begun>, LedgerError> {
        let entry = &filing.entry;
        let source = entry.lies_at();
        if !self.live.is_still(&source, &filing.version) {
            self.entry_gone(&filing)?;
            return Ok(None);
        }
        let values = builtins(self.context(), entry, None);
        let args = match arguments(config, &entry.fields, &values) {
            Ok(args) => args,
            Err(error) => {
                self.hold_entry(&filing, error)?;
                return Ok(None);
            }
        };
        self.doing(Some(format!("running {} for {}", config.program.display(), entry.path)));
        let batch = self.context().ledger.claim(Claim {
            gate: self.gate().name.clone(),
            work: "run",
            entries: vec![entry.id],
            outputs: Vec::new(),
            lease: None,
        })?;
        Ok(Some(Begun { filing, source, batch, args }))
    }

    /// The program has done its work, so only the record is missing: it is tried
    /// until the ledger takes it, rather than to run the program again.
    fn commit_insisting(&mut self, commit: &CommitBatch) -> Result<(), LedgerError> {
        loop {
            match self.context().ledger.commit(commit.clone()) {
                Err(error @ LedgerError::Sqlite { .. }) => {
                    let words = format!("{error}; a finished program waits for its record");
                    self.live.problem("ledger", Some(words));
                    if self.context().stopped_within(RECORD_AGAIN) {
                        return Err(error);
                    }
                }
                other => return other,
            }
        }
    }

    fn end_run(&mut self, config: &RunConfig, ran: Ran) -> Result<(), LedgerError> {
        let Ran { filing, batch, ended, printed } = ran;
        let entry = &filing.entry;
        let tries = entry.tries + 1;
        let unsynced = match ended {
            Ended::Done => self.note_changed_source(&filing)?,
            _ => None,
        };
        let reason = match ended {
            Ended::Done if unsynced.is_some() => unsynced.unwrap_or_default(),
            Ended::Done => {
                let mut worked = entry.clone();
                worked.batch = Some(batch);
                let target = self.live.archive_path(&worked).unwrap_or(None);
                self.report.worked += 1;
                let entries = vec![(entry.id, None, target)];
                let commit = CommitBatch { batch, entries, outputs: Vec::new(), words: printed };
                return self.commit_insisting(&commit);
            }
            Ended::Again if tries < config.tries => {
                let wait = backoff(config.wait, config.wait_up_to, tries, entry.id);
                let not_before = self.live.wait_from_now(entry.id, wait);
                self.wake_in(wait);
                let why = format!(
                    "try {tries}: the program says try again later; next in {}",
                    write_duration(wait)
                );
                return self.context().ledger.give_back(
                    batch,
                    Some(not_before),
                    Cause::Pass,
                    why,
                    printed,
                );
            }
            Ended::Again => format!("the program said \"try again later\" {tries} times"),
            Ended::Stopped if self.gate().interrupted == Interrupted::Retry => {
                let why = "the service stopped while its program ran".to_owned();
                return self.context().ledger.give_back(batch, None, Cause::Pass, why, printed);
            }
            Ended::Stopped => {
                "the service stopped while its program ran: nobody can know how far it came".into()
            }
            Ended::Failed(reason) | Ended::NotStarted(reason) => reason,
        };
        self.report.held += 1;
        let target = self.live.hold_path(entry);
        let hold = Hold { entry: entry.id, reason, target };
        self.context().ledger.hold(vec![hold], Cause::Pass, Some((batch, printed)))
    }
}

impl GateRunner {
    /// A program may write into its own source: that is no new arrival, or it would be
    /// run again, and again. Gives why the file is held, when what the program wrote cannot
    /// be made durable.
    fn note_changed_source(&mut self, filing: &Filing) -> Result<Option<String>, LedgerError> {
        let entry = &filing.entry;
        let at = self.live.at(&entry.lies_at());
        let Some(at) = at.ok().filter(|at| !at.is(&filing.version)) else { return Ok(None) };
        let Ok(Some(meta)) = at.look() else { return Ok(None) };
        // What is no file, or changes still, is looked at as what it is.
        let Some(sum) = sum_of(&at).ok().filter(|_| meta.is_file() && at.is(&meta.version)) else {
            return Ok(None);
        };
        // It is archived as it is now, so that must be on the disk first.
        if let Err(error) = at.open().and_then(|file| file.sync_data()) {
            return Ok(Some(format!(
                "the program ended well and changed the file, which cannot be made durable: {error}"
            )));
        }
        self.context().ledger.source_changed(entry.id, meta.version, sum)?;
        if let Some(place) = self.live.place_of(&entry.drop, &entry.path)
            && let Some(known) = self.live.state().known.get_mut(&place)
        {
            known.version = meta.version;
        }
        Ok(None)
    }
}

/// The arguments of the program. A value that begins with a dash would be taken for an
/// option: only the gate may write options, or say that it is expected.
fn arguments(
    config: &RunConfig,
    fields: &Fields,
    values: &Builtins<'_>,
) -> Result<Vec<String>, String> {
    let mut args = Vec::with_capacity(config.args.len());
    let mut options_ended = config.dashes;
    for template in &config.args {
        let source = template.source();
        let value = template.text(fields, values).map_err(|error| error.to_string())?;
        if value.starts_with('-') && !source.starts_with('-') && !options_ended {
            return Err(format!(
                "the argument `{source}` comes to `{value}`, which a program takes for an option; put \"--\" before it in `args`, or say dashes = \"allow\""
            ));
        }
        options_ended |= source == "--";
        args.push(value);
    }
    Ok(args)
}

/// A program that is to run for a claimed entry.
struct Begun {
    filing: Filing,
    source: PathBuf,
    batch: i64,
    args: Vec<String>,
}

/// A program that has ended.
struct Ran {
    filing: Filing,
    batch: i64,
    ended: Ended,
    printed: String,
}

impl Begun {
    fn run(self, live: &Live) -> Ran {
        let Begun { filing, source, batch, args } = self;
        let Work::Run(config) = &live.gate.work else {
            let ended = Ended::NotStarted("the gate has no program any more".into());
            return Ran { filing, batch, ended, printed: String::new() };
        };
        let folder = live.context.config.file.parent().unwrap_or(Path::new("/"));
        let order = Order {
            program: &config.program,
            args,
            environment: environment(&filing, &source),
            handed_on: &config.env,
            folder,
            limit: config.limit,
        };
        let (ended, printed) = run(&order, &live.context.stopping);
        Ran { filing, batch, ended, printed }
    }
}

/// The entry, as the program finds it in its environment.
fn environment(filing: &Filing, source: &Path) -> Vec<(String, String)> {
    let entry = &filing.entry;
    let mut variables = vec![
        ("VADEGATE_FILE".to_owned(), source.display().to_string()),
        ("VADEGATE_NAME".into(), entry.name.clone()),
        ("VADEGATE_GATE".into(), entry.gate.clone()),
        ("VADEGATE_ENTRY".into(), entry.id.to_string()),
        ("VADEGATE_BYTES".into(), entry.bytes.to_string()),
        ("VADEGATE_SHA256".into(), entry.sha256.clone()),
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
