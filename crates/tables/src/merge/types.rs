//! The types of the columns of a plan.

use super::{Plan, Planned};
use crate::kind::Kind;
use crate::write::{Form, Head};

impl Plan {
    /// Gives columns without a type the one of this name, where there is one.
    pub fn type_as(&mut self, kind: impl Fn(&str) -> Option<Kind>) {
        for planned in &mut self.columns {
            planned.column.kind = planned.column.kind.or_else(|| kind(&planned.column.name));
        }
    }

    /// Has something stand in each cell of the column of this name; false when there is
    /// none.
    pub fn require(&mut self, name: &str) -> bool {
        let place = self.place_of(name);
        if let Some(place) = place {
            self.columns[place].column.rules.required = true;
        }
        place.is_some()
    }

    /// Whether types are told from all values that the sources have.
    pub fn guesses_types(&self) -> bool {
        let guess = self.options.guess && self.options.writing.is_typed();
        guess && self.columns.iter().any(|planned| planned.column.kind.is_none())
    }

    /// Settles the types of columns once all sources are noted.
    pub fn settle_types(&mut self) {
        let writing = &self.options.writing;
        if !writing.is_typed() {
            return;
        }
        for planned in &mut self.columns {
            let guess = if self.options.guess { planned.guess.kind() } else { Kind::Text };
            let kind = planned.column.kind.get_or_insert(guess);
            // In a workbook each cell may stand as it does in its source.
            if writing.form == Form::Xlsx && *kind == Kind::Text {
                planned.column.kind = None;
            }
        }
    }

    /// The columns as a writer sees them.
    pub fn heads(&self) -> Vec<Head> {
        let head = |planned: &Planned| {
            let kind = planned.column.kind.unwrap_or(Kind::Text);
            let digits = (kind == Kind::Decimal).then(|| planned.guess.digits()).flatten();
            Head { name: planned.column.name.clone(), kind, digits }
        };
        self.columns.iter().map(head).collect()
    }
}
