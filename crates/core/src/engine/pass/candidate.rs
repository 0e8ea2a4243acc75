//! Files that are complete, before they are entered.

use crate::arrivals::settle::Look;
use crate::engine::gate::state::Arriving;
use crate::files::sha256::Sha256;
use crate::files::version::Version;
use crate::ledger::types::PickMark;
use crate::pattern::Fields;

/// A file that is complete, or that is given up.
#[derive(Clone)]
pub(crate) struct Candidate {
    pub path: String,
    pub version: Version,
    pub look: Look,
    /// When it was first noticed, in milliseconds.
    pub seen_at: i64,
    pub fields: Fields,
    /// It never was complete: why it is held.
    pub given_up: Option<String>,
    /// It is not worked, because others were picked.
    pub passed_over: Option<String>,
    /// What its part is to remember, when it was picked.
    pub mark: Option<PickMark>,
}

impl Candidate {
    /// A file that is complete.
    pub fn of(path: String, arriving: &Arriving) -> Self {
        Candidate {
            path,
            version: arriving.version,
            look: arriving.look,
            seen_at: arriving.seen_at,
            fields: arriving.fields.clone(),
            given_up: None,
            passed_over: None,
            mark: None,
        }
    }
}

/// A candidate whose fingerprint was taken.
pub(crate) struct Settled {
    pub path: String,
    pub fields: Fields,
    pub seen_at: i64,
    pub version: Version,
    pub sha256: Sha256,
    /// Why it is held rather than worked.
    pub held: Option<String>,
    pub passed_over: Option<String>,
    pub mark: Option<PickMark>,
}
