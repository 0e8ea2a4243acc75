//! The heart of Vadegate: configuration, patterns, arrivals, ledger, engine,
//! work and filing. Plain threads; nothing here serves, prints or reads
//! arguments.

pub mod act;
pub mod afar;
pub mod arrivals;
pub mod ask;
pub mod check;
pub mod config;
pub mod dues;
pub mod engine;
#[doc(hidden)]
pub mod fault;
pub mod files;
mod filing;
pub mod ledger;
pub mod pattern;
pub mod people;
pub(crate) mod settings;
pub mod tell;
pub mod watch;
pub mod words;
pub mod work;

/// SHA-256 of a file, in hexadecimal as `sha256sum` prints it.
///
/// # Errors
/// The file system's.
pub fn sum_of_file(path: &std::path::Path) -> std::io::Result<String> {
    let at = files::Reach::anywhere().at(&std::path::absolute(path)?)?;
    filing::moving::sum_of(&at).map(|sum| sum.to_string())
}

/// A sum that somebody wrote in hexadecimal.
///
/// # Errors
/// [`NoSha256`], when it is none.
pub fn sum_from_text(text: &str) -> Result<files::Sha256, NoSha256> {
    files::Sha256::from_hex(text.trim()).ok_or_else(|| NoSha256(text.trim().to_owned()))
}

/// A text is no SHA-256.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` is no SHA-256 in hexadecimal", .0.escape_debug())]
pub struct NoSha256(pub String);
