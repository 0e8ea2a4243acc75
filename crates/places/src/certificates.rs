//! Certificates of those who vouch for a server, from files of the user's.

use std::error::Error;
use std::path::{Path, PathBuf};

use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::{self, PemObject};

use crate::Fault;

/// Why there is no TLS.
#[derive(Debug, thiserror::Error)]
pub enum CertificateFault {
    /// A file has something else in it.
    #[error("the certificates in `{}` cannot be used: {why}", file.display())]
    Unfit {
        /// The file.
        file: PathBuf,
        /// What is wrong with what is in it.
        why: Box<dyn Error + Send + Sync>,
    },
    /// A file has no certificate in it.
    #[error("the certificates in `{}` cannot be used: there is none in it", .0.display())]
    None(PathBuf),
    /// The library has no version of TLS.
    #[error(transparent)]
    NoTls(#[from] rustls::Error),
}

impl CertificateFault {
    pub(crate) fn unfit(file: &Path, why: impl Error + Send + Sync + 'static) -> Self {
        CertificateFault::Unfit { file: file.to_owned(), why: Box::new(why) }
    }
}

impl From<CertificateFault> for Fault {
    fn from(fault: CertificateFault) -> Self {
        Fault::NotLetIn(fault.to_string())
    }
}

/// The certificates in a PEM file: one at least.
///
/// # Errors
/// [`CertificateFault`], when it cannot be read, or there is none in it.
pub fn certificates_in(file: &Path) -> Result<Vec<CertificateDer<'static>>, CertificateFault> {
    let unfit = |error: pem::Error| CertificateFault::unfit(file, error);
    let found = CertificateDer::pem_file_iter(file).map_err(unfit)?;
    let found = found.collect::<Result<Vec<_>, _>>().map_err(unfit)?;
    match found.is_empty() {
        true => Err(CertificateFault::None(file.to_owned())),
        false => Ok(found),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_without_certificates_is_told_with_its_path_and_what_is_in_it() {
        let home = tempfile::tempdir().expect("a folder");
        let file = home.path().join("trusted.pem");
        let told = || certificates_in(&file).expect_err("nothing is there").to_string();
        assert!(told().contains("trusted.pem` cannot be used: "), "{}", told());
        std::fs::write(&file, "no certificate\n").expect("written");
        assert!(matches!(certificates_in(&file), Err(CertificateFault::None(_))), "{}", told());
        let cut = "-----BEGIN CERTIFICATE-----\nTWFkZSB1cA==\n";
        std::fs::write(&file, cut).expect("written");
        assert!(
            matches!(certificates_in(&file), Err(CertificateFault::Unfit { .. })),
            "{}",
            told()
        );
        // Whether it is one that somebody signed is found by who uses it.
        std::fs::write(&file, format!("{cut}-----END CERTIFICATE-----\n")).expect("written");
        assert_eq!(certificates_in(&file).expect("one").len(), 1);
        assert!(matches!(Fault::from(CertificateFault::None(file)), Fault::NotLetIn(_)));
    }
}
