//! The `pick` of a gate: only some of the complete files are worked.

use crate::pattern::template::Template;
use crate::settings::keys::template;
use crate::settings::reader::Section;

/// Only so many of the files that are complete at a pass are worked; the others
/// are passed over.
#[derive(Debug, Clone)]
pub struct Pick {
    /// The newest by modification time, or else the oldest.
    pub newest: bool,
    /// How many, of each part.
    pub count: usize,
    /// What parts the files: those with the same text are one part. Without it
    /// all are one.
    pub per: Option<Template>,
    /// What becomes of the others.
    pub others: Others,
}

/// What becomes of files that are passed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Others {
    /// They go where worked files go.
    File,
    /// They stay where they are.
    Leave,
}

pub(crate) fn read(section: &mut Section<'_>, fields: &[String]) -> Option<Pick> {
    if !section.has("pick") {
        return None;
    }
    let mut pick = section.section("pick")?;
    let newest = if pick.has("newest") { pick.count("newest") } else { None };
    let oldest = if pick.has("oldest") { pick.count("oldest") } else { None };
    let per = pick.text("per").and_then(|text| template(&text, fields));
    let others = [("file", Others::File), ("leave", Others::Leave)];
    let others = pick.choice("others", &others).unwrap_or(Others::File);
    let (newest, count) = match (newest, oldest) {
        (Some(count), None) => (true, count),
        (None, Some(count)) => (false, count),
        _ => {
            pick.fault_here(
                "`pick` needs either `newest` or `oldest`: { newest = 1 }, { oldest = 3, per = \"<station>\" }".into(),
            );
            (true, 1)
        }
    };
    if count == 0 {
        pick.fault_here("`pick` would pick nothing; expected 1 or more".into());
    }
    pick.finish();
    Some(Pick { newest, count: usize::try_from(count).ok()?, per, others })
}
