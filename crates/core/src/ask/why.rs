//! "What became of this file, and why was it not taken?"

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::arrivals::sweep::look_at;
use crate::ask::entry::{FileLocation, LocationStatus};
use crate::ask::gates;
use crate::ask::gates::FileView;
use crate::ask::gates::Verdict;
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::engine::shared::Context;
use crate::ledger::error::LedgerError;
use crate::ledger::state::State;
use crate::ledger::types::Entry;

/// The answer for one path.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Answer {
    /// The path, made absolute.
    pub path: String,
    /// What became of it, in a sentence.
    pub sentence: String,
    /// The gate it belongs to.
    pub gate: Option<String>,
    /// The file, if it lies in a drop folder.
    pub file: Option<FileView>,
    /// Its entry, if it has one.
    pub entry: Option<Entry>,
}

/// Why there is no answer.
#[derive(Debug, thiserror::Error)]
pub enum WhyError {
    /// Nothing is known of the path.
    #[error("nothing is known of `{}`: it lies in no drop folder ({drops}), and no entry came from there or was filed there", path.display())]
    Unknown {
        /// The path.
        path: PathBuf,
        /// The drop folders.
        drops: String,
    },
    /// The engine failed.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl From<LedgerError> for WhyError {
    fn from(error: LedgerError) -> Self {
        WhyError::Engine(error.into())
    }
}

pub(crate) fn why(context: &Context, lives: &[&Live], path: &Path) -> Result<Answer, WhyError> {
    let ledger = &context.ledger;
    // The innermost drop folder that holds the path.
    let live = lives
        .iter()
        .filter_map(|live| {
            let place = live.gate.drops.place_of(path)?;
            let folder = live.gate.drops.placed(&place)?.folder.len();
            Some((live, place, live.gate.drops.base().as_os_str().len() + folder))
        })
        .max_by_key(|(_, _, length)| *length);
    if let Some((live, place, _)) = &live
        && let Some(answer) = in_drop(live, path, place)?
    {
        return Ok(answer);
    }
    // A file that cannot be read, or not be reached, has no sum to look for.
    let at = context.config.reach.at(path).ok();
    let at = at.filter(|at| at.look().is_ok_and(|meta| meta.is_some_and(|meta| meta.is_file())));
    let sum = at.and_then(|at| crate::filing::moving::sum_of(&at).ok());
    if let Some(entry) = ledger.moved_to(&path.display().to_string(), sum)? {
        return answer_of(context, path, entry);
    }
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned());
    if live.is_none()
        && let Some(entry) = name.map(|name| ledger.of_name(&name)).transpose()?.flatten()
    {
        return answer_of(context, path, entry);
    }
    if let Some((live, below, _)) = live {
        return Ok(Answer {
            path: path.display().to_string(),
            sentence: format!(
                "`{below}` is not in the drop folder of gate `{}`, and no such file was ever entered there.",
                live.gate.name
            ),
            gate: Some(live.gate.name.clone()),
            file: None,
            entry: None,
        });
    }
    let drops: Vec<String> = lives.iter().map(|live| live.gate.drops.shown()).collect();
    Err(WhyError::Unknown { path: path.to_owned(), drops: drops.join(", ") })
}

fn in_drop(live: &Live, path: &Path, place: &str) -> Result<Option<Answer>, WhyError> {
    let ledger = &live.context.ledger;
    live.load_known()?;
    let (folder, below) = live.parts_of(place);
    let entry = ledger.of_path(&live.gate.name, &folder, &below)?;
    let reach = &live.context.config.reach;
    let seen = look_at(reach, live.gate.drops.base(), place).map_err(|error| {
        EngineError::Drop(format!("`{}` cannot be looked at: {error}", path.display()))
    })?;
    let Some(seen) = seen else {
        return entry.map(|entry| answer_of(&live.context, path, entry)).transpose();
    };
    let seen = live.followed(&seen).into_owned();
    // The newest entry of this path is this file's only if it is this version.
    let of_this = entry.filter(|entry| {
        entry.filed_to.is_none()
            && entry.bytes == seen.version.bytes
            && entry.modified.as_nanosecond() == i128::from(seen.version.modified_ns)
    });
    let nested = live.level(place).is_some_and(|level| level > live.gate.depth);
    let file = gates::view(live, &seen, of_this.as_ref());
    let verdict = if nested {
        "it lies in a subfolder, and the gate does not look so far down (`subfolders`)".to_owned()
    } else {
        file.because.clone()
    };
    let doing = match file.verdict {
        _ if nested => "is not taken",
        Verdict::Take => "will be taken",
        Verdict::Wait => "is not taken yet",
        Verdict::Leave | Verdict::Unreadable => "is not taken",
        Verdict::Repeat => "is a repeat",
        Verdict::Known => "is in the ledger",
    };
    Ok(Some(Answer {
        path: path.display().to_string(),
        sentence: format!("`{below}` {doing} at gate `{}`: {verdict}.", live.gate.name),
        gate: Some(live.gate.name.clone()),
        entry: of_this,
        file: Some(file),
    }))
}

fn answer_of(context: &Context, path: &Path, entry: Entry) -> Result<Answer, WhyError> {
    let sentence = sentence(context, &entry)?;
    Ok(Answer {
        path: path.display().to_string(),
        sentence,
        gate: Some(entry.gate.clone()),
        file: None,
        entry: Some(entry),
    })
}

fn sentence(context: &Context, entry: &Entry) -> Result<String, WhyError> {
    let id = entry.id;
    let gone =
        matches!(FileLocation::of(&context.config.reach, entry).status, LocationStatus::Missing);
    let gone = if gone { ", where it is not any more" } else { "" };
    let lies = match &entry.filed_to {
        Some(place) => format!("archived at {place}{gone}"),
        None => format!("left in place{gone}"),
    };
    let at = |time: Option<jiff::Timestamp>| {
        time.map(|time| format!(" at {time:.0}")).unwrap_or_default()
    };
    let begin = format!("`{}` is entry {id} of gate `{}`:", entry.path, entry.gate);
    if let Some(first) = entry.repeat_of.filter(|_| entry.worked_at.is_none()) {
        let earlier = context.ledger.entry(first)?.and_then(|first| first.filed_to);
        let earlier = earlier.map(|place| format!(" archived at {place}")).unwrap_or_default();
        return Ok(format!(
            "{begin} a repeat of entry {first}{earlier}; it was not worked again, and is itself {lies}."
        ));
    }
    let reason = entry.reason.as_deref().unwrap_or("no reason was recorded");
    Ok(match entry.state {
        State::Filed => {
            let output = context.ledger.detail(id)?.and_then(|detail| detail.worked_in);
            let output =
                output.and_then(|batch| batch.outputs.first().map(|output| output.path.clone()));
            let into = output.map(|output| format!(" into {output}")).unwrap_or_default();
            format!("{begin} worked{into}{}, and {lies}.", at(entry.worked_at))
        }
        State::Held => {
            let place = entry.filed_to.as_ref().map(|place| format!(", moved to {place}"));
            format!("{begin} held because {reason}{}.", place.unwrap_or_default())
        }
        State::Gone => format!("{begin} gone: {reason}."),
        State::Ready => {
            format!("{begin} settled{}, and waits for its work.", at(Some(entry.ready_at)))
        }
        State::Working => format!("{begin} being worked."),
        State::Worked => format!("{begin} worked{}, and to be filed.", at(entry.worked_at)),
        State::Repeat => format!("{begin} a repeat, to be filed."),
        State::PassedOver => format!("{begin} {reason}; it was not worked, and is {lies}."),
        State::Adopted => format!("{begin} adopted as already worked."),
    })
}
