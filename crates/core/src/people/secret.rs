//! Secrets that nobody has to remember: 256 random bits, of which only a sum is kept.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rand_core::{OsRng, RngCore};

use crate::files::sha256::{Sha256, Sum};

/// What every token begins with, so that one that was left somewhere is found.
pub const TOKEN_BEGIN: &str = "vadegate_";

/// The system gives no random numbers: no secret can be made.
#[derive(Debug, thiserror::Error)]
#[error("the system gives no random numbers: {0}")]
pub struct NoRandom(rand_core::Error);

/// Fills with random bytes of the system.
pub(crate) fn fill(bytes: &mut [u8]) -> Result<(), NoRandom> {
    OsRng.try_fill_bytes(bytes).map_err(NoRandom)
}

/// A new secret, as text.
///
/// # Errors
/// [`NoRandom`].
pub fn new_secret() -> Result<String, NoRandom> {
    let mut random = [0; 32];
    fill(&mut random)?;
    Ok(URL_SAFE_NO_PAD.encode(random))
}

/// What is kept of a secret. It has so many random bits that a plain sum tells nothing of it.
pub fn sum_of_secret(secret: &str) -> Sha256 {
    Sum::of(secret.as_bytes())
}
