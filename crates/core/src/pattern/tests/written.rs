//! What is written by a template, whatever the names of files are.

use jiff::civil::date;
use proptest::prelude::*;
use proptest::sample::select;

use crate::pattern::Fields;
use crate::pattern::template::{Builtins, Template};

/// Values that somebody who names files could choose.
const VALUES: [&str; 14] = [
    "",
    ".",
    "..",
    "/",
    "../..",
    "/etc",
    "a/../b",
    "a\0b",
    "ullin",
    "2026-01-31",
    "...",
    "\n",
    "~",
    "<name>",
];

const PIECES: [&str; 12] = [
    "out/",
    "<station>",
    "<day:%Y>",
    ".",
    "<name>",
    "<folder>/",
    "-",
    "<stem>",
    "<ext>",
    "<gate>",
    ".csv",
    "/",
];

fn builtins(path: &str) -> Builtins<'_> {
    let now = date(2026, 1, 31).at(6, 0, 0, 0);
    Builtins {
        path,
        gate: "tide",
        entry: Some(7),
        batch: None,
        sha256: None,
        seen: now,
        modified: now,
        now,
    }
}

proptest! {
    #[test]
    fn no_value_leads_a_path_elsewhere(
        pieces in prop::collection::vec(select(&PIECES[..]), 1..7),
        station in select(&VALUES[..]),
        below in prop::collection::vec(select(&VALUES[..]), 1..4),
    ) {
        let source = format!("/srv/coast/{}", pieces.concat());
        let Ok(template) = Template::parse(&source) else { return Ok(()) };
        let fields: Fields =
            [("station", station), ("day", "2026-01-31")].map(|(name, value)| (name.into(), value.into())).into();
        let path = below.join("/");
        let Ok(written) = template.path(&fields, &builtins(&path)) else { return Ok(()) };
        prop_assert!(written.starts_with("/srv/coast/"), "{source} became {written}");
        prop_assert!(!written.split('/').any(|part| part == ".."), "{source} became {written}");
        prop_assert!(!written.contains('\0'), "{source} became {written:?}");
        // But for `<folder>` a value makes no folder.
        if !source.contains("<folder>") {
            prop_assert_eq!(written.matches('/').count(), source.matches('/').count(), "{} of {}", written, source);
        }
    }

    #[test]
    fn a_template_is_read_or_says_where_it_is_wrong(text in "[<>a-z:%Y/.\\\\{}]{0,14}|\\PC{0,8}") {
        if let Ok(template) = Template::parse(&text) {
            prop_assert_eq!(template.source(), text.as_str());
            let again = Template::parse(template.source()).unwrap();
            prop_assert_eq!(again.example(), template.example());
        }
    }
}
