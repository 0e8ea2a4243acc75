//! Listing what lies in drop folders. There may be a million files, so they go
//! by one at a time, and a page keeps no more than it shows.

use std::cmp::Ordering;
use std::collections::BinaryHeap;

use crate::arrivals::sweep::Seen;
use crate::ask::gates::{FileView, Match, Matches, Miss, view};
use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::files::version::Kind;
use crate::pattern::Pattern;
use crate::pattern::natural::natural_order;

/// One page of a drop folder, in order of place.
#[derive(Debug, Clone)]
pub struct FilePage {
    /// What lies there.
    pub files: Vec<FileView>,
    /// How many there are on all pages.
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
    })
    .map_err(EngineError::Drop)?;
    going.map(|_| ())
}

fn shown(live: &Live, seen: &Seen) -> Result<FileView, EngineError> {
    let seen = &*live.followed(seen);
    let known = live.state().known.get(&seen.path).copied();
    let entry = match known.filter(|known| known.version == seen.version) {
        Some(known) => live.context.ledger.entry(known.entry)?,
        None => None,
    };
    Ok(view(live, seen, entry.as_ref()))
}

/// One page of the drop folders.
pub(crate) fn page(
    live: &Live,
    after: Option<&str>,
    limit: usize,
) -> Result<FilePage, EngineError> {
    live.load_known()?;
    let mut first: BinaryHeap<ByPlace> = BinaryHeap::new();
    let (mut total, mut more) = (0, false);
    live.sweep(|seen| {
        total += 1;
        if after.is_none_or(|after| natural_order(&seen.path, after).is_gt()) {
            first.push(ByPlace(seen));
            if first.len() > limit {
                more = true;
                first.pop();
            }
        }
    })
    .map_err(EngineError::Drop)?;
    let first = first.into_sorted_vec();
    let files: Vec<FileView> =
        first.iter().map(|seen| shown(live, &seen.0)).collect::<Result<_, _>>()?;
    let next = if more { files.last().map(|file| file.place.clone()) } else { None };
    Ok(FilePage { files, total, next })
}

struct ByPlace(Seen);

impl Ord for ByPlace {
    fn cmp(&self, other: &Self) -> Ordering {
        natural_order(&self.0.path, &other.0.path)
    }
}

impl PartialOrd for ByPlace {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for ByPlace {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for ByPlace {}

/// Tries a pattern on the files of a drop folder.
pub(crate) fn matches(live: &Live, pattern: &Pattern) -> Result<Matches, EngineError> {
    const MOST: usize = 500;
    let mut paths = Vec::new();
    live.sweep(|seen| {
        if seen.kind == Kind::File && seen.utf8 {
            paths.push(live.parts_of(&seen.path).1);
        }
    })
    .map_err(EngineError::Drop)?;
    paths.sort_by(|a, b| natural_order(a, b));
    let (mut matched, mut missed) = (Vec::new(), Vec::new());
    for path in paths {
        match pattern.near_miss(&path) {
            None if matched.len() < MOST => {
                let fields = pattern.matches(&path).unwrap_or_default();
                matched.push(Match { path, fields });
            }
            Some(miss) if missed.len() < MOST => {
                let because = match miss.fitted.as_str() {
                    "" => format!("it needs {}", miss.needed),
                    fitted => {
                        format!("it fits as far as `{fitted}` and then needs {}", miss.needed)
                    }
                };
                missed.push(Miss { path, because });
            }
            _ => {}
        }
    }
    Ok(Matches { pattern: pattern.source().to_owned(), matched, missed })
}
