//! What a pattern makes of the files that lie in drop folders.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::error::EngineError;
use crate::engine::gate::state::Live;
use crate::files::version::Kind;
use crate::pattern::natural::First;
use crate::pattern::{Fields, NearMiss, Pattern};

/// So many files are shown of those that it matches, and of those that it does not.
const MOST: usize = 200;

/// What a pattern makes of the files that lie in a drop folder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Matches {
    /// The pattern.
    pub pattern: String,
    /// How many files it matches.
    pub matched_count: u64,
    /// How many it does not match.
    pub missed_count: u64,
    /// The first files that it matches, in order of name; at most 200.
    pub matched: Vec<Match>,
    /// The first files that it does not match; at most 200.
    pub missed: Vec<Miss>,
}

/// A file that a pattern matches.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Match {
    /// Path below the drop folder.
    pub path: String,
    /// What is captured from it.
    pub fields: Fields,
}

/// A file that a pattern does not match.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Miss {
    /// Path below the drop folder.
    pub path: String,
    /// How far the pattern fits, and what it then needs.
    pub because: String,
}

/// Tries a pattern on the files of a drop folder.
pub(crate) fn matches(live: &Live, pattern: &Pattern) -> Result<Matches, EngineError> {
    let (mut matched, mut missed) = (First::of(MOST), First::of(MOST));
    let (mut matched_count, mut missed_count) = (0, 0);
    live.glimpse(&mut |one| {
        if one.kind != Kind::File || !one.utf8 {
            return;
        }
        let path = live.parts_of(&one.path).1;
        if pattern.is_match(&path) {
            matched_count += 1;
            matched.add(path, ());
        } else {
            missed_count += 1;
            missed.add(path, ());
        }
    })?;
    let matched = matched.end().0.into_iter().map(|(path, ())| {
        let fields = pattern.matches(&path).unwrap_or_default();
        Match { path, fields }
    });
    let missed = missed.end().0.into_iter().map(|(path, ())| {
        let because = pattern.near_miss(&path).as_ref().map(because).unwrap_or_default();
        Miss { path, because }
    });
    Ok(Matches {
        pattern: pattern.source().to_owned(),
        matched_count,
        missed_count,
        matched: matched.collect(),
        missed: missed.collect(),
    })
}

fn because(miss: &NearMiss) -> String {
    match miss.fitted.as_str() {
        "" => format!("it needs {}", miss.needed),
        fitted => format!("it fits as far as `{fitted}` and then needs {}", miss.needed),
    }
}
