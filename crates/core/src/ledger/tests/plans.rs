//! No statement of the ledger walks through a table that grows: a service must not
//! become slower with everything that was ever worked. The statements are taken from the
//! sources, so that a new one is held to it without being listed.

use std::path::Path;

use rusqlite::Connection;

use crate::ledger::schema;

/// Statements that may walk through a table that grows: what they contain, and why.
const MAY_SCAN: &[(&str, &str)] = &[
    ("MAX(id)", "the newest is at the end of the table's own order"),
    (
        "FROM output o JOIN batch b ON b.id = o.batch\n                     WHERE o.published_at IS NOT NULL AND o.proof IS NULL",
        "verifying looks at every output",
    ),
    ("WHERE o.proof IS NOT NULL", "verifying looks at every output that can be asked for"),
    ("LIKE '%/' || ?", "a file is looked for by its bare name when nothing else is known of it"),
    ("heir.repeat_of = entry.id", "trimming looks at every entry"),
    ("FROM removal INDEXED BY removal_planned", "the index has only what was cut off"),
    ("ORDER BY id DESC LIMIT 20000", "the newest alone are looked at"),
    ("ORDER BY id DESC LIMIT 1000", "the newest alone are counted"),
    ("ORDER BY id LIMIT 10000", "the oldest alone are forgotten"),
    ("FROM audit ORDER BY id", "proving the log looks at every line"),
    (
        "FROM audit WHERE at >= ? ORDER BY id LIMIT 1",
        "the oldest alone, up to the first that stays",
    ),
    ("target = ? AND in_drop = 0", "a file is looked for where it was filed, after its sum"),
];

/// Tables that stay small: as many rows as there are gates, states, spaces or people.
const SMALL: &[&str] = &[
    "user",
    "token",
    "session",
    "tally",
    "ledger",
    "space",
    "gate_setting",
    "pick_mark",
    "activity",
    "span",
    "upload",
    "delivery",
    "sqlite_master",
];

/// What stands in the place of a part that is made at run time.
fn filled(statement: &str) -> Option<String> {
    let of_drop = format!("FROM entry WHERE gate = ? AND {}", super::rows::IN_DROP[0]);
    let parts = [
        ("{COLUMNS}", "id"),
        ("{UNPUBLISHED}", "o.id"),
        ("FROM entry WHERE gate = ? AND {wheres}", of_drop.as_str()),
        ("{wheres}", "b.gate = ?"),
        ("{TRIMMED}", super::trimming::TRIMMED),
        ("{before}", "0"),
        ("{limit}", "10"),
        ("FROM entry {rest}", "FROM entry WHERE id = ?"),
        ("{rest}", "WHERE h.id > ? ORDER BY h.id LIMIT ?"),
    ];
    let filled =
        parts.iter().fold(statement.to_owned(), |text, (part, with)| text.replace(part, with));
    // What else is filled in is a filter that people choose; its plans have tests of
    // their own.
    (!filled.contains('{')).then_some(filled)
}

/// The string literals of a source, before its tests.
fn literals(source: &str) -> Vec<String> {
    let source = source.split("#[cfg(test)]").next().unwrap_or_default();
    let mut found = Vec::new();
    let mut text = None::<String>;
    let mut chars = source.chars().peekable();
    let mut line_comment = false;
    while let Some(c) = chars.next() {
        match (&mut text, c) {
            (None, '/') if chars.peek() == Some(&'/') => line_comment = true,
            (None, '\n') => line_comment = false,
            (None, '"') if !line_comment => text = Some(String::new()),
            (None, '\'') if !line_comment && chars.peek() == Some(&'"') => _ = chars.next(),
            (Some(open), '\\') => {
                let next = chars.next().unwrap_or_default();
                open.push(if next == '\n' { ' ' } else { next });
            }
            (Some(_), '"') => found.extend(text.take()),
            (Some(open), c) => open.push(c),
            (None, _) => {}
        }
    }
    found
}

fn statements(source: &str) -> Vec<String> {
    let verbs = ["SELECT ", "UPDATE ", "DELETE ", "INSERT "];
    let of = |text: String| {
        let text = text.trim().to_owned();
        let text = match text.strip_prefix("WHERE ") {
            Some(rest) if rest.starts_with("h.") => {
                format!("SELECT h.id FROM history h JOIN entry e ON e.id = h.entry {text}")
            }
            Some(_) => format!("SELECT id FROM entry {text}"),
            None => text,
        };
        let one = |part: &str| part.trim().to_owned();
        let parts: Vec<String> = text.split(';').map(one).filter(|part| !part.is_empty()).collect();
        parts
            .into_iter()
            .filter(move |part| verbs.iter().any(|verb| part.starts_with(verb)))
            .collect::<Vec<_>>()
    };
    literals(source).into_iter().flat_map(of).collect()
}

/// Steps of a statement's plan that walk through a whole table, which grows.
fn scans(connection: &Connection, statement: &str) -> Vec<String> {
    let mut explain = connection
        .prepare(&format!("EXPLAIN QUERY PLAN {statement}"))
        .unwrap_or_else(|error| panic!("{error}"));
    for at in 1..=explain.parameter_count() {
        explain.raw_bind_parameter(at, 1).unwrap();
    }
    let mut steps = Vec::new();
    let mut rows = explain.raw_query();
    while let Some(row) = rows.next().unwrap() {
        steps.push(row.get::<_, String>(3).unwrap());
    }
    let grows = |step: &String| {
        let Some(table) = step.strip_prefix("SCAN ") else { return false };
        let table = table.split(' ').next().unwrap_or_default();
        // A walk along a partial index goes by the few that are in it.
        let few = [
            "output_unpublished",
            "batch_leased",
            "batch_unended",
            "entry_open",
            "happening_open",
            "message_waiting",
        ];
        !SMALL.contains(&table)
            && table != "CONSTANT"
            && !few.iter().any(|index| step.contains(index))
    };
    steps.into_iter().filter(grows).collect()
}

fn sources(folder: &str) -> Vec<(String, String)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join(folder);
    let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let rust = files.filter(|path| path.extension().is_some_and(|ending| ending == "rs"));
    let rust = rust.filter(|path| !path.ends_with("tests.rs") && !path.ends_with("plans.rs"));
    rust.map(|path| (path.display().to_string(), std::fs::read_to_string(&path).unwrap())).collect()
}

#[test]
fn no_statement_walks_through_a_table_that_grows() {
    let connection = schema::in_memory().unwrap();
    let mut seen = 0;
    let mut unused: Vec<&str> = MAY_SCAN.iter().map(|(part, _)| *part).collect();
    let mut wrong = Vec::new();
    for (file, source) in sources("src/ledger") {
        for statement in statements(&source).iter().filter_map(|statement| filled(statement)) {
            seen += 1;
            let found = scans(&connection, &statement);
            let allowed = MAY_SCAN.iter().find(|(part, _)| statement.contains(part));
            if let Some((part, _)) = allowed {
                unused.retain(|one| one != part);
            } else if !found.is_empty() {
                wrong.push(format!("{file}: {statement}\n  {}", found.join("\n  ")));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    assert!(seen > 60, "only {seen} statements were found in the sources");
    assert!(unused.is_empty(), "nothing is so any more: {unused:?}");
}

#[test]
fn what_is_asked_at_every_pass_costs_the_same_however_much_was_worked() {
    let connection = schema::in_memory().unwrap();
    let pending = |by: &str| {
        format!(
            "SELECT o.id FROM output o {by} JOIN batch b ON b.id = o.batch
             WHERE o.published_at IS NULL AND o.committed_at IS NOT NULL AND b.gate = ?
             ORDER BY o.id"
        )
    };
    assert!(scans(&connection, &pending("INDEXED BY output_unpublished")).is_empty());
    // The order by id beats the index when nothing is said: the check above finds that.
    assert!(!scans(&connection, &pending("")).is_empty());
}
