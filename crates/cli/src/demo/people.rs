//! Who works at the coast: somebody who looks, somebody who acts and somebody who decides, and
//! a token for a program.

use vadegate_core::config::Config;
use vadegate_core::people::Role;
use vadegate_service::{TokenOrder, UserOrder};

use crate::client::Doer;
use crate::failure::Failure;

/// The password of all of them: it is printed, and only this machine reaches the demo.
pub const PASSWORD: &str = "the tide waits for no one";

const PEOPLE: [(&str, Role); 3] =
    [("ada", Role::Admin), ("mara", Role::Operator), ("lena", Role::Viewer)];

/// Adds them, where they are not there from before.
pub fn people(config: Config) -> Result<(), Failure> {
    let doer = Doer::of(config)?;
    if !doer.users()?.is_empty() {
        return Ok(());
    }
    for (name, role) in PEOPLE {
        doer.add_user(&UserOrder { name: name.into(), role, password: PASSWORD.into() })?;
    }
    let token = |label: &str, role, gates: &[&str], lasting: &str| TokenOrder {
        label: Some(label.into()),
        role,
        gates: gates.iter().map(|gate| (*gate).to_owned()).collect(),
        lasting: Some(lasting.into()),
    };
    doer.make_token(&token("survey-boat", Role::Worker, &["sea-state"], "90d"))?;
    doer.make_token(&token("graphs", Role::Viewer, &[], "365d"))?;
    Ok(())
}

/// How one signs in as one of them, for who started the demo.
pub fn told() -> String {
    let names = PEOPLE.map(|(name, role)| format!("{name} ({role})"));
    format!("as {}, with the password: {PASSWORD}", names.join(", "))
}
