//! Sessions of the console: begun by showing the token, kept by the service, and over
//! when they are ended or their time is up. Of each only a sum is kept.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use jiff::Timestamp;

use crate::token::{Token, hex};

/// Name of the sessions' file in the state folder.
const SESSIONS_FILE: &str = "sessions";

/// How long a session is good for, in seconds: a week.
pub(crate) const SESSION_SECONDS: i64 = 7 * 24 * 3600;

/// Sessions that are kept at the most; the one that ends first gives way.
const MOST: usize = 1000;

/// All sessions.
pub(crate) struct Sessions {
    file: PathBuf,
    /// When each ends, in seconds since 1970, by its sum.
    open: Mutex<BTreeMap<String, i64>>,
}

impl Sessions {
    /// The sessions of a state folder.
    pub fn of(state: &Path) -> Self {
        let file = state.join(SESSIONS_FILE);
        // What cannot be read is signed in to anew.
        let text = std::fs::read_to_string(&file).unwrap_or_default();
        let open = serde_json::from_str(&text).unwrap_or_default();
        Sessions { file, open: Mutex::new(open) }
    }

    fn change<T>(&self, change: impl FnOnce(&mut BTreeMap<String, i64>) -> T) -> io::Result<T> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Timestamp::now().as_second();
        open.retain(|_, until| *until > now);
        let changed = change(&mut open);
        while open.len() > MOST {
            let first = open.iter().min_by_key(|(_, until)| **until);
            let Some(first) = first.map(|(sum, _)| sum.clone()) else { break };
            open.remove(&first);
        }
        write(&self.file, &open)?;
        Ok(changed)
    }

    /// Begins a session; gives what its cookie holds.
    pub fn begin(&self, token: &Token) -> io::Result<String> {
        let mut random = [0u8; 32];
        getrandom::fill(&mut random).map_err(io::Error::from)?;
        let value = hex(&random);
        let until = Timestamp::now().as_second() + SESSION_SECONDS;
        self.change(|open| open.insert(token.seal(&value), until))?;
        Ok(value)
    }

    /// The name of a session that has not ended, for the log; none of any other.
    pub fn name(&self, token: &Token, value: &str) -> Option<String> {
        let sum = token.seal(value);
        let open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let until = open.get(&sum)?;
        (*until > Timestamp::now().as_second()).then(|| format!("session {}", &sum[..8]))
    }

    /// Ends a session.
    pub fn end(&self, token: &Token, value: &str) -> io::Result<()> {
        let sum = token.seal(value);
        self.change(|open| open.remove(&sum)).map(drop)
    }
}

fn write(file: &Path, open: &BTreeMap<String, i64>) -> io::Result<()> {
    let fresh = file.with_extension("new");
    let mut out: File =
        File::options().write(true).create(true).truncate(true).mode(0o600).open(&fresh)?;
    out.write_all(serde_json::to_string(open)?.as_bytes())?;
    // An ended session must stay ended, whatever happens next.
    out.sync_all()?;
    std::fs::rename(&fresh, file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_session_is_good_until_it_is_ended_also_after_a_restart() {
        let state = tempfile::tempdir().unwrap();
        let token = Token::of(state.path()).unwrap();
        let sessions = Sessions::of(state.path());
        let (one, other) = (sessions.begin(&token).unwrap(), sessions.begin(&token).unwrap());
        assert!(sessions.name(&token, &one).is_some());
        assert!(sessions.name(&token, "").is_none() && sessions.name(&token, &one[1..]).is_none());
        sessions.end(&token, &one).unwrap();
        for sessions in [sessions, Sessions::of(state.path())] {
            assert!(sessions.name(&token, &one).is_none(), "it was ended");
            assert!(sessions.name(&token, &other).is_some());
        }
        let kept = std::fs::read_to_string(state.path().join(SESSIONS_FILE)).unwrap();
        assert!(!kept.contains(&other), "what the cookie holds is not kept");
        std::fs::remove_file(state.path().join("token")).unwrap();
        let fresh = Token::of(state.path()).unwrap();
        assert!(Sessions::of(state.path()).name(&fresh, &other).is_none(), "of another token");
    }
}
