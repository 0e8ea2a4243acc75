//! Listing what lies in drop folders. There may be a million files, so they go
//! by one at a time, and a page keeps no more than it shows.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};
use utoipa::IntoParams;

use crate::arrivals::sweep::{Glimpse, Seen, look_at};
use crate::ask::gates::{FileView, Verdict, view};
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::files::version::Kind;
use crate::ledger::ids::EntryId;
use crate::pattern::natural::{First, natural_order};

/// Which files of a drop folder are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields, default)]
pub struct FileQuery {
    /// Only files after this place: the `next` of the page before.
    pub cursor: Option<String>,
    /// At most so many; 1 to 10,000, by default 500.
    pub limit: Option<usize>,
    /// Only files whose place contains this text, in capitals or not.
    pub text: Option<String>,
    /// Only files of which the gate makes this.
    #[param(value_type = Option<String>)]
    pub verdict: Option<Verdict>,
    /// Whether folders are left out.
    pub without_folders: bool,
}

/// One page of a drop folder, in order of place.
#[derive(Debug, Clone)]
pub struct FilePage {
    /// What lies there.
    pub files: Vec<FileView>,
    /// How many fit on all pages.
    pub total: usize,
    /// The place after which the next page begins; none at the end.
    pub next: Option<String>,
}

/// Gives each thing in the drop folders, in the folders' own order, until `each`
/// wants no more.
pub(crate) fn each_file(
    live: &Live,
    mut each: impl FnMut(FileView) -> bool,
) -> Result<(), EngineError> {
    live.load_known()?;
    let mut going = Ok(true);
    live.sweep(|seen| {
        if let Ok(true) = going {
            going = shown(live, &seen).map(&mut each);
        }
    })?;
    going.map(|_| ())
}

fn shown(live: &Live, seen: &Seen) -> Result<FileView, EngineError> {
    let seen = &*live.followed(seen);
    let known = live.state().known.get(seen.path.as_str()).copied();
    let entry = match known.filter(|known| known.version == seen.version) {
        Some(known) => live.context.ledger.entry(known.entry)?,
        None => None,
    };
    Ok(view(live, seen, entry.as_ref()))
}

/// One page of the drop folders. Without a verdict nothing is looked at but the names, and
/// what the page shows.
pub(crate) fn page(live: &Live, query: &FileQuery) -> Result<FilePage, EngineError> {
    live.load_known()?;
    let limit = query.limit.unwrap_or(500).clamp(1, 10_000);
    let text = query.text.as_deref().map(|text| text.trim().to_lowercase());
    let sieve = Sieve::of(live, query)?;
    let mut first = First::of(limit);
    let mut total = 0;
    live.glimpse(&mut |one| {
        let folder = query.without_folders && one.kind == Kind::Folder;
        if folder || text.as_ref().is_some_and(|text| !one.path.to_lowercase().contains(text)) {
            return;
        }
        // A name that is not UTF-8 cannot be asked for again.
        let seen = if one.utf8 && sieve.is_none() { Ok(one) } else { Err(one.look()) };
        if let (Some(sieve), Err(seen)) = (&sieve, &seen)
            && !seen.as_ref().is_some_and(|seen| sieve.lets_through(live, seen))
        {
            return;
        }
        let (path, seen) = match seen {
            Ok(Glimpse { path, .. }) => (path, None),
            Err(Some(seen)) => (seen.path.clone(), Some(seen)),
            Err(None) => return,
        };
        total += 1;
        if query.cursor.as_ref().is_none_or(|after| natural_order(&path, after).is_gt()) {
            first.add(path, seen);
        }
    })?;
    let (first, more) = first.end();
    let next = first.last().filter(|_| more).map(|(path, _)| path.clone());
    let (reach, base) = (&live.context.config.reach, live.gate.drops.base());
    let seen = first.into_iter().filter_map(|(path, seen)| {
        // What has vanished meanwhile is left out.
        seen.or_else(|| look_at(reach, base, &path).ok().flatten())
    });
    let files: Vec<FileView> = seen.map(|seen| shown(live, &seen)).collect::<Result<_, _>>()?;
    Ok(FilePage { files, total, next })
}

/// Lets through files of one verdict.
struct Sieve {
    verdict: Verdict,
    /// Entries that are repeats: all else that is known is known.
    repeats: HashSet<EntryId>,
}

impl Sieve {
    fn of(live: &Live, query: &FileQuery) -> Result<Option<Self>, EngineError> {
        let Some(verdict) = query.verdict else { return Ok(None) };
        let repeats = live.context.ledger.open_repeats(&live.gate.name)?;
        Ok(Some(Sieve { verdict, repeats }))
    }

    fn lets_through(&self, live: &Live, seen: &Seen) -> bool {
        let seen = &*live.followed(seen);
        let known = live.state().known.get(seen.path.as_str()).copied();
        let verdict = match known.filter(|known| known.version == seen.version) {
            Some(known) if self.repeats.contains(&known.entry) => Verdict::Repeat,
            Some(_) => Verdict::Known,
            None => view(live, seen, None).verdict,
        };
        verdict == self.verdict
    }
}
