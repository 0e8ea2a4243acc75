//! What is asked of the engine: gates, entries, files, rehearsals, tables.

pub(crate) mod activity;
pub(crate) mod afar;
pub(crate) mod content;
pub(crate) mod due;
pub(crate) mod entry;
pub(crate) mod export;
pub(crate) mod files;
pub(crate) mod gates;
pub(crate) mod matches;
pub(crate) mod places;
pub(crate) mod questions;
pub(crate) mod rehearse;
pub(crate) mod rehearse_works;
pub(crate) mod rehearsed;
pub(crate) mod sample;
pub(crate) mod search;
pub(crate) mod verify;
pub(crate) mod why;

pub use activity::{Activity, ActivitySpan};
pub use afar::{FetchView, PlaceFile, PlaceFileKind, PlaceFolder, PlaceView};
pub use content::{Excerpt, ExcerptLine};
pub use due::DueQuery;
pub use entry::{EntryView, FileLocation, LocationStatus};
pub use export::{ENTRY_HEADER, entry_line, quoted};
pub use files::{FilePage, FileQuery};
pub use gates::{FileView, GateState, GateView, Verdict};
pub use matches::{Match, Matches, Miss};
pub use places::{LoadedColumn, LoadedRows};
pub use rehearsed::{AlsoMade, Rehearsed, Will};
pub use search::{Hit, HitKind};
pub use vadegate_tables::sample::Sample;
pub use verify::{Difference, Differs, Progress, Verified};
pub use why::{Answer, WhyError};
