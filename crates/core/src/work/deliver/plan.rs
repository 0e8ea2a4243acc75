//! What a delivery will do: where each copy comes, and what is there already.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use crate::files::kept_open::KeptOpen;
use crate::ledger::requests::PlannedOutput;
use crate::ledger::words::OutputRole;
use crate::pattern::template::TemplateError;
use crate::words;
use crate::work::batch::{Batch, BatchEntry};
use crate::work::deliver::carry_out::{BundlePlan, DeliverPlan, Item};
use crate::work::deliver::config::{BundleConfig, DeliverConfig};
use crate::work::deliver::far::{FarTaken, NotPlanned, meet_far};
use crate::work::env::Env;
use crate::work::exists::FileExists;
use crate::work::meet::{Content, Taken, Unmet, meet, refuse_pending};
use crate::work::seam::{Blocked, EntryVerdict, WorkPlan};

/// Looks at the places of a batch's files.
pub(crate) fn plan_batch(
    config: &DeliverConfig,
    batch: Batch,
    env: &Env<'_>,
) -> Result<WorkPlan, Blocked> {
    let _open = KeptOpen::begin();
    let bundle = match &config.bundle {
        Some(bundle) => Some(plan_bundle(bundle, Path::new(&batch.target), env)?),
        None => None,
    };
    let seals = config.open_seals().map_err(|fault| Blocked::Output(fault.to_string()))?;
    let doing = match &bundle {
        Some(bundle) => {
            format!(
                "bundling {} into {}",
                words::files(batch.members.len()),
                bundle.place.path.display()
            )
        }
        None => format!("delivering {}", words::files(batch.members.len())),
    };
    let mut planning = Planning {
        config,
        env,
        taken: Taken::default(),
        far_taken: FarTaken::new(),
        members: HashMap::new(),
    };
    let (mut verdicts, mut items) = (Vec::new(), Vec::new());
    for member in batch.members {
        let verdict = match planning.item(&member)? {
            Ok(item) => {
                planning.taken.keep();
                items.push(item);
                EntryVerdict::Fits
            }
            Err(verdict) => {
                planning.taken.forget();
                verdict
            }
        };
        verdicts.push((member, verdict));
    }
    let mut outputs: Vec<PlannedOutput> =
        bundle.iter().map(|bundle| bundle.place.planned(OutputRole::Bundle, None)).collect();
    for (number, item) in items.iter().enumerate() {
        outputs.extend(item.copies.iter().map(|copy| copy.planned(OutputRole::Copy, Some(number))));
        outputs.extend(item.far.iter().map(|copy| copy.planned(number)));
    }
    let work = Box::new(DeliverPlan { bundle, items, seals });
    Ok(WorkPlan { verdicts, outputs, program: None, foreign: None, doing, work })
}

struct Planning<'p> {
    config: &'p DeliverConfig,
    env: &'p Env<'p>,
    taken: Taken,
    far_taken: FarTaken,
    /// How often each name of a member was wanted.
    members: HashMap<String, u32>,
}

impl Planning<'_> {
    /// What is to be done with a file, or what becomes of it otherwise.
    fn item(&mut self, member: &BatchEntry) -> Result<Result<Item, EntryVerdict>, Blocked> {
        let entry = &member.filing.entry;
        if !(self.env.is_unchanged)(&member.filing) {
            return Ok(Err(EntryVerdict::Gone));
        }
        let (mut copies, mut far) = (Vec::new(), Vec::new());
        for (number, destination) in self.config.to.iter().enumerate() {
            // No message is the same twice: of what is there nobody knows what it says.
            let bytes = match destination.seal {
                Some(_) => u64::MAX,
                None => member.filing.version.bytes,
            };
            let content = Content { bytes, sha256: entry.sha256_there() };
            if destination.far.is_some() {
                let (env, taken) = (self.env, &mut self.far_taken);
                match meet_far(destination, number, entry, content, env, taken) {
                    Ok(copy) => far.push(copy),
                    Err(NotPlanned::Hold(why)) => return Ok(Err(EntryVerdict::Hold(why))),
                    Err(NotPlanned::Blocked(blocked)) => return Err(blocked),
                }
                continue;
            }
            let path = match self.env.path_for(&destination.into, entry) {
                Ok(path) => PathBuf::from(path),
                Err(error) => return Ok(Err(EntryVerdict::Hold(error.to_string()))),
            };
            let (exists, compress) = (destination.exists, destination.compress);
            match meet(self.env.reach, &path, exists, compress, content, &mut self.taken) {
                Ok(copy) => copies.push(copy),
                Err(Unmet::Hold(why)) => return Ok(Err(EntryVerdict::Hold(why))),
                Err(Unmet::Place(why)) => return Err(Blocked::Output(why)),
            }
        }
        if self.config.replaces() {
            copies.iter().try_for_each(|copy| refuse_pending(self.env, &copy.path))?;
        }
        let name = match self.member_name(member) {
            Ok(name) => name,
            Err(why) => return Ok(Err(EntryVerdict::Hold(why.to_string()))),
        };
        let (filing, path) = (member.filing.clone(), member.path.clone());
        let seals = self.config.here_numbers();
        Ok(Ok(Item { filing, path, copies, seals, far, member: name }))
    }

    /// The name of a file in the bundle; two of one name are numbered.
    fn member_name(&mut self, member: &BatchEntry) -> Result<String, MemberFault> {
        let Some(bundle) = &self.config.bundle else { return Ok(String::new()) };
        let entry = &member.filing.entry;
        let written = bundle.member.path(&entry.fields, &self.env.values(entry))?;
        // A folder that is empty leaves no part behind.
        let parts: Vec<&str> =
            written.split('/').filter(|part| !matches!(*part, "" | ".")).collect();
        let name = parts.join("/");
        if name.is_empty() || name.chars().any(char::is_control) {
            return Err(MemberFault::NoName(name));
        }
        Ok(self.numbered(name))
    }

    fn numbered(&mut self, name: String) -> String {
        let count = self.members.entry(name.clone()).or_default();
        *count += 1;
        if *count == 1 {
            return name;
        }
        let other = crate::filing::folders::numbered(Path::new(&name), *count);
        self.numbered(other.display().to_string())
    }
}

/// Why a file has no name in an archive.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
enum MemberFault {
    #[error(transparent)]
    Template(#[from] TemplateError),
    #[error("`{0}` is no name for a member of an archive")]
    NoName(String),
}

fn plan_bundle(config: &BundleConfig, path: &Path, env: &Env<'_>) -> Result<BundlePlan, Blocked> {
    // Its bytes are not known before it is made: nothing can be the same.
    let never = Content { bytes: u64::MAX, sha256: crate::files::sha256::Sha256::default() };
    match meet(env.reach, path, config.exists, None, never, &mut Taken::default()) {
        Ok(place) => Ok(BundlePlan { place, kind: config.kind }),
        Err(Unmet::Hold(_)) if config.exists == FileExists::Fail => Err(Blocked::Hold(format!(
            "the archive `{}` is there already; move it away, or say exists = \"replace\", \"number\" or \"leave\" in `bundle`",
            path.display()
        ))),
        Err(Unmet::Hold(why)) => Err(Blocked::Hold(why)),
        Err(Unmet::Place(why)) => Err(Blocked::Output(why)),
    }
}
