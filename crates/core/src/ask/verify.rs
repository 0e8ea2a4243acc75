//! Verifying: holding the archive and the outputs against the ledger.

use std::collections::{BTreeMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::arrivals::sweep;
use crate::ask::entry::{FileLocation, LocationStatus};
use crate::config::gate::{Archive, Gate};
use crate::config::identity::Repeats;
use crate::engine::Engine;
use crate::engine::error::EngineError;
use crate::files::roots::Reach;
use crate::files::sha256::Sha256;
use crate::files::version::Kind;
use crate::filing::moving::sum_of;
use crate::ledger::ids::EntryId;
use crate::ledger::made::WrittenOutput;
use crate::ledger::state::State;
use crate::ledger::types::{Entry, Query};
use crate::ledger::words::OutputMode;
use crate::pattern::template::Template;

/// What is different.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Differs {
    /// What the ledger knows is not there.
    Missing,
    /// Something else is there.
    Changed,
    /// It cannot be looked at.
    Unreadable,
    /// The ledger knows nothing of it.
    Unknown,
}

/// Something that is not as the ledger has it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    /// What is different.
    pub differs: Differs,
    /// The gate.
    pub gate: String,
    /// The file.
    pub path: String,
    /// The entry that should lie there.
    pub entry: Option<EntryId>,
    /// In words.
    pub because: String,
}

/// What was verified.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Verified {
    /// Entries whose file was looked at.
    pub entries: u64,
    /// Outputs that were looked at.
    pub outputs: u64,
    /// Files that were found in archives.
    pub files: u64,
    /// What is not as the ledger has it.
    pub differences: u64,
}

/// How far a verification is.
pub type Progress<'a> = &'a mut dyn FnMut(u64, u64);

impl Engine {
    /// Holds archive and outputs, of one gate or all, against the ledger; `deep`
    /// reads every file and takes its sum. `each` gets every difference, `progress`
    /// how many entries of how many are done.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn verify(
        &self,
        gate: Option<&str>,
        deep: bool,
        each: &mut dyn FnMut(Difference),
        progress: Progress<'_>,
    ) -> Result<Verified, EngineError> {
        if let Some(gate) = gate {
            self.handle(gate)?;
        }
        let reach = self.config().reach;
        let mut verifying = Verifying { reach, deep, each, told: Verified::default() };
        let places = verifying.entries(self, gate, progress)?;
        let outputs = verifying.outputs(self, gate)?;
        let loads = self.verify_places(gate, deep, &mut |difference| verifying.tell(difference))?;
        verifying.told.outputs += loads;
        let config = self.config();
        let gates = config.gates.iter().filter(|one| gate.is_none_or(|gate| one.name == gate));
        let mut looked_in: Vec<PathBuf> = Vec::new();
        for (one, folder) in
            gates.flat_map(|one| archives(one).into_iter().map(move |at| (one, at)))
        {
            if !looked_in.iter().any(|outer| folder.starts_with(outer)) {
                verifying.unknown(self, one, &folder, &places, &outputs)?;
                looked_in.push(folder);
            }
        }
        Ok(verifying.told)
    }
}

struct Verifying<'a> {
    reach: Reach,
    deep: bool,
    each: &'a mut dyn FnMut(Difference),
    told: Verified,
}

/// Hashes of paths: with ten million of them the paths themselves would be too much.
type Places = HashSet<u64>;

fn place_hash(path: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    path.hash(&mut hasher);
    hasher.finish()
}

impl Verifying<'_> {
    fn sum(&self, path: &str) -> std::io::Result<Sha256> {
        sum_of(&self.reach.at(Path::new(path))?)
    }

    fn tell(&mut self, difference: Difference) {
        self.told.differences += 1;
        (self.each)(difference);
    }

    fn entries(
        &mut self,
        engine: &Engine,
        gate: Option<&str>,
        progress: Progress<'_>,
    ) -> Result<Places, EngineError> {
        let of_gate = Query { gate: gate.map(str::to_owned), ..Query::default() };
        let all = engine.ask(|ledger| ledger.count(&of_gate))?;
        let (mut places, mut seen) = (Places::new(), 0);
        let mut suspects: Vec<EntryId> = Vec::new();
        // The places of all gates: two may file into one folder.
        engine.ask(|ledger| {
            ledger.each(&Query::default(), |entry| {
                if let Some(place) = &entry.filed_to {
                    places.insert(place_hash(place));
                }
                if gate.is_some_and(|gate| entry.gate != gate) {
                    return true;
                }
                seen += 1;
                progress(seen, all);
                if is_verified(&entry) {
                    self.told.entries += 1;
                    if self.differs(&entry).is_some() {
                        suspects.push(entry.id);
                    }
                }
                true
            })
        })?;
        for id in suspects {
            // It may have been moved while it was looked at: only what is still
            // different is told.
            let Some(entry) = engine.ask(|ledger| ledger.entry(id))? else { continue };
            if let Some(difference) = self.differs(&entry).filter(|_| is_verified(&entry)) {
                self.tell(difference);
            }
            if let Some(place) = &entry.filed_to {
                places.insert(place_hash(place));
            }
        }
        Ok(places)
    }

    fn differs(&self, entry: &Entry) -> Option<Difference> {
        let location = FileLocation::of(&self.reach, entry);
        let path = location.path.clone().unwrap_or_default();
        let (differs, because) = match location.status {
            LocationStatus::Missing => (Differs::Missing, "it is not there".to_owned()),
            LocationStatus::Changed => (Differs::Changed, "its size or time is another".into()),
            LocationStatus::Unreadable => (Differs::Unreadable, "it cannot be looked at".into()),
            LocationStatus::Gone => return None,
            LocationStatus::Unchanged if self.deep => match self.sum(&path) {
                Ok(sum) if sum == entry.sha256_there() => match self.unpacks(entry, &path) {
                    Ok(true) => return None,
                    Ok(false) => (Differs::Changed, "what is compressed in it is another".into()),
                    Err(error) => (Differs::Unreadable, format!("it cannot be unpacked: {error}")),
                },
                Ok(_) => (Differs::Changed, "its content is another".into()),
                Err(error) => (Differs::Unreadable, format!("it cannot be read: {error}")),
            },
            LocationStatus::Unchanged => return None,
        };
        Some(Difference { differs, gate: entry.gate.clone(), path, entry: Some(entry.id), because })
    }

    /// Whether what is compressed in the file of an entry is what was filed.
    fn unpacks(&self, entry: &Entry, path: &str) -> std::io::Result<bool> {
        let Some(packing) = entry.packing else { return Ok(true) };
        let mut plain = packing.reader(self.reach.at(Path::new(path))?.open()?)?;
        let mut sum = crate::files::sha256::Sum::new();
        std::io::copy(&mut plain, &mut sum)?;
        Ok(sum.finish() == entry.content_sum())
    }

    fn outputs(&mut self, engine: &Engine, gate: Option<&str>) -> Result<Places, EngineError> {
        let mut by_path: BTreeMap<String, Vec<WrittenOutput>> = BTreeMap::new();
        for output in engine.ask(|ledger| ledger.written_outputs())? {
            by_path.entry(output.path.clone()).or_default().push(output);
        }
        let mut places = Places::new();
        for (path, mut written) in by_path {
            places.insert(place_hash(&path));
            // What was replaced later is not there any more.
            let last =
                written.iter().rposition(|output| output.mode != OutputMode::Append).unwrap_or(0);
            written.drain(..last);
            if gate.is_some_and(|gate| written.iter().all(|output| output.gate != gate)) {
                continue;
            }
            self.told.outputs += 1;
            // A copy is its taker's, who may take it away.
            let is_taken = written.iter().all(|output| output.role.is_handed_over());
            if let Some((differs, because)) =
                output_differs(&self.reach, &path, &written, self.deep)
                    .filter(|(differs, _)| !(is_taken && *differs == Differs::Missing))
            {
                let gate = written.last().map(|output| output.gate.clone()).unwrap_or_default();
                self.tell(Difference { differs, gate, path, entry: None, because });
            }
        }
        Ok(places)
    }

    /// Tells of files in an archive of the gate of which the ledger knows nothing.
    fn unknown(
        &mut self,
        engine: &Engine,
        gate: &Gate,
        folder: &Path,
        places: &Places,
        outputs: &Places,
    ) -> Result<(), EngineError> {
        let mut unknown = Vec::new();
        // A folder that cannot be read was told with the entries in it.
        let _ = sweep(&self.reach, folder, u32::MAX, |seen| {
            if seen.kind != Kind::File {
                return;
            }
            self.told.files += 1;
            let path = folder.join(&seen.path).display().to_string();
            let name = seen.path.rsplit('/').next().unwrap_or(&seen.path);
            let companion = gate.settle.companion().is_some_and(|one| one.names.is_match(name));
            let hash = place_hash(&path);
            if !companion && !places.contains(&hash) && !outputs.contains(&hash) {
                unknown.push(path);
            }
        });
        for path in unknown {
            // It may have been filed since the ledger was read.
            let Ok(sum) = self.sum(&path) else { continue };
            if engine.ask(|ledger| ledger.knows_place(&path, sum))? {
                continue;
            }
            self.tell(Difference {
                differs: Differs::Unknown,
                gate: gate.name.clone(),
                path,
                entry: None,
                because: "no entry was filed there".into(),
            });
        }
        Ok(())
    }
}

/// Whether the file of an entry should lie where the ledger has it.
fn is_verified(entry: &Entry) -> bool {
    match entry.state {
        // What was left in a drop folder is its owner's, and deleted repeats are not
        // there.
        State::Filed => entry.filed_to.is_some(),
        State::PassedOver | State::Adopted => entry.filed_to.is_some(),
        State::Held => true,
        _ => false,
    }
}

/// The fixed parts of the folders into which a gate files.
fn archives(gate: &Gate) -> Vec<PathBuf> {
    let mut folders = Vec::new();
    let mut add = |template: &Template| {
        // Without a field the whole template is the folder.
        let whole = template.uses().next().is_none();
        folders.push(if whole {
            PathBuf::from(template.fixed_start())
        } else {
            template.fixed_folder()
        });
    };
    if let Archive::Into(template, _) = &gate.archive {
        add(template);
    }
    if let Some(template) = &gate.hold {
        add(template);
    }
    if let Repeats::Into(template) = &gate.repeats {
        add(template);
    }
    folders.sort();
    folders.dedup_by(|inner, outer| inner.starts_with(&*outer));
    folders
}

/// Whether what batches wrote into an output is there.
fn output_differs(
    reach: &Reach,
    path: &str,
    written: &[WrittenOutput],
    deep: bool,
) -> Option<(Differs, String)> {
    let unreadable =
        |error: std::io::Error| (Differs::Unreadable, format!("it cannot be read: {error}"));
    let mut file = match reach.at(Path::new(path)).and_then(|at| at.open()) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Some((Differs::Missing, "the output is not there".into()));
        }
        Err(error) => return Some(unreadable(error)),
    };
    let length = match file.metadata() {
        Ok(meta) => meta.len(),
        Err(error) => return Some(unreadable(error)),
    };
    let mut end = None;
    for piece in written {
        let begin = if piece.mode == OutputMode::Append { piece.base_bytes } else { 0 };
        if let Some(end) = end.filter(|end| begin > *end) {
            let because = format!(
                "{} before what batch {} wrote are not ours",
                crate::words::counted(begin - end, "byte", "bytes"),
                piece.batch
            );
            return Some((Differs::Changed, because));
        }
        end = Some(begin + piece.bytes);
        if length < begin + piece.bytes {
            let because = format!(
                "it has {length} bytes, and batch {} wrote up to {}",
                piece.batch,
                begin + piece.bytes
            );
            return Some((Differs::Changed, because));
        }
        if !deep {
            continue;
        }
        let mut sum = crate::files::sha256::Sum::new();
        let read = file
            .seek(SeekFrom::Start(begin))
            .and_then(|_| std::io::copy(&mut file.by_ref().take(piece.bytes), &mut sum));
        if let Err(error) = read {
            return Some(unreadable(error));
        }
        if sum.finish() != piece.sha256 {
            let because = format!("what batch {} wrote into it is changed", piece.batch);
            return Some((Differs::Changed, because));
        }
    }
    let beyond = length.saturating_sub(end.unwrap_or(length));
    (beyond > 0).then(|| {
        let bytes = crate::words::counted(beyond, "byte stands", "bytes stand");
        (Differs::Changed, format!("{bytes} behind what was written last, and are not ours"))
    })
}
