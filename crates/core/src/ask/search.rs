//! One search over all that there is: gates, entries, files in drop folders, outputs, and why
//! something is held.

use std::path::Path;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::sha256::Sha256;
use crate::ledger::held::NAMED;
use crate::ledger::ids::EntryId;
use crate::ledger::types::{Entry, Query};

/// So many are given of each kind.
const EACH: usize = 8;

/// A longer text is no search.
const LONGEST: usize = 4096;

/// What was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum HitKind {
    /// What became of a file, for its path.
    Answer,
    /// An entry.
    Entry,
    /// A gate.
    Gate,
    /// A reason for which entries are held.
    Held,
    /// A file in a drop folder that is not complete yet.
    File,
    /// An output.
    Output,
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Hit {
    /// What it is.
    pub kind: HitKind,
    /// What it is called.
    pub title: String,
    /// What is to be said of it, in a sentence.
    pub words: String,
    /// Its gate.
    pub gate: Option<String>,
    /// Its entry.
    pub entry: Option<EntryId>,
    /// Its path, for an output.
    pub path: Option<String>,
}

impl Engine {
    /// Finds what a text is about: the number of an entry, a path, a wildcard, a sum or its
    /// beginning, `FIELD=VALUE`, the name of a gate or an output, words of a reason. What is
    /// surest comes first. Of the ledger the newest 200,000 entries are looked through; by
    /// number, path, sum and field all of them.
    ///
    /// # Errors
    /// The ledger's.
    pub fn search(&self, text: &str) -> Result<Vec<Hit>, EngineError> {
        let text = text.trim();
        if text.is_empty() || text.len() > LONGEST {
            return Ok(Vec::new());
        }
        let mut hits = self.exact(text)?;
        hits.extend(self.gates_called(text)?);
        hits.extend(self.held_because(text)?);
        let entries = self.entries_like(text)?.into_iter().map(of_entry);
        let known: Vec<Option<EntryId>> = hits.iter().map(|hit| hit.entry).collect();
        hits.extend(entries.filter(|hit| !known.contains(&hit.entry)));
        hits.extend(self.arriving_called(text));
        let outputs = self.context().ledger.outputs_like(text, EACH)?;
        hits.extend(outputs.into_iter().map(|path| Hit {
            title: path.clone(),
            words: "what is in it, and whether its rows add up".into(),
            path: Some(path),
            ..Hit::of(HitKind::Output)
        }));
        Ok(hits)
    }

    /// By what is one thing alone: a number, a sum, a path.
    fn exact(&self, text: &str) -> Result<Vec<Hit>, EngineError> {
        let ledger = &self.context().ledger;
        if let Ok(number) = text.trim_start_matches('#').parse::<EntryId>() {
            return Ok(ledger.entry(number)?.map(of_entry).into_iter().collect());
        }
        if let Some(sum) = Sha256::from_hex(text) {
            return Ok(ledger.with_sum(&sum, EACH as u32)?.into_iter().map(of_entry).collect());
        }
        if !text.contains('/') || text.contains(['*', '?', '<']) {
            return Ok(Vec::new());
        }
        let base = self.context().config.file.parent().map(Path::to_path_buf).unwrap_or_default();
        match self.why(text, &base) {
            Ok(answer) => Ok(vec![Hit {
                title: answer.path,
                words: answer.sentence,
                gate: answer.gate,
                entry: answer.entry.map(|entry| entry.id),
                ..Hit::of(HitKind::Answer)
            }]),
            // A part of a path is looked for below.
            Err(_) => Ok(Vec::new()),
        }
    }

    fn gates_called(&self, text: &str) -> Result<Vec<Hit>, EngineError> {
        let fits = |gate: &crate::ask::GateView| {
            let group = gate.group.as_deref().unwrap_or_default();
            [gate.name.as_str(), group, &gate.drop].iter().any(|part| contains(part, text))
        };
        let hit = |gate: crate::ask::GateView| Hit {
            title: gate.name.clone(),
            words: format!("{}; {}", gate.work_does, gate.drop),
            gate: Some(gate.name),
            ..Hit::of(HitKind::Gate)
        };
        Ok(self.gates()?.into_iter().filter(fits).take(EACH).map(hit).collect())
    }

    fn held_because(&self, text: &str) -> Result<Vec<Hit>, EngineError> {
        let groups = self.context().ledger.held_by_reason(NAMED)?.into_iter();
        let fits = groups.filter(|group| contains(&group.reason, text)).take(EACH);
        Ok(fits
            .map(|group| Hit {
                title: format!("{} held at {}", group.count, group.gate),
                words: group.reason,
                entry: (group.count == 1).then(|| group.entries.first().copied()).flatten(),
                gate: Some(group.gate),
                ..Hit::of(HitKind::Held)
            })
            .collect())
    }

    fn entries_like(&self, text: &str) -> Result<Vec<Entry>, EngineError> {
        let limit = Some(EACH as u32);
        let query = if text.contains(['*', '?', '<']) {
            Query { path: Some(text.to_owned()), limit, ..Query::default() }
        } else if text.split_once('=').is_some_and(|(name, _)| is_field(name)) {
            Query { field: Some(text.to_owned()), limit, ..Query::default() }
        } else {
            return Ok(self.context().ledger.recent_like(text, EACH)?);
        };
        // What is no pattern yet is being typed.
        Ok(self.entries(&query).map(|page| page.entries).unwrap_or_default())
    }

    fn arriving_called(&self, text: &str) -> Vec<Hit> {
        let inner = self.inner();
        let mut hits = Vec::new();
        for (name, handle) in &inner.gates {
            let state = handle.live.state();
            let left = EACH.saturating_sub(hits.len());
            let fits = state.arriving.iter().filter(|(place, _)| contains(place, text)).take(left);
            hits.extend(fits.map(|(place, arriving)| Hit {
                title: place.to_string(),
                words: format!("not complete yet: {}", arriving.because),
                gate: Some(name.clone()),
                ..Hit::of(HitKind::File)
            }));
        }
        hits
    }
}

impl Hit {
    fn of(kind: HitKind) -> Self {
        let (title, words) = (String::new(), String::new());
        Hit { kind, title, words, gate: None, entry: None, path: None }
    }
}

fn of_entry(entry: Entry) -> Hit {
    let reason = entry.reason.as_ref().map(|reason| format!(": {reason}")).unwrap_or_default();
    Hit {
        title: format!("{} {}", entry.id, entry.path),
        words: format!("{} at {}{reason}", entry.state.word(), entry.gate),
        gate: Some(entry.gate),
        entry: Some(entry.id),
        ..Hit::of(HitKind::Entry)
    }
}

fn contains(text: &str, part: &str) -> bool {
    text.to_lowercase().contains(&part.to_lowercase())
}

fn is_field(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || c == '_')
}
