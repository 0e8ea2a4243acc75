//! Reading what has one file in it: files that are compressed, and OpenPGP messages.

use std::fs::File;
use std::io::{self, Read};
use std::time::SystemTime;

use crate::work::openpgp::open::open as open_message;
use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::kind::{AtStart, Stream, open};
use crate::work::unpack::members::{Member, MemberKind, Members, Wanted};

/// A file, and what it is called without what was done to it.
pub(crate) struct Single<'a> {
    pub file: &'a File,
    pub name: &'a str,
    pub modified: Option<SystemTime>,
}

impl Single<'_> {
    fn wanted(&self, members: &mut Members<'_>) -> Result<Option<Wanted>, Refusal> {
        let (name, modified) = (self.name.to_owned(), self.modified);
        let kind = MemberKind::File;
        members.wants(&Member { name, kind, modified, mode: None, link: None })
    }

    fn bytes(&self) -> AtStart<'_> {
        AtStart { file: self.file, at: 0 }
    }

    /// Reads a file that is compressed.
    pub fn unpack(
        &self,
        stream: Stream,
        budget: &Budget<'_>,
        members: &mut Members<'_>,
    ) -> Result<(), Refusal> {
        let Some(wanted) = self.wanted(members)? else { return Ok(()) };
        let why = |error: &io::Error| budget.why(error, "what is compressed");
        let plain = open(stream, self.bytes()).map_err(|error| why(&error))?;
        take(wanted, plain, why, budget, members)
    }

    /// Reads what a message says.
    pub fn decrypt(&self, budget: &Budget<'_>, members: &mut Members<'_>) -> Result<(), Refusal> {
        let Some(wanted) = self.wanted(members)? else { return Ok(()) };
        let (key, password) = (members.key()?, members.password()?);
        let plain = open_message(self.bytes(), key.as_ref(), password.as_deref());
        let why = |error: &io::Error| budget.why(error, "the message");
        take(wanted, plain?, why, budget, members)
    }
}

fn take(
    wanted: Wanted,
    plain: impl Read,
    why: impl Fn(&io::Error) -> Refusal,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    members.take(wanted, &mut budget.reader(plain), why).map(drop)
}
