//! Reading OpenPGP messages.

use std::fs::File;
use std::time::SystemTime;

use crate::work::openpgp::open::open;
use crate::work::unpack::budget::{Budget, Refusal};
use crate::work::unpack::kind::AtStart;
use crate::work::unpack::members::{Member, MemberKind, Members};

/// Reads what a message says; `name` is what it is called without that.
pub(crate) fn read(
    file: &File,
    name: &str,
    modified: Option<SystemTime>,
    budget: &Budget<'_>,
    members: &mut Members<'_>,
) -> Result<(), Refusal> {
    let member =
        Member { name: name.to_owned(), kind: MemberKind::File, modified, mode: None, link: None };
    let Some(wanted) = members.wants(&member)? else { return Ok(()) };
    let (key, password) = (members.key()?, members.password()?);
    let said = open(AtStart { file, at: 0 }, key.as_ref(), password.as_deref());
    let said = said.map_err(Refusal::Bad)?;
    let why = |error: &std::io::Error| budget.why(error, "the message");
    members.take(wanted, &mut budget.reader(said), why).map(drop)
}
