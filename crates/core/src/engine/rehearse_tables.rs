//! What a rehearsal tells of tables: they are read, and what a work would make of them is
//! told, without writing anything.

use std::collections::HashMap;
use std::path::Path;

use vadegate_tables::Plan;

use super::batching::gather;
use super::live::Live;
use super::load_plan::{note_typed, table_of};
use super::merge_plan::{Unplanned, batch_plan};
use super::rehearse::{Rehearsing, Will, hold};
use crate::config::{Mode, Work};
use crate::ledger::{Entry, Filing};
use crate::work::load::{DbError, Destination, TableColumn, destination, fit};
use crate::work::merge::SourceFault;

/// What a work would make of the files of a batch.
struct BatchOf {
    plan: Plan,
    output: String,
    mode: String,
    /// The table that is there, when they are loaded into one.
    table: Option<Vec<TableColumn>>,
    /// Why its files wait, however sound they are.
    waits: Option<String>,
}

impl BatchOf {
    /// How the columns of its files fit the table: why they are held, or wait.
    fn fits(&mut self) -> (Option<String>, Option<String>) {
        let Some(table) = &self.table else { return (None, self.waits.clone()) };
        let wanted: Vec<_> =
            self.plan.columns().map(|column| (column.name.clone(), column.kind)).collect();
        let fitted = fit(&wanted, table, self.plan.options().layout.names);
        let held = (!fitted.of_files.is_empty())
            .then(|| format!("it does not fit the table: {}", fitted.of_files.join("; ")));
        let odd = fitted.of_gate.first();
        (held, odd.map(|why| format!("the table does not fit: {why}")).or(self.waits.clone()))
    }
}

/// A gate's database, and what it said when it did not answer: it is asked once.
type Asked = (Box<dyn Destination>, Option<String>);

fn table_at(
    asked: &mut Asked,
    table: &str,
    create: bool,
) -> (Option<Vec<TableColumn>>, Option<String>) {
    let (destination, away) = asked;
    if away.is_some() {
        return (None, away.clone());
    }
    match destination.columns(table) {
        Ok(None) if !create => (None, Some(format!("there is no table `{table}`"))),
        Ok(columns) => (columns, None),
        Err(DbError::Away(why) | DbError::Doubt(why)) => {
            *away = Some(format!("the database does not answer: {why}"));
            (None, away.clone())
        }
        Err(DbError::Refused(refusal)) => (None, Some(refusal.to_string())),
    }
}

fn batch_of(
    live: &Live,
    output: &str,
    first: &Entry,
    asked: &mut Option<Asked>,
) -> Result<BatchOf, String> {
    match &live.gate.work {
        Work::Merge(config) => {
            let plan = match batch_plan(live, config, Path::new(output), first) {
                Ok(plan) => plan,
                Err(Unplanned::Hold(why)) => return Err(why),
                Err(Unplanned::Output(why)) => {
                    return Ok(BatchOf {
                        output: output.to_owned(),
                        mode: String::new(),
                        plan: Plan::new(config.options(Path::new(output))),
                        table: None,
                        waits: Some(why),
                    });
                }
            };
            Ok(BatchOf {
                output: plan.rows.path.display().to_string(),
                mode: plan.rows.mode.to_owned(),
                plan: plan.rows.columns,
                table: None,
                waits: None,
            })
        }
        Work::Load(config) => {
            let table = table_of(live, config, first)?;
            let asked = asked.get_or_insert_with(|| (destination(&config.to), None));
            // Where the database is away the files wait; they can still be read.
            let (columns, mut waits) = table_at(asked, &table, config.create);
            if config.mode == Mode::Upsert
                && columns.is_some()
                && let Ok(false) = asked.0.is_unique(&table, &config.key)
            {
                let key = config.key.join(", ");
                waits = Some(format!("the table has no unique rule over the key ({key}); add one"));
            }
            Ok(BatchOf {
                plan: Plan::new(config.options()),
                output: output.to_owned(),
                mode: config.mode.word().to_owned(),
                table: columns,
                waits,
            })
        }
        _ => Err("the gate works no tables any more".into()),
    }
}

/// What the work would make of the files that would be worked: they are read,
/// so that a faulty one is told, and nothing is written.
pub(super) fn tables(live: &Live, files: &mut [Rehearsing]) {
    let mut places: HashMap<(String, String), usize> = HashMap::new();
    let mut filings = Vec::new();
    for (at, file) in files.iter().enumerate().filter(|(_, file)| file.told.will == Will::Work) {
        places.insert((file.entry.drop.clone(), file.entry.path.clone()), at);
        let entry = file.entry.clone();
        filings.push(Filing { entry, version: file.version, target: None });
    }
    let at = |entry: &Entry| places.get(&(entry.drop.clone(), entry.path.clone())).copied();
    let gathered = gather(live, filings);
    for (filing, why) in gathered.held {
        at(&filing.entry).into_iter().for_each(|at| hold(&mut files[at], why.clone()));
    }
    for open in gathered.open {
        let waits = format!("its batch is being gathered: {}", open.closes);
        for file in files.iter_mut().filter(|file| open.paths.contains(&file.entry.path)) {
            file.told.will = Will::Wait;
            file.told.because = Some(waits.clone());
            file.told.output = Some(open.output.clone());
        }
    }
    let mut asked = None;
    for closed in gathered.closed {
        let Some(first) = closed.members.first() else { continue };
        let mut batch = match batch_of(live, &closed.output, &first.filing.entry, &mut asked) {
            Ok(batch) => batch,
            Err(why) => {
                let all = closed.members.iter().filter_map(|member| at(&member.filing.entry));
                all.for_each(|at| hold(&mut files[at], why.clone()));
                continue;
            }
        };
        let mut sound = Vec::new();
        for member in closed.members {
            let Some(at) = at(&member.filing.entry) else { continue };
            match note_typed(&mut batch.plan, &member.source, batch.table.as_deref(), true) {
                Ok(()) => {
                    files[at].told.output = Some(batch.output.clone());
                    files[at].told.mode = Some(batch.mode.clone());
                    sound.push(at);
                }
                Err(SourceFault::Faulty(why)) => hold(&mut files[at], why),
                Err(SourceFault::Changed) => {
                    files[at].told.will = Will::Wait;
                    files[at].told.because = Some("it has just changed".into());
                }
                Err(SourceFault::Stopped) => return,
                Err(SourceFault::Unreadable(error)) => {
                    files[at].told.will = Will::Wait;
                    files[at].told.because = Some(format!("it cannot be read: {error}"));
                }
            }
        }
        after_the_fit(files, &sound, batch.fits());
    }
}

/// What becomes of sound files by how they fit their table: held, or waiting.
fn after_the_fit(
    files: &mut [Rehearsing],
    sound: &[usize],
    (held, waits): (Option<String>, Option<String>),
) {
    for at in sound {
        match (&held, &waits) {
            (_, Some(why)) => {
                files[*at].told.will = Will::Wait;
                files[*at].told.because = Some(why.clone());
            }
            (Some(why), None) => hold(&mut files[*at], why.clone()),
            (None, None) => {}
        }
    }
}
