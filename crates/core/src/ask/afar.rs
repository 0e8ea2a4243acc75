//! What is asked of places: which there are, who uses them, and what lies there.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_places::{Fault, Kind as FarKind};

use crate::config::fetch::AfterFetch;
use crate::config::gate::Gate;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::engine::gate::state::FetchState;

/// A server from which is fetched, or to which is delivered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlaceView {
    /// Its name.
    pub name: String,
    /// Its address.
    pub at: String,
    /// Gates that fetch from it.
    pub fetched_by: Vec<String>,
    /// Gates that deliver to it.
    pub delivered_by: Vec<String>,
    /// Standing problems of those gates with it.
    pub problems: Vec<String>,
}

/// What a name at a place is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlaceFileKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link, a device, or whatever else, which is never fetched.
    Other,
}

/// A file or folder at a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlaceFile {
    /// Its name.
    pub name: String,
    /// Its path below the folder of the place's address.
    pub path: String,
    /// What it is.
    pub kind: PlaceFileKind,
    /// Size in bytes; 0 of a folder.
    pub bytes: u64,
    /// When it was modified by the clock of the server, where that tells.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub modified: Option<Timestamp>,
}

/// What lies in a folder of a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlaceFolder {
    /// The place.
    pub place: String,
    /// Its address.
    pub at: String,
    /// The folder, below that of its address.
    pub folder: String,
    /// Folders first, then files, in order of name; the first ones.
    pub files: Vec<PlaceFile>,
    /// How many there are.
    pub count: u64,
    /// Bytes of all files in the folder.
    pub bytes: u64,
}

/// How it stands with the place from which a gate fetches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FetchView {
    /// The place.
    pub place: String,
    /// The folders that are looked at.
    pub folder: String,
    /// What becomes of a file there once it is filed here: `left`, `deleted`, or where it is moved to.
    pub after: String,
    /// Files that were seen there and wait.
    pub waiting: u64,
    /// When it was last looked at whole.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub looked_at: Option<Timestamp>,
    /// When it is looked at next.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next_look: Option<Timestamp>,
    /// What is being fetched right now.
    pub doing: Option<String>,
}

/// A folder of a place is listed up to so many names.
const LISTED: usize = 10_000;

impl Engine {
    /// All places.
    pub fn places(&self) -> Vec<PlaceView> {
        let context = self.context();
        let gates = &context.config.gates;
        let view = |place: &crate::afar::config::PlaceConfig| {
            let fetches = gates
                .iter()
                .filter(|gate| gate.fetch.as_ref().is_some_and(|fetch| fetch.place == place.name));
            let fetched_by: Vec<String> = fetches.map(|gate| gate.name.clone()).collect();
            let delivers = gates.iter().filter(|gate| {
                gate.work.as_ref().is_some_and(|work| work.afar().contains(&place.name.as_str()))
            });
            let problems = fetched_by.iter().filter_map(|gate| {
                let handle = self.handle(gate).ok()?;
                let state = handle.live.state();
                state.problems.get(crate::engine::far::PROBLEM).cloned()
            });
            PlaceView {
                name: place.name.clone(),
                at: place.at.to_string(),
                delivered_by: delivers.map(|gate| gate.name.clone()).collect(),
                problems: problems.collect(),
                fetched_by,
            }
        };
        context.config.places.iter().map(view).collect()
    }

    /// What lies in a folder of a place now.
    ///
    /// # Errors
    /// [`EngineError::NotThere`], [`EngineError::FarAway`] when the place does not answer.
    pub fn place_folder(&self, name: &str, folder: &str) -> Result<PlaceFolder, EngineError> {
        let context = self.context();
        let config = context.config.places.iter().find(|place| place.name == name);
        let config = config.ok_or_else(|| {
            EngineError::NotThere(format!(
                "there is no place `{name}`; `vadegate place` lists them"
            ))
        })?;
        let folder = folder.trim_matches('/');
        let away = |why: String| EngineError::FarAway { place: name.to_owned(), why };
        let opened = context.places.open(config);
        let (mut files, mut count, mut bytes) = (Vec::new(), 0, 0_u64);
        let listed = opened.place.list(folder, &mut |one| {
            count += 1;
            if one.kind == FarKind::File {
                bytes = one.bytes.saturating_add(bytes);
            }
            files.push(one);
            if files.len() >= 2 * LISTED {
                first(&mut files);
            }
            true
        });
        match listed {
            Ok(()) => {}
            Err(Fault::Absent) => {
                return Err(EngineError::NotThere(format!(
                    "there is no folder `{folder}` at `{name}`"
                )));
            }
            Err(fault) => return Err(away(fault.to_string())),
        }
        first(&mut files);
        let files = files.into_iter().map(|one| PlaceFile {
            path: vadegate_places::join(folder, &one.name),
            name: one.name,
            kind: match one.kind {
                FarKind::File => PlaceFileKind::File,
                FarKind::Folder => PlaceFileKind::Folder,
                FarKind::Other => PlaceFileKind::Other,
            },
            bytes: one.bytes,
            modified: one.modified.and_then(|at| Timestamp::from_second(at).ok()),
        });
        Ok(PlaceFolder {
            place: name.to_owned(),
            at: config.at.to_string(),
            folder: folder.to_owned(),
            files: files.collect(),
            count,
            bytes,
        })
    }
}

/// Keeps the first ones, folders before files.
fn first(files: &mut Vec<vadegate_places::Listed>) {
    files.sort_by(|one, other| {
        let key = |one: &vadegate_places::Listed| one.kind != FarKind::Folder;
        key(one).cmp(&key(other)).then_with(|| one.name.cmp(&other.name))
    });
    files.truncate(LISTED);
}

/// How it stands with the place from which a gate fetches.
pub(crate) fn fetch_view(gate: &Gate, state: &FetchState) -> Option<FetchView> {
    let fetch = gate.fetch.as_ref()?;
    Some(FetchView {
        place: fetch.place.clone(),
        folder: fetch.folder.source().to_owned(),
        after: match &fetch.after {
            AfterFetch::Leave => "left".to_owned(),
            AfterFetch::Delete => "deleted".to_owned(),
            AfterFetch::Move(to) => format!("moved to “{to}”"),
        },
        waiting: state.waiting,
        looked_at: state.looked_at,
        next_look: state.next_look,
        doing: state.doing.clone(),
    })
}
