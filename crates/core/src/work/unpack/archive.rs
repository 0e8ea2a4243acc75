//! Unpacking an archive, and the archives in it.

use std::fs::File;
use std::time::SystemTime;

use crate::files::kept_open::KeptOpen;
use crate::words::counted;
use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::kind::{Kind, kind_of};
use crate::work::unpack::members::{LeftOut, Members, Opening};
use crate::work::unpack::names::stem;
use crate::work::unpack::read_single::Single;
use crate::work::unpack::read_tar::read as read_tar;
use crate::work::unpack::read_zip::read as read_zip;
use crate::work::unpack::seven::parent::read as read_seven;
use crate::work::unpack::store::{Kept, Store};

/// What came out of an archive.
#[derive(Debug)]
pub(crate) struct Unpacked {
    pub kind: Kind,
    /// Members that it has, with those of archives in it.
    pub members: u64,
    /// Bytes that came out.
    pub bytes: u64,
    pub kept: Vec<Kept>,
    pub left_out: LeftOut,
    /// Archives in it that were unpacked.
    pub nested: u64,
}

impl Unpacked {
    /// What came of an archive of so many bytes, in words.
    pub fn words(&self, packed: u64) -> String {
        let left = &self.left_out;
        let counts = [
            (left.unasked, "not asked for"),
            (left.junk, "left by other programs"),
            (left.links, "a link"),
            (left.special, "a device or a pipe"),
            (left.doubled, "of a name that was there"),
        ];
        let left: Vec<String> = counts
            .iter()
            .filter(|(count, _)| *count > 0)
            .map(|(count, what)| format!("{count} {what}"))
            .collect();
        let left = match left.is_empty() {
            true => String::new(),
            false => format!(", left out: {}", left.join(", ")),
        };
        let nested = match self.nested {
            0 => String::new(),
            count => format!(", {} in it unpacked", counted(count, "archive", "archives")),
        };
        let files = counted(self.kept.len() as u64, "file", "files");
        let kind = self.kind.word();
        let (packed, bytes) =
            (counted(packed, "byte", "bytes"), counted(self.bytes, "byte", "bytes"));
        format!("{kind} of {packed}: {files}, {bytes}{nested}{left}")
    }
}

/// Unpacks an archive called `name` into a store.
pub(crate) fn unpack(
    file: &File,
    name: &str,
    modified: Option<SystemTime>,
    opening: &Opening<'_>,
    budget: &Budget<'_>,
    store: &mut dyn Store,
) -> Result<Unpacked, Refusal> {
    let kind = kind_of(file).map_err(Refusal::Source)?.ok_or_else(|| {
        Refusal::Bad(
            "it is no archive that is known: zip, 7z, tar, gz, bz2, xz, zst or an OpenPGP message"
                .into(),
        )
    })?;
    let _open = KeptOpen::begin();
    let mut members = Members::new(opening, budget, store);
    read_one(file, kind, stem(name), modified, budget, &mut members)?;
    let nested = descend(&mut members, 0, opening.choice.nested, budget)?;
    Ok(Unpacked {
        kind,
        members: budget.members(),
        bytes: budget.out(),
        left_out: members.left_out.clone(),
        kept: members.kept.into_iter().flatten().collect(),
        nested,
    })
}

fn read_one(
    file: &File,
    kind: Kind,
    name: &str,
    modified: Option<SystemTime>,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let single = Single { file, name, modified };
    match kind {
        Kind::Zip => read_zip(file, budget, members),
        Kind::Tar(stream) => read_tar(file, stream, budget, members),
        Kind::Seven => read_seven(file, budget, members),
        Kind::Message => single.decrypt(budget, members),
        Kind::Single(stream) => single.unpack(stream, budget, members),
    }
}

/// Unpacks archives among the members from number `from` on, so deep; gives how many.
fn descend(
    members: &mut Members<'_>,
    from: usize,
    deep: u32,
    budget: &Budget<'_>,
) -> Result<u64, Refusal> {
    let Some(deeper) = deep.checked_sub(1) else { return Ok(0) };
    members.deep = deeper;
    let mut nested = 0;
    for (number, kept) in members.kept_from(from) {
        let Some(file) = members.open(&kept)? else { continue };
        let Some(kind) = kind_of(&file).map_err(Refusal::Output)? else {
            members.leave_unless_asked(number)?;
            continue;
        };
        let name = kept.parts.last().cloned().unwrap_or_default();
        let behind = members.count();
        let below = members.descend(number)?;
        let read = read_one(&file, kind, stem(&name), None, budget, members);
        read.map_err(|refusal| match refusal {
            Refusal::Bad(why) => Refusal::Bad(format!("in `{}`: {why}", kept.parts.join("/"))),
            other => other,
        })?;
        nested += 1 + descend(members, behind, deeper, budget)?;
        members.ascend(below);
        members.deep = deeper;
    }
    Ok(nested)
}
