//! How files hang together, as a picture has it: from sources through works to outputs, and
//! on to what these became at other gates; both ways, and bounded.

use std::collections::{BTreeSet, VecDeque};

use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ledger::Ledger;
use crate::ledger::error::{LedgerError, reading};
use crate::ledger::ids::{BatchId, EntryId};
use crate::ledger::lineage::became;
use crate::ledger::outputs::output;
use crate::ledger::types::Output;
use crate::ledger::words::{OutputRole, WorkKind};

/// So many things are shown at the most.
const MOST: usize = 150;

/// So many are shown of each: sources of a work, outputs of it, works of an output.
const EACH: i64 = 20;

/// So many works of an output are shown, the newest.
const WORKS: i64 = 8;

/// What hangs together.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Family {
    /// Files and works.
    pub members: Vec<FamilyMember>,
    /// What came from what.
    pub links: Vec<FamilyLink>,
    /// Whether there is more than is shown.
    pub more: bool,
}

/// A file or a work.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FamilyMember {
    /// By which links name it.
    pub key: String,
    /// What it is.
    pub kind: FamilyKind,
    /// A path, or what a work did.
    pub name: String,
    /// The gate; none of an output.
    pub gate: Option<String>,
    /// The entry's number.
    pub entry: Option<EntryId>,
    /// The entry's state.
    pub state: Option<String>,
    /// What a work wrote into it, or read from it, in rows.
    pub rows: Option<u64>,
}

/// What a member of a family is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum FamilyKind {
    /// An entry.
    Entry,
    /// A batch that was worked.
    Work,
    /// An output.
    Output,
}

/// That one came from another.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
pub struct FamilyLink {
    /// What it came from.
    pub from: String,
    /// What came.
    pub to: String,
}

/// Where a family is entered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FamilyOf {
    /// At an entry.
    Entry(EntryId),
    /// At an output, by its path.
    Output(String),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Way {
    Up,
    Down,
}

/// Something whose relatives are to be found.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Place {
    Entry(EntryId),
    Output(String),
}

impl Place {
    fn key(&self) -> String {
        match self {
            Place::Entry(id) => format!("entry {id}"),
            Place::Output(path) => format!("output {path}"),
        }
    }
}

impl Ledger {
    /// What an entry or an output came from, and what came of it.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn family(&self, of: &FamilyOf) -> Result<Family, LedgerError> {
        let start = match of {
            FamilyOf::Entry(id) => Place::Entry(*id),
            FamilyOf::Output(path) => Place::Output(path.clone()),
        };
        self.read(|reader| {
            let mut tree = Tree::new(reader);
            tree.grow(start).map_err(reading)?;
            Ok(tree.family)
        })
    }
}

struct Tree<'a> {
    reader: &'a Connection,
    family: Family,
    known: BTreeSet<String>,
    links: BTreeSet<FamilyLink>,
    waiting: VecDeque<(Place, Way)>,
    seen: BTreeSet<(Place, Way)>,
}

impl<'a> Tree<'a> {
    fn new(reader: &'a Connection) -> Self {
        Tree {
            reader,
            family: Family::default(),
            known: BTreeSet::new(),
            links: BTreeSet::new(),
            waiting: VecDeque::new(),
            seen: BTreeSet::new(),
        }
    }

    fn grow(&mut self, start: Place) -> rusqlite::Result<()> {
        if !self.show(&start, None)? {
            return Ok(());
        }
        self.visit(start.clone(), Way::Up);
        self.visit(start, Way::Down);
        while let Some((place, way)) = self.waiting.pop_front() {
            match (&place, way) {
                (Place::Entry(id), Way::Up) => self.above_entry(*id)?,
                (Place::Entry(id), Way::Down) => self.below_entry(*id)?,
                (Place::Output(path), Way::Up) => self.above_output(path)?,
                (Place::Output(path), Way::Down) => self.below_output(path)?,
            }
        }
        self.family.links = std::mem::take(&mut self.links).into_iter().collect();
        Ok(())
    }

    fn visit(&mut self, place: Place, way: Way) {
        if self.seen.insert((place.clone(), way)) {
            self.waiting.push_back((place, way));
        }
    }

    /// Shows a member, if there is room; gives whether it is shown.
    fn show(&mut self, place: &Place, rows: Option<u64>) -> rusqlite::Result<bool> {
        let key = place.key();
        if self.known.contains(&key) {
            return Ok(true);
        }
        let member = match place {
            Place::Entry(id) => {
                let mut select = self
                    .reader
                    .prepare_cached("SELECT path, gate, state, rows FROM entry WHERE id = ?")?;
                let member = |row: &Row<'_>| {
                    Ok(FamilyMember {
                        key: key.clone(),
                        kind: FamilyKind::Entry,
                        name: row.get(0)?,
                        gate: row.get(1)?,
                        entry: Some(*id),
                        state: row.get(2)?,
                        rows: row.get::<_, Option<i64>>(3)?.map(i64::cast_unsigned),
                    })
                };
                select.query_row([id], member).optional()?
            }
            Place::Output(path) => Some(FamilyMember {
                key: key.clone(),
                kind: FamilyKind::Output,
                name: path.clone(),
                gate: None,
                entry: None,
                state: None,
                rows,
            }),
        };
        Ok(member.is_some_and(|member| self.add(member)))
    }

    fn add(&mut self, member: FamilyMember) -> bool {
        if self.family.members.len() >= MOST {
            self.family.more = true;
            return false;
        }
        if self.known.insert(member.key.clone()) {
            self.family.members.push(member);
        }
        true
    }

    /// Shows a batch; gives its key.
    fn work(&mut self, batch: BatchId) -> rusqlite::Result<Option<String>> {
        let key = format!("work {batch}");
        if self.known.contains(&key) {
            return Ok(Some(key));
        }
        let found = self
            .reader
            .prepare_cached("SELECT gate, work FROM batch WHERE id = ?")?
            .query_row([batch], |row| Ok((row.get(0)?, row.get::<_, WorkKind>(1)?)))
            .optional()?;
        let Some((gate, work)) = found else { return Ok(None) };
        let member = FamilyMember {
            key: key.clone(),
            kind: FamilyKind::Work,
            name: work.to_string(),
            gate: Some(gate),
            entry: None,
            state: None,
            rows: None,
        };
        Ok(self.add(member).then_some(key))
    }

    fn link(&mut self, from: &str, to: &str) {
        self.links.insert(FamilyLink { from: from.to_owned(), to: to.to_owned() });
    }

    /// An entry is what an output was, when its bytes are that.
    fn above_entry(&mut self, id: EntryId) -> rusqlite::Result<()> {
        let place = self
            .reader
            .prepare_cached(
                "SELECT e.drop_folder || '/' || e.path FROM entry e WHERE e.id = ?1 AND EXISTS (
                   SELECT 1 FROM output o
                   WHERE o.path = e.drop_folder || '/' || e.path AND o.sha256 = e.sha256
                     AND o.mode <> 'leave' AND o.published_at IS NOT NULL
                     AND COALESCE(o.entry, 0) <> e.id)",
            )?
            .query_row([id], |row| row.get::<_, String>(0))
            .optional()?;
        let Some(path) = place else { return Ok(()) };
        let output = Place::Output(path);
        if self.show(&output, None)? {
            self.link(&output.key(), &Place::Entry(id).key());
            self.visit(output, Way::Up);
        }
        Ok(())
    }

    /// What an entry was worked into.
    fn below_entry(&mut self, id: EntryId) -> rusqlite::Result<()> {
        let batches: Vec<BatchId> = self
            .reader
            .prepare_cached("SELECT batch FROM part WHERE entry = ? ORDER BY batch DESC LIMIT ?")?
            .query_map(params![id, WORKS], |row| row.get(0))?
            .collect::<Result<_, _>>()?;
        for batch in batches {
            let Some(work) = self.work(batch)? else { continue };
            self.link(&Place::Entry(id).key(), &work);
            let outputs: Vec<Output> = self
                .reader
                .prepare_cached(
                    "SELECT path, mode, bytes, rows, sha256, published_at, role, account, proof
                     FROM output WHERE batch = ?1 AND COALESCE(entry, ?2) = ?2
                       AND committed_at IS NOT NULL ORDER BY id LIMIT ?3",
                )?
                .query_map(params![batch, id, EACH + 1], output)?
                .collect::<Result<_, _>>()?;
            self.family.more |= outputs.len() > usize::try_from(EACH).unwrap_or(usize::MAX);
            for one in outputs.into_iter().take(usize::try_from(EACH).unwrap_or(usize::MAX)) {
                // The folder of members that are shown themselves.
                if one.role == OutputRole::Unpacked {
                    continue;
                }
                let place = Place::Output(one.path.clone());
                if self.show(&place, one.rows)? {
                    self.link(&work, &place.key());
                    self.follow(&place, &one)?;
                }
            }
        }
        Ok(())
    }

    /// Which works wrote into an output, and what they took.
    fn above_output(&mut self, path: &str) -> rusqlite::Result<()> {
        let parts: Vec<(BatchId, Option<EntryId>)> = self
            .reader
            .prepare_cached(
                "SELECT batch, entry FROM output WHERE path = ?1 AND committed_at IS NOT NULL
                 ORDER BY id DESC LIMIT ?2",
            )?
            .query_map(params![path, WORKS + 1], |row| Ok((row.get(0)?, row.get(1)?)))?
            .collect::<Result<_, _>>()?;
        let most = usize::try_from(WORKS).unwrap_or(usize::MAX);
        self.family.more |= parts.len() > most;
        for (batch, of) in parts.into_iter().take(most) {
            let Some(work) = self.work(batch)? else { continue };
            self.link(&work, &Place::Output(path.to_owned()).key());
            let sources: Vec<EntryId> = self
                .reader
                .prepare_cached(
                    "SELECT entry FROM part WHERE batch = ?1 AND COALESCE(?2, entry) = entry
                     ORDER BY entry LIMIT ?3",
                )?
                .query_map(params![batch, of, EACH + 1], |row| row.get(0))?
                .collect::<Result<_, _>>()?;
            let most = usize::try_from(EACH).unwrap_or(usize::MAX);
            self.family.more |= sources.len() > most;
            for source in sources.into_iter().take(most) {
                let place = Place::Entry(source);
                if self.show(&place, None)? {
                    self.link(&place.key(), &work);
                    self.visit(place, Way::Up);
                }
            }
        }
        Ok(())
    }

    /// What an output became at a gate that took it.
    fn below_output(&mut self, path: &str) -> rusqlite::Result<()> {
        let outputs: Vec<Output> = self
            .reader
            .prepare_cached(
                "SELECT path, mode, bytes, rows, sha256, published_at, role, account, proof
                 FROM output WHERE path = ?1 AND committed_at IS NOT NULL
                 ORDER BY id DESC LIMIT ?2",
            )?
            .query_map(params![path, WORKS], output)?
            .collect::<Result<_, _>>()?;
        for one in outputs {
            self.follow(&Place::Output(path.to_owned()), &one)?;
        }
        Ok(())
    }

    fn follow(&mut self, place: &Place, one: &Output) -> rusqlite::Result<()> {
        let Some(entry) = became(self.reader, one)? else { return Ok(()) };
        let next = Place::Entry(entry);
        if self.show(&next, None)? {
            self.link(&place.key(), &next.key());
            self.visit(next, Way::Down);
        }
        Ok(())
    }
}
