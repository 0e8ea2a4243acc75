//! Making the outputs of a merge by hand.

use crate::files::at::At;
use crate::files::roots::Reach;
use crate::filing::folders::numbered;
use crate::work::hand::{HandError, LeftOut, by_hand, failed};
use crate::work::merge::by_hand::{HandMade, HandPlan, folder_of, mark, rejects_of};
use crate::work::merge::config::Exists;
use crate::work::outcome::{Failure, SourceFault};
use crate::work::tables::source::{Source, begin_with, note};
use crate::work::tables::stage::{RejectsAt, StagePreamble, stage};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use vadegate_tables::{Depth, Options, Plan, Writing};

impl HandPlan {
    /// Merges all outputs; each stands in its place whole, or not at all.
    ///
    /// # Errors
    /// [`HandError`]; outputs before the one that failed stand in their places.
    pub fn merge(&mut self, stopping: &AtomicBool) -> Result<Vec<HandMade>, HandError> {
        let groups = std::mem::take(&mut self.groups);
        let mut made = Vec::new();
        for (output, sources) in groups {
            let sources = sources.into_iter().map(|(source, _)| source).collect();
            made.extend(self.merge_one(&output, sources, stopping)?);
        }
        Ok(made)
    }

    /// Where an output comes to stand, the one whose rows it begins with, and whether one is
    /// there.
    fn place_for(&self, output: &Path) -> Result<(PathBuf, Option<PathBuf>, bool), HandError> {
        let mut place = output.to_owned();
        let there = output.symlink_metadata().is_ok();
        let mut base = None;
        match self.order.exists {
            Exists::Fail if there => {
                let shown = output.display();
                return Err(HandError::Refused(format!(
                    "the output `{shown}` exists already; say --exists replace, append or number"
                )));
            }
            Exists::Number => {
                let mut number = 2;
                while place.symlink_metadata().is_ok() {
                    place = numbered(output, number);
                    number += 1;
                }
            }
            Exists::Append if there => base = Some(output.to_owned()),
            _ => {}
        }
        Ok((place, base, there))
    }

    fn merge_one(
        &mut self,
        output: &Path,
        sources: Vec<Source>,
        stopping: &AtomicBool,
    ) -> Result<Option<HandMade>, HandError> {
        let (place, base, there) = self.place_for(output)?;
        let folder = folder_of(output);
        std::fs::create_dir_all(folder).map_err(failed(folder))?;
        let mut plan = Plan::new(self.options(output, folder)?);
        if let Some(base) = &base {
            begin_with(&mut plan, &Reach::anywhere(), base)
                .map_err(|fault| HandError::Refused(fault.to_string()))?;
        }
        let opening =
            StagePreamble { header: true, line_end: false, base, summed: false, mode: None };
        let hidden = |ending: &str| {
            let name = format!(".vadegate-{}.{ending}", std::process::id());
            by_hand(&folder.join(name)).map(Hidden).map_err(failed(folder))
        };
        let (staged, aside) = (hidden("merging")?, hidden("rejects")?);
        let wanted = plan.options().misfits != vadegate_tables::Misfits::Hold;
        let rejects = wanted.then_some(RejectsAt { staged: &aside.0, header: true });
        let staging = |plan, sources: &[Source]| {
            stage(plan, sources, &staged.0, &opening, rejects.as_ref(), stopping)
        };
        let foreseen = self.foreseen(&plan, &sources).map(|plan| staging(plan, &sources));
        let made = match foreseen {
            Some(Ok(made)) => made,
            Some(Err(stopped @ Failure::Stopped)) => return Err(told(stopped, &sources, output)),
            // Of what came otherwise than was foreseen, or is faulty, the whole is looked at.
            _ => {
                self.read.store(0, Ordering::Relaxed);
                let sources = self.sound(&mut plan, sources)?;
                if sources.is_empty() {
                    return Ok(None);
                }
                staging(plan, &sources).map_err(|error| told(error, &sources, output))?
            }
        };
        let replace = there && self.order.exists != Exists::Number;
        let put = |from: &At, to: &Path, replace: bool| {
            let to = by_hand(to)?;
            if replace { from.rename(&to) } else { from.rename_over_nothing(&to) }
        };
        let mut rejects = made.rejects.as_ref().map(|_| rejects_of(&place));
        if let Some(rejects) = &mut rejects {
            // What is there is only replaced when the output is.
            let wanted = rejects.clone();
            let mut number = 2;
            while self.order.exists != Exists::Replace && rejects.symlink_metadata().is_ok() {
                *rejects = numbered(&wanted, number);
                number += 1;
            }
            let replace = self.order.exists == Exists::Replace;
            put(&aside.0, rejects, replace).map_err(failed(rejects))?;
        }
        put(&staged.0, &place, replace).map_err(failed(&place))?;
        mark(&place);
        staged.0.folder().sync().map_err(failed(folder))?;
        Ok(Some(HandMade { output: place, bytes: made.rows.bytes, rejects, account: made.account }))
    }

    /// How an output is written: as its name says, but for what was asked for.
    fn options(&self, output: &Path, folder: &Path) -> Result<Options, HandError> {
        let name = output.file_name().unwrap_or_default().to_string_lossy();
        let Some(by_name) = Writing::by_name(&name) else {
            return Err(HandError::Refused(format!(
                "what `{name}` is to be cannot be told from its name; end it in .csv, .tsv, .jsonl (also with .gz or .zst), .xlsx or .parquet"
            )));
        };
        let asked = &self.order.options.writing;
        let writing = Writing {
            stacking: asked.stacking,
            delimiter: if asked.delimiter == 0 { by_name.delimiter } else { asked.delimiter },
            quote_all: asked.quote_all,
            crlf: asked.crlf,
            encoding: asked.encoding,
            mark: asked.mark,
            escape_formulas: asked.escape_formulas,
            scratch: Some(folder.to_owned()),
            ..by_name
        };
        Ok(Options { writing, ..self.order.options.clone() })
    }

    /// The plan of an output whose columns have types that are said: of decimals it is foreseen
    /// from the first rows how many digits they have, and a number that has more breaks it off.
    /// None where more must be known of all rows before the first is written.
    fn foreseen(&self, plan: &Plan, sources: &[Source]) -> Option<Plan> {
        let options = plan.options();
        let all_first = options.misfits_up_to.is_some() || self.order.leave_faulty;
        if !options.writing.is_typed() || all_first {
            return None;
        }
        let mut plan = plan.clone();
        for source in sources {
            note(&mut plan, source, Depth::Start).ok()?;
        }
        (!sources.is_empty() && !plan.guesses_types()).then_some(plan)
    }

    /// The sources that can be merged; the others are told.
    fn sound(&mut self, plan: &mut Plan, sources: Vec<Source>) -> Result<Vec<Source>, HandError> {
        let options = plan.options();
        let whole = options.writing.is_typed()
            || options.misfits_up_to.is_some()
            || self.order.leave_faulty;
        let depth = if whole { Depth::Whole } else { Depth::Header };
        let mut sound = Vec::new();
        let mut faulty = Vec::new();
        for source in sources {
            let why = match note(plan, &source, depth) {
                Ok(()) => {
                    sound.push(source);
                    continue;
                }
                Err(SourceFault::Faulty(why)) => why,
                Err(SourceFault::Changed) => "changed while it was read".into(),
                Err(SourceFault::Unreadable(error)) => format!("cannot be read: {error}"),
                Err(SourceFault::Stopped) => "was not read to its end".into(),
            };
            faulty.push(LeftOut { path: source.path, why, faulty: true, unasked: false });
        }
        if !faulty.is_empty() && !self.order.leave_faulty {
            return Err(HandError::Faulty(faulty));
        }
        self.left_out.extend(faulty);
        Ok(sound)
    }
}

fn told(error: Failure, sources: &[Source], output: &Path) -> HandError {
    match error {
        Failure::Output(source) => HandError::Io { path: output.to_owned(), source },
        Failure::Refused(why)
        | Failure::Away(why)
        | Failure::Again(_, why)
        | Failure::Doubt(why)
        | Failure::Interrupted(why) => HandError::Refused(why),
        Failure::Stopped => HandError::Refused("it was stopped; nothing was written".into()),
        Failure::Source(at, fault) => {
            let path = sources.get(at).map(|source| source.path.clone()).unwrap_or_default();
            let why = match fault {
                SourceFault::Faulty(why) => why,
                SourceFault::Changed => "changed while it was read".into(),
                SourceFault::Unreadable(error) => format!("cannot be read: {error}"),
                SourceFault::Stopped => "was not read to its end".into(),
            };
            HandError::Faulty(vec![LeftOut { path, why, faulty: true, unasked: false }])
        }
    }
}

/// A hidden file that is gone in the end, unless it was renamed.
struct Hidden(At);

impl Drop for Hidden {
    fn drop(&mut self) {
        // Mostly it was renamed, and is not there any more.
        let _ = self.0.remove();
    }
}
