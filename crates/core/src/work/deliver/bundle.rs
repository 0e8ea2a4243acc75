//! Archives of the files of a batch.
//!
//! The same files, in the same order, give the same bytes: of a member there is its name,
//! its content and the time of its file, and nothing of the machine.

use std::io::{self, Read, Write};

use flate2::write::GzEncoder;
use zip::ZipWriter;
use zip::write::StreamWriter;

use crate::files::compress::{Member, member_options, zstd_of};
use crate::work::openpgp::seal::Sealing;

/// What an archive is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum BundleKind {
    Zip,
    TarGz,
    TarZst,
}

impl BundleKind {
    /// By the ending of its name.
    pub fn by_name(name: &str) -> Option<Self> {
        let name = name.to_ascii_lowercase();
        let kinds = [
            (".zip", BundleKind::Zip),
            (".tar.gz", BundleKind::TarGz),
            (".tgz", BundleKind::TarGz),
            (".tar.zst", BundleKind::TarZst),
        ];
        kinds.into_iter().find(|(ending, _)| name.ends_with(ending)).map(|(_, kind)| kind)
    }
}

/// Permissions of a member: those of its source would be those of this machine.
pub(crate) const MEMBER_MODE: u32 = 0o644;

/// An archive that is being written.
pub(crate) enum Bundling {
    Zip(Box<ZipWriter<StreamWriter<Sealing>>>),
    TarGz(Box<tar::Builder<GzEncoder<Sealing>>>),
    TarZst(Box<tar::Builder<zstd::Encoder<'static, Sealing>>>),
}

impl Bundling {
    pub fn begin(kind: BundleKind, to: Sealing) -> io::Result<Self> {
        Ok(match kind {
            BundleKind::Zip => Bundling::Zip(Box::new(ZipWriter::new_stream(to))),
            BundleKind::TarGz => {
                let gzip = GzEncoder::new(to, flate2::Compression::default());
                Bundling::TarGz(Box::new(tar::Builder::new(gzip)))
            }
            BundleKind::TarZst => Bundling::TarZst(Box::new(tar::Builder::new(zstd_of(to, None)?))),
        })
    }

    /// Adds a member; `seconds` is its time since 1970.
    pub fn add(
        &mut self,
        member: &Member<'_>,
        seconds: i64,
        content: &mut dyn Read,
    ) -> io::Result<()> {
        match self {
            Bundling::Zip(zip) => {
                zip.start_file(member.name, member_options(member))?;
                io::copy(content, zip).map(drop)
            }
            Bundling::TarGz(tar) => append(tar, member, seconds, content),
            Bundling::TarZst(tar) => append(tar, member, seconds, content),
        }
    }

    /// Ends it, and gives what was staged.
    pub fn end(self) -> io::Result<Sealing> {
        match self {
            Bundling::Zip(zip) => Ok(zip.finish()?.into_inner()),
            Bundling::TarGz(tar) => tar.into_inner()?.finish(),
            Bundling::TarZst(tar) => tar.into_inner()?.finish(),
        }
    }
}

fn append<W: Write>(
    tar: &mut tar::Builder<W>,
    member: &Member<'_>,
    seconds: i64,
    content: &mut dyn Read,
) -> io::Result<()> {
    let mut header = tar::Header::new_gnu();
    header.set_size(member.bytes);
    header.set_mode(member.mode);
    // What was before 1970 the format cannot say.
    header.set_mtime(u64::try_from(seconds).unwrap_or(0));
    tar.append_data(&mut header, member.name, content)
}
