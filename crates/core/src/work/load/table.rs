//! The table that is there, and how the columns of the files fit it.

use std::collections::{HashMap, HashSet};

use vadegate_tables::{Kind, Names};

/// A column of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct TableColumn {
    pub name: String,
    /// Its type in the database's own words.
    pub declared: String,
    /// What we take it for; none for a type that we know nothing of, whose values the
    /// database reads from text.
    pub kind: Option<Kind>,
    /// Something must stand there, and the database puts nothing there by itself.
    pub required: bool,
    /// The database makes its values.
    pub generated: bool,
}

/// Whether values of a type stand in a column of another without loss.
fn holds(column: Kind, kind: Kind) -> bool {
    match column {
        Kind::Text => true,
        Kind::Integer => matches!(kind, Kind::Integer | Kind::Boolean),
        Kind::Decimal | Kind::Real => kind.is_number(),
        Kind::Timestamp => matches!(kind, Kind::Timestamp | Kind::Date),
        Kind::Boolean | Kind::Date | Kind::Time => column == kind,
    }
}

/// How columns that are to be written fit a table.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Fit {
    /// The table's name of each column, in the order of those that are to be written.
    pub names: Vec<String>,
    /// What the files have too much or too little of, in words.
    pub of_files: Vec<String>,
    /// Where the gate and the table are at odds whatever the files have, in words.
    pub of_gate: Vec<String>,
}

/// The columns of a table, for people.
fn known(table: &[TableColumn]) -> String {
    /// Names that are told.
    const SHOWN: usize = 20;
    let mut names: Vec<String> =
        table.iter().take(SHOWN).map(|column| format!("`{}`", column.name)).collect();
    if table.len() > SHOWN {
        names.push(format!("… and {} more", table.len() - SHOWN));
    }
    names.join(", ")
}

/// Fits columns, with the types that are said for them, to those of a table.
pub(crate) fn fit(wanted: &[(String, Option<Kind>)], table: &[TableColumn], names: Names) -> Fit {
    let mut fit = Fit::default();
    // Of two of one name the first counts.
    let in_reverse = || table.iter().rev();
    let exact: HashMap<&str, &TableColumn> =
        in_reverse().map(|column| (column.name.as_str(), column)).collect();
    let alike: HashMap<String, &TableColumn> =
        in_reverse().map(|column| (names.key(&column.name), column)).collect();
    let find = |name: &str| exact.get(name).or_else(|| alike.get(&names.key(name))).copied();
    let known = known(table);
    for (name, kind) in wanted {
        let Some(column) = find(name) else {
            fit.of_files.push(format!("it has no column `{name}`; it has {known}"));
            fit.names.push(name.clone());
            continue;
        };
        fit.names.push(column.name.clone());
        if column.generated {
            fit.of_gate.push(format!("its column `{}` makes its own values", column.name));
        } else if let (Some(kind), Some(held)) = (kind, column.kind)
            && !holds(held, *kind)
        {
            fit.of_gate.push(format!(
                "its column `{}` is {}, and the gate says {}",
                column.name,
                column.declared,
                kind.word()
            ));
        }
    }
    let given: HashSet<&String> = fit.names.iter().collect();
    for column in table.iter().filter(|column| column.required) {
        if !given.contains(&column.name) {
            fit.of_files.push(format!(
                "its column `{}` must have a value, and nothing gives it one",
                column.name
            ));
        }
    }
    fit
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(name: &str, kind: Kind) -> TableColumn {
        TableColumn {
            name: name.into(),
            declared: kind.word().to_uppercase(),
            kind: Some(kind),
            required: false,
            generated: false,
        }
    }

    #[test]
    fn columns_fit_by_name_and_each_difference_is_named() {
        let mut table = vec![column("Buoy", Kind::Text), column("height_m", Kind::Real)];
        table.push(TableColumn { required: true, ..column("taken_at", Kind::Timestamp) });
        let wanted = [
            ("buoy".to_owned(), None),
            ("height_m".to_owned(), Some(Kind::Date)),
            ("swell".to_owned(), None),
        ];
        let fitted = fit(&wanted, &table, Names::Plain);
        assert_eq!(fitted.names, ["Buoy", "height_m", "swell"]);
        assert_eq!(fitted.of_gate, ["its column `height_m` is REAL, and the gate says date"]);
        assert_eq!(
            fitted.of_files,
            [
                "it has no column `swell`; it has `Buoy`, `height_m`, `taken_at`",
                "its column `taken_at` must have a value, and nothing gives it one",
            ]
        );
        assert_eq!(fit(&wanted[..1], &table[..2], Names::Exact).of_files.len(), 1);
    }
}
