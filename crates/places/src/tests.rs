//! What comes from outside, from a configuration as from a server, whatever it is.

use proptest::prelude::*;
use proptest::sample::select;

use crate::address::{Address, Scheme};
use crate::ftp::listing as ftp;
use crate::paths::{check_path, join};
use crate::webdav::listing as webdav;
use crate::{Kind, Listed};

/// Pieces of which addresses are made, and such that mean something in one.
const PIECES: [&str; 24] = [
    "sftp",
    "ftps",
    "s3",
    "webdavs",
    "gopher",
    "://",
    "keeper",
    ":",
    "@",
    "files.sound.example",
    "/",
    "~",
    "..",
    "%2e%2e",
    "%0d%0a",
    "%00",
    "%ff",
    "?",
    "#",
    "[::1]",
    "65536",
    "22",
    "ö",
    " ",
];

fn some_of(pieces: &'static [&'static str], most: usize) -> impl Strategy<Value = String> {
    prop::collection::vec(select(pieces), 0..most).prop_map(|parts| parts.concat())
}

/// An address that is good, in its parts.
fn address() -> impl Strategy<Value = Address> {
    let scheme = select(
        &[
            Scheme::Sftp,
            Scheme::Ftp,
            Scheme::Ftps,
            Scheme::Bucket,
            Scheme::WebDav { secure: true },
            Scheme::WebDav { secure: false },
        ][..],
    );
    let user = prop::option::of("[a-z@:/%?#ö ][a-z@:/%?#ö ]{0,6}");
    let host = select(&["files.sound.example", "readings", "127.0.0.1", "::1"][..]);
    let name = "[a-z%?#ö~ \\\\'\"+&=;@:-]{1,6}";
    let folder = prop::collection::vec(name, 0..4)
        .prop_filter("`~` is the home", |names: &Vec<String>| {
            names.first().is_none_or(|name| name != "~")
        });
    (scheme, user, host, prop::option::of(1024..u16::MAX), folder, any::<bool>()).prop_map(
        |(scheme, user, host, port, folder, home)| {
            let folder = folder.join("/");
            Address {
                scheme,
                user,
                host: host.to_owned(),
                port,
                folder: if home && !folder.is_empty() { folder } else { format!("/{folder}") },
            }
        },
    )
}

/// Whether a name can do nothing but name.
fn is_harmless(name: &str) -> bool {
    !name.is_empty()
        && !matches!(name, "." | "..")
        && !name.contains('/')
        && !name.chars().any(|letter| letter.is_control() || letter == '\u{fffd}')
}

const FACTS: [&str; 20] = [
    "type=",
    "file",
    "dir",
    "cdir",
    "OS.unix=slink:/x",
    ";",
    "size=",
    "88",
    "-1",
    "99999999999999999999",
    "modify=",
    "20260304123015",
    "20269999999999",
    ".5",
    " ",
    "; ",
    "tide.csv",
    "..",
    "a/b",
    "\r\n",
];

const LINES: [&str; 20] = [
    "-rw-r--r--",
    "drwxr-xr-x",
    "lrwxrwxrwx",
    " ",
    "   1 ",
    "keeper",
    "88",
    "99999999999999999999",
    "Mar",
    "Feb",
    " 4 ",
    "30",
    "12:30",
    "2026",
    "03-04-26",
    "13-45-99",
    "12:30PM",
    "<DIR>",
    "two words.csv",
    "ö",
];

const XML: [&str; 26] = [
    "<D:response>",
    "</D:response>",
    "<D:href>",
    "</D:href>",
    "/out/",
    "tide.csv",
    "%2e%2e",
    "%ff",
    "../",
    "http://h/",
    "<D:resourcetype/>",
    "<D:resourcetype><D:collection/></D:resourcetype>",
    "<D:getcontentlength>",
    "</D:getcontentlength>",
    "88",
    "-1",
    "<D:getetag>",
    "</D:getetag>",
    "W/\"x\"",
    "&amp;",
    "&#10;",
    "&#xD800;",
    "&none;",
    "<![CDATA[x]]>",
    "<!-- -->",
    "<",
];

proptest! {
    #[test]
    fn a_text_is_a_good_address_or_is_refused(text in some_of(&PIECES, 12)) {
        if let Ok(address) = Address::parse(&text) {
            prop_assert!(check_path(address.folder.trim_start_matches('/')).is_ok(), "{address:?}");
            prop_assert!(!address.host.is_empty());
            let said = address.user.iter().chain([&address.host]).flat_map(|part| part.chars());
            prop_assert!(!said.into_iter().any(char::is_control), "{address:?}");
        }
    }

    #[test]
    fn an_address_is_read_as_it_is_written(address in address()) {
        let written = address.to_string();
        prop_assert_eq!(Address::parse(&written), Ok(address), "{}", written);
    }

    #[test]
    fn what_is_below_a_place_stays_below_its_folder(
        address in address(),
        names in prop::collection::vec(any::<String>(), 1..4),
    ) {
        let path = names.iter().fold(String::new(), |path, name| join(&path, name));
        if check_path(&path).is_ok() {
            prop_assert!(path.is_empty() || path.split('/').all(is_harmless), "{:?}", path);
            let there = address.on_server(&path);
            prop_assert!(!there.starts_with('-'), "{}", there);
            prop_assert!(there.split('/').all(|part| part != ".."), "{}", there);
            let folder = address.folder.trim_end_matches('/');
            let below = there.strip_prefix("./").unwrap_or(&there);
            prop_assert!(below == "." || below.starts_with(folder), "{}", there);
        }
    }

    #[test]
    fn a_line_of_facts_is_read_or_left_out(line in some_of(&FACTS, 10)) {
        if let Some(Listed { name, kind, bytes, .. }) = ftp::of_facts(&line) {
            prop_assert!(!matches!(name.as_str(), "." | ".."));
            prop_assert!(kind != Kind::Folder || bytes == 0);
        }
    }

    #[test]
    fn facts_of_a_file_are_read_whatever_it_is_called(
        name in "[^\\x00\\r\\n]{1,12}",
        bytes in any::<u64>(),
        modified in 0..4_102_444_800_i64,
    ) {
        prop_assume!(!matches!(name.as_str(), "." | ".."));
        let at = ftp::written(modified).unwrap();
        let listed = ftp::of_facts(&format!("Type=file;Size={bytes};Modify={at}; {name}\r\n")).unwrap();
        let expected = Listed { name, kind: Kind::File, bytes, modified: Some(modified), tag: None };
        prop_assert_eq!(listed, expected);
    }

    #[test]
    fn a_line_without_a_standard_is_read_or_left_out(line in some_of(&LINES, 14)) {
        if let Some(listed) = ftp::of_list(&line) {
            prop_assert!(!matches!(listed.name.as_str(), "." | ".."));
            prop_assert_eq!(listed.modified, None);
        }
    }

    #[test]
    fn a_body_of_a_listing_is_read_or_refused(body in some_of(&XML, 24)) {
        let mut seen = 0_usize;
        let _ = webdav::read(body.as_bytes(), &mut |path, listed| {
            seen += 1;
            // A name is the last part of a path, whatever the server says it is.
            assert!(!listed.name.contains('/') && path.ends_with(&listed.name), "{path}: {listed:?}");
            true
        });
        prop_assert!(seen <= body.matches("</D:response>").count());
    }
}
