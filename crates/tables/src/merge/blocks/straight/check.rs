//! Seeing that records fit, and what their values are.

use std::borrow::Cow;

use super::{Came, Op, Seen, Straight};
use crate::cell::Cell;
use crate::kind::Guess;
use crate::scan::Fields;

/// What is noted of values.
pub(in crate::merge::blocks) struct Notes<'n> {
    /// For each column; empty when nothing is noted.
    pub guesses: &'n mut [Guess],
    /// The columns of which something is noted.
    pub of: &'n [usize],
}

impl Straight<'_> {
    /// Sees that a record fits; false when it is not for here, and nothing is noted.
    #[inline]
    pub(in crate::merge::blocks) fn fits(
        &self,
        text: &str,
        fields: &Fields<'_>,
        notes: &mut Notes<'_>,
    ) -> bool {
        let bytes = text.as_bytes();
        for op in &self.ops {
            let Op::Field { at, seen, must } = op else { continue };
            let (from, end) = fields.span(*at);
            let field = &bytes[from..end];
            // Of what stands in quotes the text is another.
            let quoted = field.first() == Some(&b'"');
            if quoted || matches!(self.came(bytes, (from, end), seen, *must), Came::Unknown) {
                return false;
            }
        }
        for place in notes.of {
            let (Some(Op::Field { at, seen, .. }), Some(guess)) =
                (self.ops.get(*place), notes.guesses.get_mut(*place))
            else {
                continue;
            };
            let (from, end) = fields.span(*at);
            let field = &text[from..end];
            if field.is_empty() || self.is_nothing(field.as_bytes()) {
                continue;
            }
            match seen {
                Seen::Text => guess.note(&Cell::Text(Cow::Borrowed(field))),
                Seen::Decimal(_) => guess.measure(field.as_bytes()),
                // Of the others the type was said, and no more is asked.
                _ => {}
            }
        }
        true
    }
}
