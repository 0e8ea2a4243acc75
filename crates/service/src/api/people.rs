//! What people do to entries.

use actix_web::post;
use actix_web::web::{Data, Json, Path};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_core::act::{Adoption, Done, EntryAction, How};
use vadegate_core::engine::Engine;
use vadegate_core::ledger::{By, EntryId, Query};
use vadegate_core::pattern::Pattern;
use vadegate_core::people::{Identity, Role};

use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// The most entries to which something is done at once.
const MOST: usize = 100_000;

/// What is to be done to which entries, by whom and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Order {
    /// What is done.
    pub action: EntryAction,
    /// To these entries.
    #[serde(default)]
    pub entries: Vec<EntryId>,
    /// Or to all entries that fit.
    #[serde(default)]
    pub fitting: Option<Query>,
    /// Who, and why.
    #[serde(flatten)]
    pub by: OrderBy,
    /// Only tell what would be done.
    #[serde(default)]
    pub rehearse: bool,
    /// Have a repeat worked, although the entry that it repeats was: its rows may stand
    /// twice then.
    #[serde(default)]
    pub twice: bool,
    /// How many entries it must be: when there are others by now, nothing is done.
    #[serde(default)]
    pub expected: Option<u64>,
}

/// A person, and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OrderBy {
    /// Who: said by the holder of the local token alone; everybody else is who they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// Why; needed to do it, not to rehearse it.
    #[serde(default)]
    pub why: String,
}

/// The name by which a holder of the local token goes: nobody has checked it.
pub(crate) fn local_name(name: &str) -> String {
    format!("{} (local)", name.trim())
}

/// Who somebody is in histories, and what they say of it.
pub(crate) fn signature(identity: &Identity, said: Option<&str>) -> Result<String, Problem> {
    let said = said.map(str::trim).filter(|said| !said.is_empty());
    match (identity.is_local(), said) {
        (true, Some(said)) => Ok(local_name(said)),
        (true, None) => Err(Problem::bad_request("`who` is empty; say who does it")),
        (false, Some(said)) if said != identity.name() => {
            let name = identity.name();
            Err(Problem::bad_request(format!(
                "`who` is \"{said}\", and it is {name} who asks; leave it out"
            )))
        }
        (false, _) => Ok(identity.name()),
    }
}

impl OrderBy {
    /// Who it is, and why.
    ///
    /// # Errors
    /// A [`Problem`] when nobody is named, or no reason.
    pub fn checked(self, identity: &Identity, rehearse: bool) -> Result<By, Problem> {
        let OrderBy { who, why } = self;
        let who = signature(identity, who.as_deref())?;
        if why.trim().is_empty() && !rehearse {
            return Err(Problem::bad_request(
                "`why` is empty; say why: it stands in the history of each entry",
            ));
        }
        Ok(By { who, why: why.trim().to_owned() })
    }
}

/// Refuses what is for a role that somebody has not.
pub(crate) fn needs(identity: &Identity, role: Role, what: &str) -> Result<(), Problem> {
    if identity.may(role) {
        return Ok(());
    }
    let why = format!(
        "{what} is for the role {role}; {} has the role {}",
        identity.name(),
        identity.role
    );
    Err(Problem::new(actix_web::http::StatusCode::FORBIDDEN, why))
}

/// Does something to entries for a person: has them worked again, files or deletes
/// what is held, or forgets. What is refused for one entry is told, and the others go
/// on.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("operator"))), request_body = Order,
    responses((status = 200, body = Done),
        (status = 400, body = Problem, description = "The order is not understood"),
        (status = 409, body = Problem, description = "There are not as many entries as expected")))]
#[post("/api/v1/entries/actions")]
pub(crate) async fn actions(
    shared: Data<Shared>,
    caller: Caller,
    order: Json<Order>,
) -> Result<Json<Done>, Problem> {
    let order = order.into_inner();
    ask(&shared, move |engine| order.carry_out(engine, &caller)).await.map(Json)
}

impl Order {
    /// Has an engine do it.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(self, engine: &Engine, identity: &Identity) -> Result<Done, Problem> {
        let Order { action, mut entries, fitting, by, rehearse, twice, expected } = self;
        match action {
            EntryAction::Delete => needs(identity, Role::Admin, "deleting files")?,
            EntryAction::Unload => needs(identity, Role::Admin, "taking rows out of a database")?,
            EntryAction::Reopen | EntryAction::Again | EntryAction::File | EntryAction::Forget => {}
        }
        let by = by.checked(identity, rehearse)?;
        if let Some(query) = fitting {
            engine.ask(|ledger| {
                ledger.each(&query, |entry| {
                    entries.push(entry.id);
                    entries.len() <= MOST
                })
            })?;
        }
        if entries.len() > MOST {
            return Err(Problem::bad_request(format!(
                "there are more than {MOST} such entries; narrow it down"
            )));
        }
        if let Some(expected) = expected.filter(|expected| *expected != entries.len() as u64) {
            let detail = format!(
                "there are {} such entries by now, and {expected} were expected; look again",
                entries.len()
            );
            return Err(Problem::new(actix_web::http::StatusCode::CONFLICT, detail));
        }
        Ok(engine.apply_action(action, &entries, &by, How { rehearse, twice })?)
    }
}

/// Which files are to be adopted, by whom and why.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdoptOrder {
    /// Only files that fit this pattern.
    #[serde(default)]
    pub pattern: Option<String>,
    /// Who, and why.
    #[serde(flatten)]
    pub by: OrderBy,
    /// Only tell what would be adopted.
    #[serde(default)]
    pub rehearse: bool,
}

/// Enters what lies in a gate's drop folders as already worked, without working it.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("operator"))), request_body = AdoptOrder,
    params(("gate" = String, Path, description = "The gate's name")),
    responses((status = 200, body = Adoption), (status = 400, body = Problem),
        (status = 404, body = Problem)))]
#[post("/api/v1/gates/{gate}/adopt")]
pub(crate) async fn adopt(
    shared: Data<Shared>,
    caller: Caller,
    gate: Path<String>,
    order: Json<AdoptOrder>,
) -> Result<Json<Adoption>, Problem> {
    let order = order.into_inner();
    ask(&shared, move |engine| order.carry_out(engine, &gate, &caller)).await.map(Json)
}

impl AdoptOrder {
    /// Has an engine do it.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(
        self,
        engine: &Engine,
        gate: &str,
        identity: &Identity,
    ) -> Result<Adoption, Problem> {
        let AdoptOrder { pattern, by, rehearse } = self;
        let by = by.checked(identity, rehearse)?;
        let pattern = pattern.map(|text| Pattern::parse(&text, false)).transpose();
        let pattern = pattern.map_err(|error| Problem::bad_request(error.to_string()))?;
        Ok(engine.adopt(gate, pattern.as_ref(), &by, rehearse)?)
    }
}

/// Which entries are to be trimmed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrimOrder {
    /// Those whose life ended before this time.
    #[schema(value_type = String, format = DateTime)]
    pub before: jiff::Timestamp,
    /// Only tell how many there are.
    #[serde(default)]
    pub rehearse: bool,
}

/// How many entries were trimmed, or would be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Trimmed {
    /// So many.
    pub trimmed: u64,
}

impl TrimOrder {
    /// Has an engine do it.
    ///
    /// # Errors
    /// A [`Problem`] that tells what is wrong.
    pub fn carry_out(&self, engine: &Engine) -> Result<Trimmed, Problem> {
        let trimmed = engine.ask(|ledger| {
            if self.rehearse {
                ledger.would_trim(self.before)
            } else {
                ledger.trim(self.before, |_| {})
            }
        })?;
        Ok(Trimmed { trimmed })
    }
}

/// Trims the details of entries whose life ended long ago; their identities are kept.
#[utoipa::path(tag = "people", extensions(("x-role" = json!("admin"))), request_body = TrimOrder,
    responses((status = 200, body = Trimmed), (status = 400, body = Problem)))]
#[post("/api/v1/ledger/trim")]
pub(crate) async fn trim(
    shared: Data<Shared>,
    order: Json<TrimOrder>,
) -> Result<Json<Trimmed>, Problem> {
    ask(&shared, move |engine| order.carry_out(engine)).await.map(Json)
}
