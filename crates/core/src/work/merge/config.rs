//! The work `merge` of a gate: what is written, and where.

use std::path::Path;

use vadegate_tables::dialect::Encoding;
use vadegate_tables::{Form, Options, Stacking, Writing};

use crate::pattern::template::Template;
use crate::settings::keys::path_template;
use crate::settings::reader::Section;
use crate::work::tables::shaping;
use crate::work::tables::shaping::{TableSpec, Value, byte, encoding, value};

/// What a merge does when its output exists.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exists {
    /// Rows are appended; the columns must agree.
    Append,
    /// The output is replaced.
    Replace,
    /// The new output gets a number.
    Number,
    /// The entries are held.
    Fail,
}

/// The `merge` section of a gate.
#[derive(Debug, Clone)]
pub struct MergeConfig {
    /// How tables are read, and what their columns are.
    pub shaping: TableSpec,
    /// The output's path; files with the same one are merged together.
    pub into: Template,
    /// What to do when the output exists. Default append.
    pub exists: Exists,
    /// Name of a source's sheet, where each has one.
    pub sheet: Option<Value>,
    /// Another output, into which the rows of all outputs go.
    pub also_all: Option<Template>,
    /// Where rows that are set aside go; beside the output when it is not said.
    pub rejects: Option<Template>,
    /// Whether an account is written beside the output.
    pub account: bool,
    /// What is said of how the output is written.
    pub write: WriteConfig,
    /// Permissions of its outputs; without them those of the strictest source.
    pub mode: Option<u32>,
}

/// What is said of how an output is written; the rest follows from its name.
#[derive(Debug, Clone, Default)]
pub struct WriteConfig {
    /// Parts the fields.
    pub delimiter: Option<u8>,
    /// Whether every field stands in quotes.
    pub quote_all: bool,
    /// Whether lines end in a carriage return and a line feed.
    pub crlf: bool,
    /// The encoding.
    pub encoding: Option<Encoding>,
    /// Whether it begins with a byte-order mark.
    pub mark: bool,
    /// Whether text that a spreadsheet would take for a formula is kept from it.
    pub escape_formulas: bool,
    /// How sources stand in a workbook.
    pub stacking: Stacking,
}

impl MergeConfig {
    /// How an output of this name is written.
    pub fn writing(&self, output: &Path) -> Writing {
        let name = output.file_name().unwrap_or_default().to_string_lossy();
        let by_name = Writing::by_name(&name).unwrap_or_else(|| Writing::delimited(b','));
        Writing {
            delimiter: self.write.delimiter.unwrap_or(by_name.delimiter),
            quote_all: self.write.quote_all,
            crlf: self.write.crlf,
            encoding: self.write.encoding.unwrap_or(by_name.encoding),
            mark: self.write.mark,
            escape_formulas: self.write.escape_formulas,
            stacking: self.write.stacking,
            scratch: output.parent().map(Path::to_owned),
            ..by_name
        }
    }

    /// How an output of this name is merged.
    pub fn options(&self, output: &Path) -> Options {
        self.shaping.options(self.writing(output))
    }
}

/// `mode`: permissions in octal, such as "0640".
fn read_mode(section: &mut Section<'_>) -> Option<u32> {
    let text = section.text("mode")?;
    match u32::from_str_radix(&text.value, 8) {
        Ok(mode) if mode <= 0o777 && mode & 0o600 == 0o600 => Some(mode),
        _ => {
            text.at.fault(format!(
                "`mode` is \"{}\"; expected permissions in octal with which this user can read and write, such as \"0640\"",
                text.value
            ));
            None
        }
    }
}

pub(crate) fn read(
    mut section: Section<'_>,
    folder: &Path,
    fields: &[String],
) -> Option<MergeConfig> {
    let into = path_template(&mut section, "into", folder, fields);
    let exists = [
        ("append", Exists::Append),
        ("replace", Exists::Replace),
        ("number", Exists::Number),
        ("fail", Exists::Fail),
    ];
    let exists = section.choice("exists", &exists);
    let mut optional =
        |key| section.has(key).then(|| path_template(&mut section, key, folder, fields))?;
    let also_all = optional("also_all");
    let rejects = optional("rejects");
    let account = section.flag("account").unwrap_or(false);
    let delimiter = byte(&mut section, "delimiter", &[]);
    let shaping = shaping::read(&mut section, folder, fields, delimiter);
    let sheet = section.text("sheet").and_then(|text| value(&text, fields));
    let mut write = match section.section("write") {
        Some(inner) => read_writing(inner),
        None => WriteConfig::default(),
    };
    write.delimiter = write.delimiter.or(delimiter);
    let mode = read_mode(&mut section);
    if sheet.is_some() {
        write.stacking = Stacking::Each;
    }
    let config = MergeConfig {
        into: into?,
        exists: exists.unwrap_or(Exists::Append),
        shaping,
        sheet,
        also_all,
        rejects,
        account,
        write,
        mode,
    };
    if config.exists == Exists::Replace && config.also_all.is_some() {
        section.fault_here(
            "exists = \"replace\" replaces the output, while the output of all only grows: the two would not be equal; leave `also_all` away, or say exists = \"append\"".into(),
        );
    }
    check_growth(&section, &config);
    section.finish();
    Some(config)
}

/// Some forms cannot be added to.
fn check_growth(section: &Section<'_>, config: &MergeConfig) {
    let form =
        |template: &Template| Writing::by_name(template.source()).map(|writing| writing.form);
    let each = config.write.stacking == Stacking::Each;
    if config.exists == Exists::Append {
        let why = match form(&config.into) {
            Some(Form::Parquet) => Some("a Parquet file cannot be added to"),
            Some(Form::Xlsx) if each => {
                Some("a workbook with a sheet for each source cannot be added to")
            }
            _ => None,
        };
        if let Some(why) = why {
            section.fault_here(format!(
                "{why}; say exists = \"number\", \"replace\" or \"fail\", or write .csv"
            ));
        }
    }
    if let Some(all) = &config.also_all
        && form(all).is_some_and(|form| !matches!(form, Form::Delimited | Form::JsonLines))
    {
        section.fault_here("`also_all` is added to with each batch: write .csv or .jsonl".into());
    }
}

fn read_writing(mut section: Section<'_>) -> WriteConfig {
    let write = WriteConfig {
        delimiter: byte(&mut section, "delimiter", &[]),
        quote_all: section.choice("quotes", &[("needed", false), ("all", true)]).unwrap_or(false),
        crlf: section.choice("line_end", &[("lf", false), ("crlf", true)]).unwrap_or(false),
        encoding: encoding(&mut section),
        mark: section.flag("mark").unwrap_or(false),
        escape_formulas: section
            .choice("formulas", &[("keep", false), ("escape", true)])
            .unwrap_or(false),
        stacking: section
            .choice("sheets", &[("one", Stacking::One), ("each", Stacking::Each)])
            .unwrap_or_default(),
    };
    section.finish();
    write
}
