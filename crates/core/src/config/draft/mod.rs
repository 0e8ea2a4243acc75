//! A new gate: its text, from what a person chose. What is proposed for it comes from a folder
//! and a file in it.

pub(crate) mod names;

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::Path;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_tables::sample::Sample;

use crate::settings::written::key;
pub use crate::settings::written::quoted;

/// A new gate as it was chosen. Paths are written as a configuration has them: relative ones
/// start at its folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GateDraft {
    /// Its name.
    pub name: String,
    /// Its drop folder.
    pub drop: String,
    /// Which files it takes; all when there is none.
    #[serde(default)]
    pub take: Vec<String>,
    /// What is done with them.
    #[serde(default)]
    pub work: DraftWork,
    /// Where worked files go; where they lie when it is not said.
    #[serde(default)]
    pub archive: Option<String>,
    /// Where held files go; where they lie when it is not said.
    #[serde(default)]
    pub hold: Option<String>,
}

/// What a new gate does with its files.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase", deny_unknown_fields)]
pub enum DraftWork {
    /// It files them, and nothing else.
    #[default]
    File,
    /// Their rows become one table.
    Merge {
        /// The file of that table.
        into: String,
        /// How the files are read.
        table: DraftTable,
    },
    /// Their rows are loaded into a table of a database.
    Load {
        /// The database.
        to: String,
        /// Its table.
        into: String,
        /// How the files are read.
        table: DraftTable,
    },
}

/// How the tables of a new gate's files are read, and which columns they have.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftTable {
    /// What parts the fields; found out for each file when it is not said.
    #[serde(default)]
    pub delimiter: Option<String>,
    /// Encoding of text; UTF-8 when it is not said.
    #[serde(default)]
    pub encoding: Option<String>,
    /// The sheet of a workbook.
    #[serde(default)]
    pub sheet: Option<String>,
    /// Lines before the names of the columns.
    #[serde(default)]
    pub preamble: usize,
    /// The columns that are wanted.
    pub columns: Vec<DraftColumn>,
}

/// A column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftColumn {
    /// Its name.
    pub name: String,
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
}

impl DraftTable {
    /// The first table of a file that was looked into, as it is read again.
    pub fn of(sample: &Sample) -> Option<Self> {
        let table = sample.tables.first()?;
        let column = |one: &vadegate_tables::sample::SampleColumn| DraftColumn {
            name: one.name.clone(),
            kind: one.kind.to_owned(),
        };
        Some(DraftTable {
            delimiter: sample.delimiter.clone().filter(|delimiter| delimiter != ","),
            encoding: sample.encoding.filter(|one| *one != "utf-8").map(str::to_owned),
            sheet: table.sheet.clone(),
            preamble: 0,
            columns: table.columns.iter().map(column).collect(),
        })
    }

    fn write(&self, text: &mut String) {
        let mut read = Vec::new();
        read.extend(self.delimiter.as_ref().map(|one| format!("delimiter = {}", quoted(one))));
        read.extend(self.encoding.as_ref().map(|one| format!("encoding = {}", quoted(one))));
        read.extend(self.sheet.as_ref().map(|one| format!("sheets = [{}]", quoted(one))));
        if self.preamble > 0 {
            read.push(format!("preamble = {}", self.preamble));
        }
        if !read.is_empty() {
            let _ = writeln!(text, "read = {{ {} }}", read.join(", "));
        }
        let names: Vec<String> = self.columns.iter().map(|one| quoted(&one.name)).collect();
        let _ = writeln!(text, "columns = [{}]", names.join(", "));
        for column in &self.columns {
            // That something stands in each row of one file says nothing of the next.
            let said = format!("type = {}", quoted(&column.kind));
            let _ = writeln!(text, "column.{} = {{ {said} }}", key(&column.name));
        }
    }
}

impl GateDraft {
    /// The gate as it stands in a configuration.
    pub fn to_toml(&self) -> String {
        let name = key(&self.name);
        let mut text = format!("[gate.{name}]\ndrop = {}\n", quoted(&self.drop));
        if !self.take.is_empty() {
            let takes: Vec<String> = self.take.iter().map(|one| quoted(one)).collect();
            let _ = writeln!(text, "take = [{}]", takes.join(", "));
        }
        if self.archive.is_none() {
            text.push_str("archive = \"leave\"\n");
        }
        match &self.work {
            DraftWork::File => {}
            DraftWork::Merge { into, table } => {
                let _ = write!(
                    text,
                    "\n[gate.{name}.merge]\ninto = {}\nmisfits = \"set aside\"\n",
                    quoted(into)
                );
                table.write(&mut text);
            }
            DraftWork::Load { to, into, table } => {
                let _ = write!(
                    text,
                    "\n[gate.{name}.load]\nto = {}\ntable = {}\nif_missing = \"create\"\n",
                    quoted(to),
                    quoted(into)
                );
                table.write(&mut text);
            }
        }
        if let Some(into) = &self.archive {
            let _ = write!(text, "\n[gate.{name}.archive]\ninto = {}\n", quoted(into));
        }
        if let Some(into) = &self.hold {
            let _ = write!(text, "\n[gate.{name}.hold]\ninto = {}\n", quoted(into));
        }
        text
    }
}

/// A folder's or a file's name as a name for a gate.
pub fn gate_name(text: &str) -> String {
    let good = |c: char| if c.is_ascii_alphanumeric() || c == '_' { c } else { '-' };
    let name: String = text.to_lowercase().chars().map(good).collect();
    let name = name.trim_matches('-');
    if name.is_empty() { "incoming".into() } else { name.to_owned() }
}

/// Patterns for the endings that names have; `*` when there is none, or too many.
pub fn endings<'a>(names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let plain = |ext: &str| !ext.is_empty() && ext.chars().all(|c| c.is_ascii_alphanumeric());
    let finished = names.filter(|name| crate::arrivals::temporary_name(name).is_none());
    let endings: BTreeSet<String> = finished
        .filter_map(|name| name.rsplit_once('.'))
        .filter(|(_, ext)| plain(ext))
        .map(|(_, ext)| ext.to_lowercase())
        .collect();
    if endings.is_empty() || endings.len() > 8 {
        return vec!["*".into()];
    }
    endings.iter().map(|ext| format!("*.{ext}")).collect()
}

/// A path as a configuration in `home` has it: relative where it lies below.
pub fn as_written(path: &Path, home: &Path) -> String {
    match path.strip_prefix(home) {
        Ok(below) if below.as_os_str().is_empty() => ".".into(),
        Ok(below) => below.display().to_string(),
        Err(_) => path.display().to_string(),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::config::Config;

    fn draft(work: DraftWork, archive: Option<&str>) -> GateDraft {
        GateDraft {
            name: "tide".into(),
            drop: "drops/tide".into(),
            take: vec!["<part>_<day:%Y%m%d>.csv".into()],
            work,
            archive: archive.map(str::to_owned),
            hold: Some("held/tide".into()),
        }
    }

    #[test]
    fn each_draft_is_a_configuration_that_is_understood() {
        let column = |name: &str, kind: &str| DraftColumn { name: name.into(), kind: kind.into() };
        let table = DraftTable {
            delimiter: Some("\t".into()),
            encoding: Some("windows-1252".into()),
            preamble: 2,
            columns: vec![column("level \"m\"", "decimal"), column("so\u{7}und", "text")],
            sheet: None,
        };
        let works = [
            DraftWork::File,
            DraftWork::Merge { into: "out/tide.csv".into(), table: table.clone() },
            DraftWork::Load { to: "sqlite:out/t.db".into(), into: "levels".into(), table },
        ];
        for work in works {
            for archive in [Some("archive/tide"), None] {
                let text = draft(work.clone(), archive).to_toml();
                let whole = format!("[service]\nroots = [\".\"]\n\n{text}");
                let config = Config::parse(Path::new("/sound/vadegate.toml"), &whole);
                let config = config.unwrap_or_else(|fault| panic!("{fault}\n{whole}"));
                let gate = config.gate("tide").unwrap();
                assert_eq!(gate.drops.base(), Path::new("/sound/drops/tide"));
                assert_eq!(gate.work.is_some(), work != DraftWork::File);
            }
        }
    }

    proptest! {
        #[test]
        fn whatever_is_chosen_stands_in_the_text_and_nothing_else(
            name in "[a-z\\]\"#=\\n .-]{1,8}",
            drop in "\\PC{0,10}",
            take in prop::collection::vec("\\PC{0,8}", 0..3),
            archive in prop::option::of("[a-z\"\\\\/\u{1b}\n]{0,8}"),
            names in prop::collection::vec("\\PC{1,6}", 1..4),
        ) {
            let columns = names.iter().map(|name| DraftColumn { name: name.clone(), kind: "text".into() });
            let table = DraftTable { columns: columns.collect(), ..DraftTable::default() };
            let work = DraftWork::Load { to: drop.clone(), into: name.clone(), table };
            let draft = GateDraft { name: name.clone(), drop: drop.clone(), take: take.clone(), work, archive: archive.clone(), hold: None };
            let text = draft.to_toml();
            // A column that is there twice is refused by who reads it.
            let different: BTreeSet<&String> = names.iter().collect();
            prop_assume!(different.len() == names.len());
            let read: toml_edit::DocumentMut = text.parse().unwrap_or_else(|fault| panic!("{fault}: {text}"));
            prop_assert_eq!(read.iter().map(|(key, _)| key).collect::<Vec<_>>(), ["gate"]);
            let gates = read["gate"].as_table_like().unwrap();
            prop_assert_eq!(gates.iter().map(|(key, _)| key).collect::<Vec<_>>(), [name.as_str()]);
            let gate = &read["gate"][name.as_str()];
            prop_assert_eq!(gate["drop"].as_str(), Some(drop.as_str()));
            let taken: Vec<&str> = gate.get("take").and_then(|take| take.as_array()).into_iter().flatten().filter_map(|one| one.as_str()).collect();
            prop_assert_eq!(taken, take);
            let columns = gate["load"]["columns"].as_array().unwrap();
            prop_assert_eq!(columns.iter().filter_map(|one| one.as_str()).collect::<Vec<_>>(), names);
            let into = gate["archive"].get("into").and_then(|into| into.as_str());
            prop_assert_eq!(into, archive.as_deref());
        }
    }

    #[test]
    fn names_and_endings() {
        assert_eq!(gate_name("Port Ellis (2)"), "port-ellis--2");
        assert_eq!(gate_name("§§"), "incoming");
        let names = ["a.CSV", "b.csv", "c.csv.part", ".hidden", "d.xlsx", "noending"];
        assert_eq!(endings(names.into_iter()), ["*.csv", "*.xlsx"]);
        assert_eq!(endings([].into_iter()), ["*"]);
        assert_eq!(as_written(Path::new("/a/b"), Path::new("/a")), "b");
        assert_eq!(as_written(Path::new("/a"), Path::new("/a")), ".");
        assert_eq!(as_written(Path::new("/c"), Path::new("/a")), "/c");
    }
}
