//! One gate for each work, as the contract needs it: what it takes, what it makes, and what
//! it must refuse. A new work is tested by standing here.

use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;

use vadegate_core::ledger::WorkKind;

use crate::databases::Db;
use crate::support::TestHome;

/// A gate of one work.
pub struct Fixture {
    pub kind: WorkKind,
    /// The work's section; `@HERE@` is the test's folder.
    pub section: &'static str,
    /// What of the section names a place, and the same outside the roots.
    pub outside: &'static [(&'static str, &'static str)],
    /// The section with another place in it, where the work is proven.
    pub elsewhere: Option<&'static str>,
    /// Whether an interrupted entry may be held.
    pub may_hold: bool,
    /// Whether workers ask for the entries.
    pub pulled: bool,
    /// Why the bad file is held, if this work reads files.
    pub refuses: Option<&'static str>,
    /// The content of a file as this work takes it, made of its name and content.
    pub wraps: fn(&str, &str) -> Vec<u8>,
    /// What was made of which files, one line for each effect.
    pub made: fn(&TestHome) -> Vec<String>,
    /// What is to be made of a file: its name and content.
    pub expected: fn(&str, &str) -> Vec<String>,
}

/// Files that every work can work.
pub const GOOD: [(&str, &str); 3] =
    [("a.csv", "t,l\n1,10\n2,20\n"), ("b.csv", "t,l\n3,30\n"), ("c.csv", "t,l\n4,40\n")];

/// A file that no work on tables can work.
pub const BAD: (&str, &str) = ("bad.csv", "t,l\n7\n");

fn rows(_: &str, content: &str) -> Vec<String> {
    content.lines().skip(1).map(str::to_owned).collect()
}

fn name(name: &str, _: &str) -> Vec<String> {
    vec![name.to_owned()]
}

fn merged(coast: &TestHome) -> Vec<String> {
    let all = fs::read_to_string(coast.path("out/all.csv")).unwrap_or_default();
    rows("", &all)
}

fn loaded(coast: &TestHome) -> Vec<String> {
    if !coast.path("out/sound.db").is_file() {
        return Vec::new();
    }
    let db = Db::sqlite(&coast.path("out/sound.db"));
    let there = db.rows("SELECT count(*) FROM sqlite_schema WHERE name = 'tides'");
    if there == ["0"] {
        return Vec::new();
    }
    db.rows("SELECT t || ',' || l FROM tides")
}

fn ran(coast: &TestHome) -> Vec<String> {
    let ran = fs::read_to_string(coast.path("ran")).unwrap_or_default();
    ran.lines().map(str::to_owned).collect()
}

fn delivered(coast: &TestHome) -> Vec<String> {
    let read = |path: String| {
        let bytes = fs::read(coast.path(&path)).unwrap();
        let content = match path.ends_with(".gz") {
            true => io::read_to_string(flate2::read::GzDecoder::new(&bytes[..])).unwrap(),
            false => String::from_utf8(bytes).unwrap(),
        };
        format!("{}: {content}", path.trim_start_matches("out/"))
    };
    let seen = coast.files("out").into_iter().filter(|path| !path.contains("/."));
    seen.map(read).collect()
}

fn sent(coast: &TestHome) -> Vec<String> {
    let taken = crate::receiver::of(coast).taken();
    taken.iter().map(|one| one.path.rsplit('/').next().unwrap_or_default().to_owned()).collect()
}

fn as_it_is(_: &str, content: &str) -> Vec<u8> {
    content.as_bytes().to_vec()
}

/// A zip archive with the content twice, once below a folder.
fn zipped(_: &str, content: &str) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(io::Cursor::new(Vec::new()));
    for name in ["rows.csv", "below/more.csv"] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(content.as_bytes()).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

fn unpacked(coast: &TestHome) -> Vec<String> {
    let seen = coast.files("out").into_iter().filter(|path| !path.contains("/."));
    seen.map(|path| format!("{path}: {}", coast.read(&path))).collect()
}

/// As the fixtures of `edit` have it, of which the second edits in place.
fn edited(content: &str) -> String {
    let (header, rows) = content.split_once('\n').unwrap();
    format!("{header}\n{}", rows.replace(',', ";"))
}

/// A fixture of each work.
pub const FIXTURES: &[Fixture] = &[
    Fixture {
        kind: WorkKind::Merge,
        section: "into = \"out/all.csv\"\nalso_all = \"all/all.csv\"",
        outside: &[("out/all.csv", "/elsewhere/all.csv"), ("all/all.csv", "/elsewhere/all.csv")],
        elsewhere: None,
        may_hold: false,
        pulled: false,
        refuses: Some("line 2"),
        wraps: as_it_is,
        made: merged,
        expected: rows,
    },
    Fixture {
        kind: WorkKind::Load,
        section: "to = \"sqlite:out/sound.db\"\ntable = \"tides\"\nif_missing = \"create\"\n\
                  add = { entry = \"<entry>\" }\nmisfits = \"set aside\"\nrejects = \"aside/rejects.csv\"",
        outside: &[
            ("sqlite:out/sound.db", "sqlite:/elsewhere/sound.db"),
            ("aside/rejects.csv", "/elsewhere/rejects.csv"),
        ],
        elsewhere: Some(
            "to = \"sqlite:out/other.db\"\ntable = \"tides\"\nif_missing = \"create\"\n\
             add = { entry = \"<entry>\" }",
        ),
        may_hold: false,
        pulled: false,
        refuses: Some("line 2"),
        wraps: as_it_is,
        made: loaded,
        expected: rows,
    },
    Fixture {
        kind: WorkKind::Unpack,
        section: "into = \"out/<stem>\"",
        outside: &[("out/<stem>", "/elsewhere/<stem>")],
        elsewhere: None,
        may_hold: false,
        pulled: false,
        refuses: Some("no archive that is known"),
        wraps: zipped,
        made: unpacked,
        expected: |name, content| {
            let stem = name.trim_end_matches(".csv");
            let members = ["below/more.csv", "rows.csv"];
            members.map(|member| format!("out/{stem}/{member}: {content}")).to_vec()
        },
    },
    Fixture {
        kind: WorkKind::Deliver,
        section: "to = [\"out/plain\", { into = \"out/packed/<stem>.gz\", compress = \"gzip\" }]",
        outside: &[("\"out/plain", "\"/elsewhere"), ("out/packed/<stem>", "/elsewhere/<stem>")],
        elsewhere: None,
        may_hold: false,
        pulled: false,
        refuses: None,
        wraps: as_it_is,
        made: delivered,
        expected: |name, content| {
            let stem = name.trim_end_matches(".csv");
            vec![format!("packed/{stem}.gz: {content}"), format!("plain/{name}: {content}")]
        },
    },
    Fixture {
        kind: WorkKind::Edit,
        section: "into = \"out/<name>\"\nmissing = \"hold\"\n\
                  replace = [{ find = '(\\d),(\\d+)', with = '$1;$2', regex = true }]",
        outside: &[("out/<name>", "/elsewhere/<name>")],
        elsewhere: None,
        may_hold: false,
        pulled: false,
        refuses: Some("is not in it"),
        wraps: as_it_is,
        made: unpacked,
        expected: |name, content| vec![format!("out/{name}: {}", edited(content))],
    },
    Fixture {
        kind: WorkKind::Edit,
        section: "missing = \"hold\"\n\
                  replace = [{ find = '(\\d),(\\d+)', with = '$1;$2', regex = true }]",
        outside: &[],
        elsewhere: None,
        may_hold: false,
        pulled: false,
        refuses: Some("is not in it"),
        wraps: as_it_is,
        made: |coast| {
            let seen = coast.files("drops").into_iter().filter(|path| !path.contains("/."));
            let all = seen.map(|path| format!("{path}: {}", coast.read(&path)));
            all.filter(|one| one.contains(';')).collect()
        },
        expected: |name, content| vec![format!("drops/{name}: {}", edited(content))],
    },
    Fixture {
        kind: WorkKind::Run,
        section: "program = \"bin/job\"",
        outside: &[],
        elsewhere: None,
        may_hold: true,
        pulled: false,
        refuses: None,
        wraps: as_it_is,
        made: ran,
        expected: name,
    },
    Fixture {
        kind: WorkKind::Send,
        section: "to = \"@RECEIVER@/v1/in/<name>\"\nask = \"@RECEIVER@/v1/by-sum/<sha256>\"\n\
                  wait = \"20ms\"\nwait_up_to = \"50ms\"",
        outside: &[],
        elsewhere: Some(
            "to = \"@RECEIVER@/v2/in/<name>\"\nask = \"@RECEIVER@/v2/by-sum/<sha256>\"",
        ),
        may_hold: false,
        pulled: false,
        refuses: None,
        wraps: as_it_is,
        made: sent,
        expected: name,
    },
    Fixture {
        kind: WorkKind::Offer,
        section: "lease = \"1m\"",
        outside: &[],
        elsewhere: None,
        may_hold: true,
        pulled: true,
        refuses: None,
        wraps: as_it_is,
        made: |_| Vec::new(),
        expected: |_, _| Vec::new(),
    },
];

impl Fixture {
    /// A home with the gate of this work, whose section has been changed by `change`.
    pub fn home(&self, change: impl Fn(&str) -> String) -> TestHome {
        let home = TestHome::new("");
        self.configure(&home, &change(self.section));
        home.folder("drops");
        home.folder("bin");
        let job = "#!/bin/sh\necho \"$VADEGATE_NAME\" >> ran\n";
        fs::write(home.path("bin/job"), job).unwrap();
        fs::set_permissions(home.path("bin/job"), PermissionsExt::from_mode(0o755)).unwrap();
        home
    }

    /// Writes the configuration with this section.
    pub fn configure(&self, home: &TestHome, section: &str) {
        let section = match section.contains("@RECEIVER@") {
            true => section.replace("@RECEIVER@", &crate::receiver::of(home).base),
            false => section.to_owned(),
        };
        home.configure(&format!(
            "[gate.tide]\ndrop = \"drops\"\nsettle = \"0s\"\norder = \"name\"\n\
             archive = {{ into = \"archive\" }}\n[gate.tide.{}]\n{section}\n",
            self.kind
        ));
    }

    /// What must have been made of these files.
    pub fn expects<'f>(
        &self,
        files: impl IntoIterator<Item = &'f (&'f str, &'f str)>,
    ) -> Vec<String> {
        let mut all: Vec<String> =
            files.into_iter().flat_map(|(name, content)| (self.expected)(name, content)).collect();
        all.sort();
        all
    }

    /// Drops files, as this work takes them.
    pub fn drop_all(&self, home: &TestHome, files: &[(&str, &str)]) {
        for (name, content) in files {
            home.drop(&format!("drops/{name}"), (self.wraps)(name, content));
        }
    }

    /// What has been made.
    pub fn has_made(&self, home: &TestHome) -> Vec<String> {
        let mut made = (self.made)(home);
        made.sort();
        made
    }
}
