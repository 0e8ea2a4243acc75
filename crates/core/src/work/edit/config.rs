//! The `edit` section of a gate.

use vadegate_tables::dialect::Encoding;
use vadegate_tables::edit::text::LineEnd;
use vadegate_tables::edit::{CellPlace, CellValue, SheetChoice, ValueType};

use crate::pattern::template::Template;
use crate::settings::keys::{file_path_of, template};
use crate::settings::reader::{Found, Named, Section};
use crate::work::edit::looked::Looked;
use crate::work::exists::FileExists;
use crate::work::seam::ReadContext;

/// The `edit` section of a gate.
#[derive(Debug, Clone)]
pub(crate) struct EditConfig {
    /// Where what was edited comes; none where it takes the place of the file.
    pub into: Option<Template>,
    /// What is done when something lies there. Default: the file is held.
    pub exists: FileExists,
    /// Cells of workbooks that are set.
    pub cells: Vec<CellConfig>,
    /// What becomes of texts.
    pub text: Option<TextConfig>,
}

/// A cell that is set.
#[derive(Debug, Clone)]
pub(crate) struct CellConfig {
    pub sheet: SheetChoice,
    pub place: CellPlace,
    pub value: Template,
    pub as_type: ValueType,
}

/// What becomes of texts.
#[derive(Debug, Clone, Default)]
pub(crate) struct TextConfig {
    pub replace: Vec<ReplaceConfig>,
    pub encoding: Option<Encoding>,
    pub line_end: Option<LineEnd>,
    pub mark: Option<bool>,
    /// A file is held when what is looked for is not in it.
    pub hold_missing: bool,
}

/// Words that take the place of others.
#[derive(Debug, Clone)]
pub(crate) struct ReplaceConfig {
    pub find: Looked,
    pub with: Template,
}

pub(crate) fn read(mut section: Section<'_>, context: &ReadContext<'_>) -> Option<EditConfig> {
    let into = match section.text("into") {
        Some(text) => Some(file_path_of("into", text, "", context.folder, context.fields)?),
        None if section.has("into") => return None,
        None => None,
    };
    let exists = FileExists::read(&mut section);
    if into.is_none() && exists.is_some() {
        section.fault_at("exists", "`exists` says what is done when something lies in `into`, and without `into` a file is edited in place; take it out, or say into = \"out/<name>\"".into());
    }
    let named = section.several("set");
    let cells: Vec<CellConfig> = named.into_iter().filter_map(|one| cell(one, context)).collect();
    let text = read_text(&mut section, context);
    if cells.is_empty() && text.is_none() && !section.has("set") {
        section.fault_here("nothing is edited: say set = [{ sheet = \"Cover\", cell = \"B2\", value = \"checked\" }] for workbooks, or replace = [{ find = \"…\", with = \"…\" }] for texts".into());
    }
    section.finish();
    Some(EditConfig { into, exists: exists.unwrap_or(FileExists::Fail), cells, text })
}

const TYPES: [(&str, ValueType); 6] = [
    ("guess", ValueType::Guess),
    ("text", ValueType::Text),
    ("number", ValueType::Number),
    ("date", ValueType::Date),
    ("boolean", ValueType::Boolean),
    ("formula", ValueType::Formula),
];

fn cell(one: Named<'_>, context: &ReadContext<'_>) -> Option<CellConfig> {
    let mut table = match one {
        Named::Table(table) => table,
        Named::Text(text) => {
            text.at.fault("`set` is a list of tables such as { sheet = \"Cover\", cell = \"B2\", value = \"checked\" }".into());
            return None;
        }
    };
    let sheet = sheet(&mut table);
    let place = table.text("cell").and_then(|text| {
        let place = CellPlace::parse(&text.value);
        if place.is_none() {
            let value = &text.value;
            text.at.fault(format!("`cell` is \"{value}\"; expected a cell such as \"B2\""));
        }
        place
    });
    if !table.has("cell") {
        table.fault_here("`cell` is missing; expected a cell such as cell = \"B2\"".into());
    }
    let as_type = table.choice("type", &TYPES).unwrap_or(ValueType::Guess);
    let value = table.scalar("value");
    if !table.has("value") {
        table
            .fault_here("`value` is missing; say what the cell is set to, \"\" for nothing".into());
    }
    if let Some(text) = &value
        && !text.value.contains('<')
        && let Err(fault) = CellValue::read(&text.value, as_type)
    {
        text.at.fault(format!("`value`: {fault}"));
    }
    let value = value.and_then(|text| template(&text, context.fields));
    table.finish();
    Some(CellConfig { sheet: sheet?, place: place?, value: value?, as_type })
}

/// `sheet`: a number is a position, a text a name, `*` all of them.
fn sheet(table: &mut Section<'_>) -> Option<SheetChoice> {
    if table.is_count("sheet") {
        let number = table.count("sheet")?;
        if number == 0 {
            table.fault_at("sheet", "`sheet` counts from 1".into());
            return None;
        }
        return Some(SheetChoice::Number(number));
    }
    match table.text("sheet") {
        Some(text) if text.value == "*" => Some(SheetChoice::All),
        Some(text) => Some(SheetChoice::Named(text.value)),
        None => {
            if !table.has("sheet") {
                table.fault_here(
                    "`sheet` is missing: its name, its number from 1, or \"*\" for all".into(),
                );
            }
            None
        }
    }
}

fn read_text(section: &mut Section<'_>, context: &ReadContext<'_>) -> Option<TextConfig> {
    let keys = ["replace", "encoding", "line_end", "mark", "missing"];
    let any = keys.map(|key| section.has(key)).contains(&true);
    let named = section.several("replace");
    let replace = named.into_iter().filter_map(|one| replacement(one, context)).collect();
    let encoding = section.text("encoding").and_then(|text| {
        let encoding = Encoding::of(&text.value);
        if encoding.is_none() {
            let usual = Encoding::USUAL.join(", ");
            let value = &text.value;
            text.at.fault(format!("`encoding` is \"{value}\"; expected one such as {usual}"));
        }
        encoding
    });
    let line_end = section.choice("line_end", &[("lf", LineEnd::Lf), ("crlf", LineEnd::CrLf)]);
    let mark = section.flag("mark");
    let missing = section.choice("missing", &[("take", false), ("hold", true)]);
    if missing.is_some() && !section.has("replace") {
        section.fault_at("missing", "`missing` says what is done when what `replace` looks for is not there, and there is no `replace`".into());
    }
    let hold_missing = missing.unwrap_or(false);
    any.then_some(TextConfig { replace, encoding, line_end, mark, hold_missing })
}

fn replacement(one: Named<'_>, context: &ReadContext<'_>) -> Option<ReplaceConfig> {
    let mut table = match one {
        Named::Table(table) => table,
        Named::Text(text) => {
            text.at.fault(
                "`replace` is a list of tables such as { find = \"old\", with = \"new\" }".into(),
            );
            return None;
        }
    };
    let regex = table.flag("regex").unwrap_or(false);
    let find = table.text("find");
    if !table.has("find") {
        table.fault_here("`find` is missing: say what is looked for".into());
    }
    let find = find.and_then(|text| looked(&text, regex));
    let with = table.text("with").and_then(|text| template(&text, context.fields));
    if !table.has("with") {
        table.fault_here("`with` is missing: say what takes its place, \"\" for nothing".into());
    }
    table.finish();
    Some(ReplaceConfig { find: find?, with: with? })
}

fn looked(text: &Found<'_, String>, regex: bool) -> Option<Looked> {
    if text.value.is_empty() {
        text.at.fault("`find` is empty, and would be found everywhere".into());
        return None;
    }
    match Looked::read(&text.value, regex) {
        Ok(find) => Some(find),
        Err(why) => {
            text.at.fault(format!("`find` is no regular expression: {why}"));
            None
        }
    }
}
