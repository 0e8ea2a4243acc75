//! The work of a gate: which of the works it names.

use std::sync::Arc;

use crate::settings::reader::Section;
use crate::work::WORKS;
use crate::work::seam::{ReadContext, Work};

/// Reads the work of a gate; none for one that only files.
///
/// # Errors
/// Nothing, when it names two: that is noted in the section.
pub(crate) fn read(
    name: &str,
    section: &mut Section<'_>,
    context: &ReadContext<'_>,
) -> Result<Option<Arc<dyn Work>>, ()> {
    let words = WORKS.iter().map(|one| one.kind.word());
    // The work of what it is like gives way to a work of its own.
    let own: Vec<&str> = words.filter(|work| section.has_of_its_own(work)).collect();
    let mut works = Vec::new();
    for one in WORKS {
        let word = one.kind.word();
        if !own.is_empty() && !own.contains(&word) || !section.has(word) {
            section.has(word);
            continue;
        }
        let Some(inner) = section.section(word) else { continue };
        works.extend((one.read)(inner, context));
    }
    if let [one, other, ..] = &works[..] {
        let (one, other) = (one.kind(), other.kind());
        section.fault_here(format!(
            "the gate `{name}` has both `{one}` and `{other}`; a gate has one work, so make two gates"
        ));
        return Err(());
    }
    Ok(works.pop())
}
