//! The token: made at the first start, kept in the state folder for its owner
//! alone.

use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use subtle::ConstantTimeEq;
use vadegate_core::files::Sha256;
use vadegate_core::people::sum_of_secret;

/// Name of the token's file in the state folder.
pub const TOKEN_FILE: &str = "token";

/// Why there is no token.
#[derive(Debug, thiserror::Error)]
pub enum TokenError {
    /// Its file cannot be read or made.
    #[error("the token `{}` cannot be used: {source}; run as the user who owns the state folder", file.display())]
    Io {
        /// The file.
        file: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// Others may read it.
    #[error("the token `{}` may be read by others (mode {mode:03o}); remove it and start again, so that a new one is made", file.display())]
    Open {
        /// The file.
        file: PathBuf,
        /// Its permissions.
        mode: u32,
    },
    /// It is empty or too short to be one.
    #[error("the token `{}` is not one; remove it and start again, so that a new one is made", file.display())]
    Damaged {
        /// The file.
        file: PathBuf,
    },
}

/// The secret that the clients and the console show.
pub(crate) struct Token(String);

/// Reads the token of a state folder.
///
/// # Errors
/// [`TokenError`].
pub fn read_token(state: &Path) -> Result<String, TokenError> {
    let file = state.join(TOKEN_FILE);
    let text = std::fs::read_to_string(&file)
        .map_err(|source| TokenError::Io { file: file.clone(), source })?;
    let token = text.trim().to_owned();
    if token.len() < 32 { Err(TokenError::Damaged { file }) } else { Ok(token) }
}

impl Token {
    /// Reads the token of a state folder, or makes one there.
    pub fn of(state: &Path) -> Result<Self, TokenError> {
        let file = state.join(TOKEN_FILE);
        let failed = |source| TokenError::Io { file: file.clone(), source };
        match std::fs::metadata(&file) {
            Ok(meta) => {
                let mode = meta.permissions().mode() & 0o777;
                if mode & 0o077 != 0 {
                    return Err(TokenError::Open { file, mode });
                }
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => make(&file).map_err(failed)?,
            Err(error) => return Err(failed(error)),
        }
        read_token(state).map(Token)
    }

    /// Whether somebody shows the token; takes the same time for every guess.
    pub fn is(&self, shown: &str) -> bool {
        self.0.as_bytes().ct_eq(shown.trim().as_bytes()).into()
    }

    /// The sum by which a session is known. Nobody can make it without the token, which
    /// has 256 random bits; with another token no session is known any more.
    pub fn seal(&self, value: &str) -> Sha256 {
        sum_of_secret(&format!("vadegate session\n{}{value}", self.0))
    }
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Writes a new token beside its place and renames it there, so that a crash
/// leaves no half of one.
fn make(file: &Path) -> io::Result<()> {
    let mut random = [0u8; 32];
    getrandom::fill(&mut random).map_err(io::Error::from)?;
    let fresh = file.with_extension("new");
    let mut out: File =
        File::options().write(true).create(true).truncate(true).mode(0o600).open(&fresh)?;
    writeln!(out, "{}", hex(&random))?;
    out.sync_all()?;
    std::fs::rename(&fresh, file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_is_made_once_for_its_owner_alone() {
        let state = tempfile::tempdir().unwrap();
        let token = Token::of(state.path()).unwrap();
        let file = state.path().join(TOKEN_FILE);
        assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        let text = read_token(state.path()).unwrap();
        assert_eq!(text.len(), 64);
        assert!(token.is(&text) && Token::of(state.path()).unwrap().is(&text));
        assert!(!token.is(&text[1..]) && !token.is(""));
        std::fs::set_permissions(&file, PermissionsExt::from_mode(0o644)).unwrap();
        let refused = Token::of(state.path()).err().unwrap().to_string();
        assert!(refused.contains("may be read by others (mode 644)"), "{refused}");
    }
}
