//! Who does something to the ledger: the running service, or, without one, an engine in this
//! process that has taken the state folder's lock.

use jiff::Timestamp;
use serde::Serialize;
use serde::de::DeserializeOwned;
use vadegate_core::act::{Adoption, Cleared, Done};
use vadegate_core::config::Config;
use vadegate_core::dues::DueCell;
use vadegate_core::engine::Engine;
use vadegate_core::ledger::{AuditLine, AuditProof, AuditQuery, TokenId};
use vadegate_core::people::{Identity, People, TokenView, UserView};
use vadegate_core::sum_from_text;
use vadegate_core::tell::TellTest;
use vadegate_service::{
    AdoptOrder, ClearOrder, ExcuseOrder, MadeToken, Order, OrderBy, PasswordOrder, Problem,
    RightOrder, RoleOrder, TokenOrder, TrimOrder, Trimmed, UserOrder, local_audit,
};

use super::asked::who;
use super::remote::{Remote, coded};
use crate::failure::Failure;

/// Who does something to the ledger: the running service, or, without one, an engine
/// in this process that has taken the state folder's lock.
pub enum Doer {
    /// The service.
    Service(Remote),
    /// This process.
    Here(Box<Engine>),
}

impl Doer {
    /// Finds who does it for a configuration.
    pub fn of(config: Config) -> Result<Self, Failure> {
        Ok(match Remote::of(&config)? {
            Some(remote) => Doer::Service(remote),
            None => Doer::Here(Box::new(Engine::open(config)?)),
        })
    }

    /// Finds who answers for a configuration, without the lock of its folder.
    pub fn to_ask(config: Config) -> Result<Self, Failure> {
        Ok(match Remote::of(&config)? {
            Some(remote) => Doer::Service(remote),
            None => Doer::Here(Box::new(Engine::open_to_ask(config)?)),
        })
    }

    /// Has an order sent to the service, or done here and recorded.
    fn order<T, O: Serialize + Clone>(
        &self,
        (what, path): (&str, &str),
        order: &O,
        here: impl FnOnce(O, &Engine, &Identity) -> Result<T, Problem>,
    ) -> Result<T, Failure>
    where
        T: DeserializeOwned,
    {
        match self {
            Doer::Service(remote) => remote.send(&format!("/api/v1{path}"), order),
            Doer::Here(engine) => {
                let done = here(order.clone(), engine, &Identity::local());
                let status = done.as_ref().map_or_else(|problem| problem.status, |_| 200);
                let name = who(None).unwrap_or_default();
                if let Some(line) = local_audit((what, path), &name, order, status) {
                    engine.ask(|ledger| ledger.audit(vec![line]))?;
                }
                Ok(done?)
            }
        }
    }

    pub fn apply_action(&self, order: &Order) -> Result<Done, Failure> {
        self.order(("actions", "/entries/actions"), order, |order, engine, by| {
            order.carry_out(engine, by)
        })
    }

    pub fn clear(&self, order: &ClearOrder) -> Result<Cleared, Failure> {
        self.order(("clear", "/clears"), order, |order, engine, by| order.carry_out(engine, by))
    }

    pub fn set_right(&self, name: &str, order: &RightOrder) -> Result<(), Failure> {
        match self {
            Doer::Service(remote) => {
                let path = format!("/api/v1/lookouts/{}/right", coded(name));
                remote.send::<RightOrder>(&path, order).map(drop)
            }
            // What is right is what the service sees next.
            Doer::Here(_) => Err(Failure::Wrong(
                "no service is running here, and it is the service that looks; start it with `vadegate serve`".into(),
            )),
        }
    }

    pub fn test_tell(&self, name: &str) -> Result<TellTest, Failure> {
        match self {
            Doer::Service(remote) => remote.post(&format!("/api/v1/tells/{}/test", coded(name))),
            Doer::Here(engine) => Ok(engine.test_tell(name)?),
        }
    }

    pub fn excuse(&self, order: &ExcuseOrder) -> Result<DueCell, Failure> {
        self.order(("excuse", "/excuses"), order, |order, engine, by| order.carry_out(engine, by))
    }

    pub fn adopt(&self, gate: &str, order: &AdoptOrder) -> Result<Adoption, Failure> {
        let path = format!("/gates/{}/adopt", coded(gate));
        self.order(("adopt", &path), order, |order, engine, by| order.carry_out(engine, gate, by))
    }

    pub fn trim(&self, order: &TrimOrder) -> Result<Trimmed, Failure> {
        self.order(("trim", "/ledger/trim"), order, |order, engine, _| order.carry_out(engine))
    }

    /// Pauses or resumes a gate of an engine of this process.
    pub fn set_paused(&self, gate: &str, paused: bool, who: Option<&str>) -> Result<(), Failure> {
        let order = OrderBy { who: who.map(str::to_owned), why: String::new() };
        let doing = if paused { "pause" } else { "resume" };
        let path = format!("/gates/{}/{doing}", coded(gate));
        self.order((doing, &path), &order, |order, engine, by| {
            let who = order.checked(by, true)?.who;
            Ok(engine.set_paused(gate, paused, &who)?)
        })
    }

    pub fn users(&self) -> Result<Vec<UserView>, Failure> {
        match self {
            Doer::Service(remote) => remote.get("/api/v1/users", &[]),
            Doer::Here(engine) => Ok(engine.ask(People::read)?.users(Timestamp::now())),
        }
    }

    pub fn add_user(&self, order: &UserOrder) -> Result<(), Failure> {
        let done: Vec<UserView> =
            self.order(("add-user", "/users"), order, |order, engine, by| {
                order.carry_out(engine, &engine.ask(People::read)?, by)
            })?;
        drop(done);
        Ok(())
    }

    pub fn set_role(&self, name: &str, order: &RoleOrder) -> Result<(), Failure> {
        let path = format!("/users/{}/role", coded(name));
        self.order(("set-role", &path), order, |order, engine, _| {
            let people = engine.ask(People::read)?;
            Ok(engine.ask(|ledger| people.set_role(ledger, name, order.role))?)
        })
    }

    pub fn set_password(&self, name: &str, order: &PasswordOrder) -> Result<(), Failure> {
        let path = format!("/users/{}/password", coded(name));
        self.order(("set-password", &path), order, |order, engine, _| {
            let people = engine.ask(People::read)?;
            let password = order.password;
            Ok(engine.ask(|ledger| people.set_password(ledger, name, &password, None))?)
        })
    }

    pub fn remove_user(&self, name: &str) -> Result<(), Failure> {
        let path = format!("/users/{}", coded(name));
        match self {
            Doer::Service(remote) => remote.delete(&format!("/api/v1{path}")),
            Doer::Here(_) => self.order(("remove-user", &path), &(), |(), engine, _| {
                let people = engine.ask(People::read)?;
                Ok(engine.ask(|ledger| people.remove_user(ledger, name))?)
            }),
        }
    }

    pub fn tokens(&self) -> Result<Vec<TokenView>, Failure> {
        match self {
            Doer::Service(remote) => remote.get("/api/v1/tokens", &[]),
            Doer::Here(engine) => Ok(engine.ask(People::read)?.tokens(None)),
        }
    }

    pub fn make_token(&self, order: &TokenOrder) -> Result<MadeToken, Failure> {
        self.order(("make-token", "/tokens"), order, |order, engine, by| {
            order.carry_out(engine, &engine.ask(People::read)?, by)
        })
    }

    pub fn revoke_token(&self, id: TokenId) -> Result<(), Failure> {
        let path = format!("/tokens/{id}");
        match self {
            Doer::Service(remote) => remote.delete(&format!("/api/v1{path}")),
            Doer::Here(_) => self.order(("revoke-token", &path), &(), |(), engine, by| {
                let people = engine.ask(People::read)?;
                engine.ask(|ledger| people.revoke_token(ledger, id, by))?;
                Ok(())
            }),
        }
    }

    pub fn audit_lines(&self, query: &AuditQuery) -> Result<Vec<AuditLine>, Failure> {
        match self {
            Doer::Service(remote) => {
                let at = |at: Option<Timestamp>| at.map(|at| at.to_string());
                let parts = [
                    ("who", query.who.clone()),
                    ("what", query.what.clone()),
                    ("text", query.text.clone()),
                    ("since", at(query.since)),
                    ("until", at(query.until)),
                    ("failed", query.failed.then(|| "true".to_owned())),
                    ("cursor", query.before.map(|id| id.to_string())),
                    ("limit", query.limit.map(|limit| limit.to_string())),
                ];
                let pairs = parts.into_iter().filter_map(|(name, value)| Some((name, value?)));
                remote.get("/api/v1/audit", &pairs.collect::<Vec<_>>())
            }
            Doer::Here(engine) => Ok(engine.ask(|ledger| ledger.audit_lines(query))?),
        }
    }

    pub fn audit_proof(&self, known: Option<&str>) -> Result<AuditProof, Failure> {
        match self {
            Doer::Service(remote) => {
                let known: Vec<_> = known.iter().map(|sum| ("sum", (*sum).to_owned())).collect();
                remote.get("/api/v1/audit/proof", &known)
            }
            Doer::Here(engine) => {
                let known = known.map(sum_from_text).transpose();
                let known = known.map_err(|why| Failure::Wrong(why.to_string()))?;
                Ok(engine.ask(|ledger| ledger.verify_audit(known.as_ref()))?)
            }
        }
    }
}
