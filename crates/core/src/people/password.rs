//! Passwords: Argon2id (RFC 9106), with the parameters that section 4 of it recommends where
//! memory is bounded: 64 MiB, three passes, four lanes.

use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use argon2::{Algorithm, Argon2, Params, Version};

use crate::people::secret::NoRandom;

/// The shortest password that is taken, in characters.
pub const SHORTEST: usize = 12;

/// The longest, in bytes: one that is read must not cost more than the check of it.
pub const LONGEST: usize = 1024;

fn argon2() -> Argon2<'static> {
    // These are within the bounds of the crate.
    let parameters = Params::new(64 * 1024, 3, 4, None).unwrap_or_default();
    Argon2::new(Algorithm::Argon2id, Version::V0x13, parameters)
}

/// Why a password is not taken; none when it is.
pub fn fault(name: &str, password: &str) -> Option<String> {
    if password.chars().count() < SHORTEST {
        return Some(format!("the password is too short; it has {SHORTEST} characters at least"));
    }
    if password.len() > LONGEST {
        return Some(format!("the password is too long; it has {LONGEST} bytes at the most"));
    }
    if password.chars().any(char::is_control) {
        return Some("the password has a control character; nobody could type it again".into());
    }
    let lower = password.to_lowercase();
    let first = lower.chars().next();
    if lower.contains(&name.to_lowercase()) && lower.len() < name.len() + SHORTEST / 2 {
        return Some("the password is hardly more than the name; take another".into());
    }
    if lower.chars().all(|c| Some(c) == first) {
        return Some("the password is one character again and again; take another".into());
    }
    None
}

/// Why nothing can be kept of a password.
#[derive(Debug, thiserror::Error)]
pub enum NotHashed {
    /// There is no salt for it.
    #[error(transparent)]
    NoRandom(#[from] NoRandom),
    /// Its salt, or it, is none that can be used.
    #[error("the password cannot be kept: {0}")]
    Refused(argon2::password_hash::Error),
}

/// What is kept of a password, as a PHC string.
///
/// # Errors
/// [`NotHashed`].
pub fn hash(password: &str) -> Result<String, NotHashed> {
    let mut random = [0; 16];
    super::secret::fill(&mut random)?;
    let salt = SaltString::encode_b64(&random).map_err(NotHashed::Refused)?;
    let hash = argon2().hash_password(password.as_bytes(), &salt);
    Ok(hash.map_err(NotHashed::Refused)?.to_string())
}

/// What an unknown name's password is held against: it costs as much, and fits none. What stands
/// where the hash of a password would is of none.
const OF_NOBODY: &str = "$argon2id$v=19$m=65536,t=3,p=4$bm9ib2R5IGlzIHRoZXJlLg$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";

/// Whether a password is the one of which this was kept. Without one it takes as long, so that
/// nobody learns from the time which names there are.
pub fn verify(password: &str, kept: Option<&str>) -> bool {
    let text = kept.unwrap_or(OF_NOBODY);
    let fits = password.len() <= LONGEST
        && PasswordHash::new(text)
            .is_ok_and(|kept| argon2().verify_password(password.as_bytes(), &kept).is_ok());
    fits && kept.is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_known_again_and_no_other_is() {
        let kept = hash("the tide waits for no one").unwrap();
        assert!(kept.starts_with("$argon2id$v=19$m=65536,t=3,p=4$"), "{kept}");
        assert!(verify("the tide waits for no one", Some(&kept)));
        assert!(!verify("the tide waits for no one ", Some(&kept)));
        assert_ne!(kept, hash("the tide waits for no one").unwrap(), "each has a salt of its own");
    }

    #[test]
    fn an_unknown_name_costs_as_much_as_one_that_is_known() {
        let of_nobody = PasswordHash::new(OF_NOBODY).unwrap();
        let kept = hash("the tide waits for no one").unwrap();
        let kept = PasswordHash::new(&kept).unwrap();
        assert_eq!(
            (of_nobody.algorithm, of_nobody.version, of_nobody.params.to_string()),
            (kept.algorithm, kept.version, kept.params.to_string())
        );
        let lengths = |of: &PasswordHash<'_>| (of.salt.unwrap().len(), of.hash.unwrap().len());
        assert_eq!(lengths(&of_nobody), lengths(&kept));
        // Not refused as no hash, which would take no time: none is what stands there.
        let refused = argon2().verify_password(b"nobody's password", &of_nobody);
        assert_eq!(refused, Err(argon2::password_hash::Error::Password));
        assert!(!verify("nobody's password", None), "nobody signs in as nobody");
    }

    #[test]
    fn weak_passwords_are_refused_with_the_reason() {
        for (password, reason) in [
            ("short", "too short"),
            (&"x".repeat(1025), "too long"),
            ("with a\ttabulator", "control character"),
            ("maraharbour1", "hardly more than the name"),
            ("aaaaaaaaaaaaaa", "again and again"),
        ] {
            let fault = fault("maraharbour", password).unwrap_or_default();
            assert!(fault.contains(reason), "{password}: {fault}");
        }
        assert_eq!(fault("mara", "the tide waits for no one"), None);
    }
}
