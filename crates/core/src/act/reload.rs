//! Taking a changed configuration while the service runs. Work under way ends
//! under the old rules; a gate whose rules are the same goes on undisturbed.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::config::gate::Gate;
use crate::config::service::ServiceConfig;
use crate::config::{Config, ConfigError};
use crate::engine::Engine;
use crate::engine::gate::handle::GateHandle;

/// What a changed configuration came to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reloaded {
    /// Gates that are new.
    pub added: Vec<String>,
    /// Gates whose rules are other ones now.
    pub changed: Vec<String>,
    /// Gates that are no more.
    pub removed: Vec<String>,
    /// Gates that go on as they were.
    pub unchanged: Vec<String>,
    /// Keys of `[service]` that were changed, and are only taken at a restart.
    pub needs_restart: Vec<String>,
}

impl Engine {
    /// Reads the configuration file again and takes it, if it is right. With a
    /// fault the one before stays in force, and [`Engine::fault`] tells it.
    ///
    /// # Errors
    /// [`ConfigError`], with every fault that was found.
    pub fn reload(&self) -> Result<Reloaded, ConfigError> {
        let file = self.context().config.file.clone();
        let read = Config::read(&file);
        let mut fault = self.fault.lock().unwrap_or_else(|p| p.into_inner());
        let outcome = match read {
            Ok(config) => {
                *fault = None;
                let reloaded = self.take(config);
                tracing::info!(
                    added = ?reloaded.added, changed = ?reloaded.changed,
                    removed = ?reloaded.removed, "the configuration was taken"
                );
                if !reloaded.needs_restart.is_empty() {
                    tracing::warn!(
                        "{} in [service] is only taken at a restart",
                        reloaded.needs_restart.join(", ")
                    );
                }
                Ok(reloaded)
            }
            Err(error) => {
                tracing::error!("the changed configuration was not taken: {error}");
                *fault = Some(error.to_string());
                Err(error)
            }
        };
        drop(fault);
        let context = self.context();
        context.config.gates.iter().for_each(|gate| context.pulse(&gate.name));
        outcome
    }

    fn take(&self, mut config: Config) -> Reloaded {
        let mut inner = self.inner.write().unwrap_or_else(|p| p.into_inner());
        let old = Arc::clone(&inner.context);
        let mut reloaded = Reloaded {
            needs_restart: keep_until_restart(&old.config.service, &mut config.service),
            ..Reloaded::default()
        };
        config.calendars.inherit(&old.config.calendars);
        let common = common_rules(&old.config) == common_rules(&config);
        let context = Arc::new(old.under(config));
        let mut before = std::mem::take(&mut inner.gates);
        let mut gates = BTreeMap::new();
        for gate in &context.config.gates {
            let name = gate.name.clone();
            let earlier = before.remove(&name);
            if let Some(earlier) = &earlier
                && common
                && rules(&earlier.live.gate) == rules(gate)
            {
                reloaded.unchanged.push(name.clone());
                gates.insert(name, Arc::clone(earlier));
                continue;
            }
            let list = if earlier.is_some() { &mut reloaded.changed } else { &mut reloaded.added };
            list.push(name.clone());
            let fresh = GateHandle::new(&context, gate);
            if let Some(earlier) = &earlier {
                earlier.retire();
            }
            // A gate that was removed and is back may still end what it was doing.
            let same = |handle: &&Arc<GateHandle>| handle.live.gate.name == name;
            let last = earlier.clone().or_else(|| inner.retired.iter().rfind(same).cloned());
            if inner.running
                && let Err(error) = fresh.start(last)
            {
                fresh.live.problem("thread", Some(error.to_string()));
            }
            inner.retired.extend(earlier);
            gates.insert(name, fresh);
        }
        for (name, handle) in before {
            handle.retire();
            reloaded.removed.push(name);
            inner.retired.push(handle);
        }
        inner.retired.retain(|handle| !handle.has_ended());
        inner.context = context;
        inner.gates = gates;
        reloaded
    }
}

/// Everything that a gate's section says, as text: where it stands is no rule.
pub(super) fn rules(gate: &Gate) -> String {
    let mut gate = gate.clone();
    gate.file.clear();
    gate.line = 0;
    format!("{gate:?}")
}

/// What of the rest of the configuration all gates follow.
fn common_rules(config: &Config) -> String {
    let service = &config.service;
    format!("{:?} {:?} {:?}", service.roots, service.timezone, config.file)
}

/// Puts back what cannot change while it runs; gives the keys that differ.
fn keep_until_restart(old: &ServiceConfig, new: &mut ServiceConfig) -> Vec<String> {
    let differ = [
        ("`listen`", old.listen != new.listen),
        ("`state`", old.state != new.state),
        ("`hosts`", old.hosts != new.hosts),
        ("`tls`", old.tls != new.tls),
        ("`behind_proxy`", old.behind_proxy != new.behind_proxy),
        ("`proxies`", old.proxies != new.proxies),
    ];
    new.listen.clone_from(&old.listen);
    new.state.clone_from(&old.state);
    new.hosts.clone_from(&old.hosts);
    new.tls.clone_from(&old.tls);
    new.behind_proxy = old.behind_proxy;
    new.proxies.clone_from(&old.proxies);
    let differ = differ.into_iter().filter(|(_, differs)| *differs);
    differ.map(|(key, _)| key.to_owned()).collect()
}
