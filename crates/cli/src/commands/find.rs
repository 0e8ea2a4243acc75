//! `find`: one search over all that there is.

use vadegate_core::ask::{Hit, HitKind};

use crate::args::Find;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn find(client: &Client, args: &Find) -> Result<(), Failure> {
    let hits = client.search(&args.text)?;
    if args.json {
        return show::json(&hits);
    }
    if hits.is_empty() {
        return show::line(
            "Nothing of that is known. `vadegate ledger TEXT` looks through all entries.",
        );
    }
    let mut table = show::table(&["WHAT", "NAME", "ABOUT"]);
    for hit in &hits {
        table.add_row([show::cell(word(hit)), show::cell(&hit.title), show::cell(&hit.words)]);
    }
    show::unbroken(&mut table, &[0]);
    show::print(&table)
}

fn word(hit: &Hit) -> &'static str {
    match hit.kind {
        HitKind::Answer => "path",
        HitKind::Entry => "entry",
        HitKind::Gate => "gate",
        HitKind::Held => "held",
        HitKind::File => "arriving",
        HitKind::Output => "output",
    }
}
