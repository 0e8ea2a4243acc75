//! The workbook part: which sheets there are, and that formulas are calculated on opening.

use std::collections::HashMap;
use std::io::{Read, Seek};

use quick_xml::events::{BytesStart, Event};

use crate::edit::package::Package;
use crate::edit::xml::{XmlIn, XmlOut, attribute, local, prefix, with_attributes};
use crate::edit::{CellPlace, EditFault, SheetChoice, refused};
use crate::workbook::parse_range;

/// A sheet of cells.
#[derive(Debug, Clone)]
pub(super) struct Sheet {
    pub name: String,
    /// The name of its part.
    pub part: String,
    /// Its number in the calculation chain.
    pub id: u32,
    /// Its place among all sheets, from 1.
    position: u32,
}

/// What the workbook part says.
#[derive(Debug)]
pub(super) struct Book {
    /// The name of the part.
    pub part: String,
    pub sheets: Vec<Sheet>,
    /// Its dates count from 1904.
    pub epoch_1904: bool,
    /// Parts that it has a relation to, by the last word of the kind of relation.
    pub related: HashMap<String, String>,
}

/// A relation of a part.
struct Relation {
    id: String,
    kind: String,
    target: String,
}

impl Book {
    pub fn read<R: Read + Seek>(package: &mut Package<R>) -> Result<Self, EditFault> {
        let top = relations(package, "")?;
        let main = top.into_iter().find(|one| one.kind == "officeDocument");
        let part = main.map_or("xl/workbook.xml".to_owned(), |one| one.target);
        let relations = relations(package, &part)?;
        let by_id: HashMap<&str, &Relation> =
            relations.iter().map(|one| (one.id.as_str(), one)).collect();
        let (mut sheets, mut epoch_1904, mut position) = (Vec::new(), false, 0);
        package.read(&part, |reader| {
            loop {
                match reader.next()? {
                    Event::Eof => return Ok(()),
                    Event::Start(tag) | Event::Empty(tag) => match local(&tag) {
                        "workbookPr" => {
                            let date = attribute(&tag, "date1904");
                            epoch_1904 = date.is_some_and(|text| text == "1" || text == "true");
                        }
                        "sheet" => {
                            position += 1;
                            sheets.extend(sheet(&tag, position, &by_id));
                        }
                        _ => {}
                    },
                    _ => {}
                }
            }
        })?;
        if sheets.is_empty() {
            return Err(refused("it is damaged: it has no sheet"));
        }
        let related = relations.into_iter().map(|one| (one.kind, one.target)).collect();
        Ok(Book { part, sheets, epoch_1904, related })
    }

    /// The sheets that are meant, by their numbers in the list.
    pub fn choose(&self, choice: &SheetChoice) -> Vec<usize> {
        let wanted = |sheet: &Sheet| match choice {
            SheetChoice::All => true,
            SheetChoice::Number(number) => sheet.position == *number,
            SheetChoice::Named(name) => sheet.name.to_lowercase() == name.to_lowercase(),
        };
        let all = self.sheets.iter().enumerate();
        all.filter(|(_, sheet)| wanted(sheet)).map(|(number, _)| number).collect()
    }
}

/// A sheet, if it is one of cells.
fn sheet(tag: &BytesStart<'_>, position: u32, by_id: &HashMap<&str, &Relation>) -> Option<Sheet> {
    // It has a number of its own besides, called `sheetId`.
    let id = tag.attributes().flatten().find(|one| {
        let key = one.key.into_inner();
        key == "r:id" || (key.ends_with(":id") && !key.starts_with("xmlns"))
    })?;
    let related = by_id.get(&*id.value).filter(|one| one.kind == "worksheet")?;
    Some(Sheet {
        name: attribute(tag, "name")?,
        part: related.target.clone(),
        id: attribute(tag, "sheetId").and_then(|text| text.parse().ok()).unwrap_or(0),
        position,
    })
}

/// The relations of a part, their targets as names of parts.
fn relations<R: Read + Seek>(
    package: &mut Package<R>,
    part: &str,
) -> Result<Vec<Relation>, EditFault> {
    let name = relations_of(part);
    if !package.has(&name) {
        return Ok(Vec::new());
    }
    let folder = part.rsplit_once('/').map_or("", |(folder, _)| folder);
    let mut found = Vec::new();
    package.read(&name, |reader| {
        loop {
            match reader.next()? {
                Event::Eof => return Ok(()),
                Event::Start(tag) | Event::Empty(tag) if local(&tag) == "Relationship" => {
                    if attribute(&tag, "TargetMode").is_some_and(|mode| mode == "External") {
                        continue;
                    }
                    let get = |name| attribute(&tag, name);
                    let (Some(id), Some(kind), Some(target)) =
                        (get("Id"), get("Type"), get("Target"))
                    else {
                        continue;
                    };
                    let kind = kind.rsplit('/').next().unwrap_or_default().to_owned();
                    found.push(Relation { id, kind, target: resolved(folder, &target) });
                }
                _ => {}
            }
        }
    })?;
    Ok(found)
}

/// The name of the part in which the relations of a part stand.
pub(super) fn relations_of(part: &str) -> String {
    match part.rsplit_once('/') {
        Some((folder, name)) => format!("{folder}/_rels/{name}.rels"),
        None => format!("_rels/{part}.rels"),
    }
}

/// A target of a relation as the name of a part. It is only looked for in the package.
pub(super) fn resolved(folder: &str, target: &str) -> String {
    let whole = match target.strip_prefix('/') {
        Some(from_top) => from_top.to_owned(),
        None => format!("{folder}/{target}"),
    };
    let mut parts: Vec<&str> = Vec::new();
    for part in whole.split('/') {
        match part {
            "" | "." => {}
            ".." => _ = parts.pop(),
            part => parts.push(part),
        }
    }
    parts.join("/")
}

/// A row of names above the columns of a table.
#[derive(Debug, Clone)]
pub(super) struct TableHeader {
    pub table: String,
    /// First row and column, last row and column.
    pub range: [u32; 4],
}

impl TableHeader {
    pub fn has(&self, place: CellPlace) -> bool {
        let [top, left, bottom, right] = self.range;
        (top..=bottom).contains(&place.row) && (left..=right).contains(&place.column)
    }
}

/// The headers of the tables of a sheet: the names of their columns stand in other parts
/// too, and must be the same there.
pub(super) fn table_headers<R: Read + Seek>(
    package: &mut Package<R>,
    sheet: &str,
) -> Result<Vec<TableHeader>, EditFault> {
    let tables: Vec<String> = relations(package, sheet)?
        .into_iter()
        .filter(|one| one.kind == "table" && package.has(&one.target))
        .map(|one| one.target)
        .collect();
    let mut headers = Vec::new();
    for part in tables {
        let header = package.read(&part, |reader| {
            loop {
                match reader.next()? {
                    Event::Eof => return Ok(None),
                    Event::Start(tag) | Event::Empty(tag) if local(&tag) == "table" => {
                        return Ok(table_header(&tag));
                    }
                    _ => {}
                }
            }
        })?;
        headers.extend(header);
    }
    Ok(headers)
}

fn table_header(tag: &BytesStart<'_>) -> Option<TableHeader> {
    let rows = attribute(tag, "headerRowCount").and_then(|text| text.parse().ok()).unwrap_or(1u32);
    let [top, left, _, right] = parse_range(&attribute(tag, "ref")?)?;
    let bottom = top.checked_add(rows)?.checked_sub(1).filter(|_| rows > 0)?;
    let table = attribute(tag, "displayName").or_else(|| attribute(tag, "name"));
    Some(TableHeader { table: table.unwrap_or_default(), range: [top, left, bottom, right] })
}

/// What stands before the settings of calculation in a workbook part (ECMA-376, 18.2.27).
const BEFORE: [&str; 9] = [
    "fileVersion",
    "fileSharing",
    "workbookPr",
    "workbookProtection",
    "bookViews",
    "sheets",
    "functionGroups",
    "externalReferences",
    "definedNames",
];

/// Has all formulas calculated when the workbook is opened: what is set may go into them.
pub(super) fn calculate_on_load(
    reader: &mut XmlIn<'_>,
    writer: &mut XmlOut<'_>,
) -> Result<(), EditFault> {
    const SET: &str = "fullCalcOnLoad";
    // Depth of the tag that is read, the workbook's own being 1.
    let (mut depth, mut done, mut root) = (0, false, String::new());
    loop {
        let event = reader.next()?;
        let opens = matches!(event, Event::Start(_));
        match event {
            Event::Eof => return Ok(()),
            Event::Start(tag) | Event::Empty(tag) => {
                if depth == 0 {
                    root = prefix(&tag);
                }
                // What others have added stands under prefixes of theirs.
                let own = depth == 1 && !done && prefix(&tag) == root;
                let mut tag = tag;
                if own && local(&tag) == "calcPr" {
                    tag = with_attributes(&tag, &[(SET, "1".to_owned())]);
                    done = true;
                } else if own && !BEFORE.contains(&local(&tag)) {
                    writer.raw(&format!("<{root}calcPr {SET}=\"1\"/>"))?;
                    done = true;
                }
                writer.write(if opens { Event::Start(tag) } else { Event::Empty(tag) })?;
                depth += u32::from(opens);
            }
            Event::End(tag) => {
                depth = depth.saturating_sub(1);
                if depth == 0 && !done {
                    writer.raw(&format!("<{root}calcPr {SET}=\"1\"/>"))?;
                    done = true;
                }
                writer.write(Event::End(tag))?;
            }
            other => writer.write(other)?,
        }
    }
}
