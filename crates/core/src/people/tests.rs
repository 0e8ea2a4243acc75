use jiff::{SignedDuration, Timestamp};
use rusqlite::Connection;

use super::*;
use crate::ledger::{AuditQuery, FILE_NAME, Ledger, NewAudit};

const PASSWORD: &str = "the tide waits for no one";

struct Home {
    folder: tempfile::TempDir,
    ledger: Ledger,
    people: People,
}

fn home() -> Home {
    let folder = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(folder.path()).unwrap();
    let people = People::read(&ledger).unwrap();
    Home { folder, ledger, people }
}

impl Home {
    fn user(&self, name: &str, role: Role) {
        self.people.add_user(&self.ledger, (name, role), PASSWORD, "local token").unwrap();
    }

    /// A session of a user: what its cookie holds, and who that is.
    fn session(&self, user: Option<&str>) -> (crate::files::sha256::Sha256, Identity) {
        let sum = sum_of_secret(&new_secret().unwrap());
        let (address, program) = ("127.0.0.1".to_owned(), "a browser".to_owned());
        let new = NewSession { sum, user: user.map(str::to_owned), address, program };
        self.people.begin_session(&self.ledger, new).unwrap();
        (sum, self.people.by_session(&sum, Timestamp::now()).unwrap().0)
    }

    fn token(&self, role: Role, gates: &[&str], by: &Identity) -> Result<String, PeopleError> {
        let gates = gates.iter().map(|gate| (*gate).to_owned()).collect();
        let new = NewToken { label: None, role, gates, lasting: None };
        self.people.make_token(&self.ledger, new, by).map(|(secret, _)| secret)
    }

    /// What another start of the service knows.
    fn again(&self) -> People {
        People::read(&self.ledger).unwrap()
    }
}

#[test]
fn who_may_do_what() {
    let may = |role: Role| {
        Role::ALL.into_iter().filter(|wanted| role.may(*wanted)).map(Role::word).collect::<Vec<_>>()
    };
    assert_eq!(may(Role::Supplier), ["supplier"]);
    assert_eq!(may(Role::Worker), ["worker"]);
    assert_eq!(may(Role::Viewer), ["viewer"]);
    assert_eq!(may(Role::Operator), ["supplier", "viewer", "operator"]);
    assert_eq!(may(Role::Admin), ["supplier", "worker", "viewer", "operator", "admin"]);
}

#[test]
fn a_user_signs_in_by_the_right_password_until_they_are_removed() {
    let home = home();
    home.user("mara", Role::Operator);
    for people in [&home.people, &home.again()] {
        assert!(people.signs_in("mara", PASSWORD) && people.has_users());
        assert!(!people.signs_in("mara", "the tide waits") && !people.signs_in("ada", PASSWORD));
    }
    let twice = home.people.add_user(&home.ledger, ("mara", Role::Viewer), PASSWORD, "x");
    assert!(matches!(twice, Err(PeopleError::There(_))));
    for (name, role) in [("", Role::Viewer), ("a\nb", Role::Viewer), ("box", Role::Worker)] {
        let refused = home.people.add_user(&home.ledger, (name, role), PASSWORD, "x");
        assert!(matches!(refused, Err(PeopleError::Refused(_))), "{name:?}");
    }
    let (sum, mara) = home.session(Some("mara"));
    assert_eq!((mara.name().as_str(), mara.role), ("mara", Role::Operator));
    let token = home.token(Role::Viewer, &[], &mara).unwrap();
    home.people.remove_user(&home.ledger, "mara").unwrap();
    let now = Timestamp::now();
    for people in [&home.people, &home.again()] {
        assert!(!people.signs_in("mara", PASSWORD));
        assert!(people.by_session(&sum, now).is_none() && people.by_token(&token, now).is_none());
    }
    assert!(!home.people.still(&mara, now));
}

#[test]
fn another_role_or_password_ends_what_was_begun_before() {
    let home = home();
    home.user("mara", Role::Admin);
    let now = Timestamp::now();
    let ((own, mara), (other, elsewhere)) =
        (home.session(Some("mara")), home.session(Some("mara")));
    let token = home.token(Role::Admin, &[], &mara).unwrap();
    let spared = mara.session();
    home.people.set_password(&home.ledger, "mara", "another tide, another time", spared).unwrap();
    assert!(home.people.still(&mara, now) && !home.people.still(&elsewhere, now));
    for people in [&home.people, &home.again()] {
        assert!(people.by_session(&own, now).is_some() && people.by_session(&other, now).is_none());
        assert!(!people.signs_in("mara", PASSWORD));
    }
    home.people.set_role(&home.ledger, "mara", Role::Viewer).unwrap();
    let by_token = home.people.by_token(&token, now).unwrap();
    assert_eq!(by_token.role, Role::Viewer, "no token does more than whose it is");
    assert!(!home.people.still(&mara, now));
}

#[test]
fn a_token_is_for_its_role_its_gates_and_its_time() {
    let home = home();
    let local = Identity::local();
    let worker = home.token(Role::Worker, &["soundings"], &local).unwrap();
    let now = Timestamp::now();
    let known = home.again().by_token(&worker, now).unwrap();
    assert!(known.may(Role::Worker) && !known.may(Role::Viewer));
    assert!(known.may_at("soundings") && !known.may_at("tide"));
    assert_eq!(known.name(), "token worker");
    for (role, gates) in [(Role::Worker, &[][..]), (Role::Viewer, &["tide"][..])] {
        let refused = home.token(role, gates, &local);
        assert!(matches!(refused, Err(PeopleError::Refused(_))), "{role}");
    }
    let lasting = Some(SignedDuration::from_hours(1));
    let new = NewToken { label: Some("night".into()), role: Role::Viewer, gates: vec![], lasting };
    let (secret, view) = home.people.make_token(&home.ledger, new, &local).unwrap();
    let later = now + SignedDuration::from_hours(2);
    assert!(home.people.by_token(&secret, now).is_some());
    assert!(home.people.by_token(&secret, later).is_none(), "it has ended");
    home.people.revoke_token(&home.ledger, view.id, &local).unwrap();
    assert!(home.people.by_token(&secret, now).is_none());
    assert!(home.again().by_token(&secret, now).is_none());
    // What is kept opens nothing.
    let kept = std::fs::read(home.folder.path().join(FILE_NAME)).unwrap();
    let shown = worker.as_bytes();
    assert!(!kept.windows(shown.len()).any(|part| part == shown));
}

#[test]
fn nobody_gives_more_than_they_have() {
    let home = home();
    home.user("mara", Role::Operator);
    home.user("ada", Role::Admin);
    let ((_, mara), (_, ada)) = (home.session(Some("mara")), home.session(Some("ada")));
    let own = home.token(Role::Operator, &[], &mara).unwrap();
    for (role, gates) in [(Role::Admin, &[][..]), (Role::Worker, &["tide"][..])] {
        assert!(matches!(home.token(role, gates, &mara), Err(PeopleError::Forbidden(_))), "{role}");
    }
    home.token(Role::Worker, &["tide"], &ada).unwrap();
    let by_token = home.people.by_token(&own, Timestamp::now()).unwrap();
    let more = home.token(Role::Viewer, &[], &by_token);
    assert!(matches!(more, Err(PeopleError::Forbidden(_))), "a token that got out makes no other");
    let of_ada = ada.session().unwrap();
    let not_hers = home.people.end_session(&home.ledger, of_ada, &mara);
    assert!(matches!(not_hers, Err(PeopleError::None(_))));
    home.people.end_session(&home.ledger, mara.session().unwrap(), &ada).unwrap();
    assert!(!home.people.still(&mara, Timestamp::now()));
}

#[test]
fn a_session_ends_when_nothing_is_done_and_in_any_case_after_a_week() {
    let home = home();
    home.user("mara", Role::Viewer);
    let (sum, _) = home.session(Some("mara"));
    let begun = Timestamp::now();
    let mut at = begun;
    while at < begun + LONGEST_SESSION - SignedDuration::from_mins(5) {
        let (_, record) = home.people.by_session(&sum, at).expect("it is used");
        assert_eq!(record, at != begun, "it is recorded by the minute");
        at += SignedDuration::from_hours(11);
    }
    assert!(home.people.by_session(&sum, begun + LONGEST_SESSION).is_none());
    let (idle, _) = home.session(None);
    let later = Timestamp::now() + IDLE_SESSION + SignedDuration::from_mins(1);
    assert!(home.people.by_session(&idle, later).is_none());
    assert!(home.again().by_session(&idle, later).is_none());
}

fn audited(number: i64) -> NewAudit {
    NewAudit {
        who: "mara".into(),
        address: "127.0.0.1".into(),
        what: "pause".into(),
        about: format!("gate tide {number}"),
        why: "the gauge is being repaired".into(),
        status: 200,
    }
}

#[test]
fn a_line_of_the_log_that_is_changed_removed_or_cut_off_shows() {
    for (attack, told) in [
        ("UPDATE audit SET who = 'ada' WHERE id = 3", "line 3 is not as it was written"),
        ("DELETE FROM audit WHERE id = 2", "line 2 is missing"),
        ("DELETE FROM audit WHERE id > 3", "the last lines are missing, from 4 to 5"),
        ("DELETE FROM audit WHERE id = 1", "line 1 is missing"),
        (
            "INSERT INTO audit SELECT 6, at, who, address, what, about, why, status, sum FROM audit WHERE id = 5",
            "line 6 is not as it was written",
        ),
    ] {
        let home = home();
        (1..=5).for_each(|number| home.ledger.audit(vec![audited(number)]).unwrap());
        let whole = home.ledger.verify_audit(None).unwrap();
        assert_eq!((whole.lines, whole.faults.len()), (5, 0), "{whole:?}");
        let known = home.ledger.verify_audit(whole.sum.as_ref()).unwrap().known;
        assert_eq!(known, Some(true));
        let other = Connection::open(home.folder.path().join(FILE_NAME)).unwrap();
        let guarded = other.execute_batch(attack);
        assert_eq!(guarded.is_err(), !attack.starts_with("INSERT"), "{attack}: {guarded:?}");
        let guards = "DROP TRIGGER audit_stays; DROP TRIGGER audit_is_kept;";
        other.execute_batch(guards).unwrap();
        if guarded.is_err() {
            other.execute_batch(attack).unwrap();
        }
        let proof = home.ledger.verify_audit(None).unwrap();
        assert!(proof.faults.iter().any(|fault| fault == told), "{attack}: {proof:?}");
    }
}

#[test]
fn what_is_dropped_after_its_time_leaves_a_log_that_proves_itself() {
    let home = home();
    (1..=3).for_each(|number| home.ledger.audit(vec![audited(number)]).unwrap());
    let known = home.ledger.verify_audit(None).unwrap().sum.unwrap();
    let between = loop {
        let now = Timestamp::now();
        if now.as_millisecond()
            > home.ledger.audit_lines(&AuditQuery::default()).unwrap()[0].at.as_millisecond()
        {
            break now;
        }
    };
    home.ledger.audit(vec![audited(4)]).unwrap();
    assert_eq!(home.ledger.drop_audit(between).unwrap(), 3);
    assert_eq!(home.ledger.drop_audit(between).unwrap(), 0);
    let proof = home.ledger.verify_audit(Some(&known)).unwrap();
    assert_eq!((proof.lines, proof.first, &proof.faults), (1, Some(4), &Vec::new()));
    assert_eq!(proof.known, Some(true), "the last that was dropped is known by its sum");
    home.ledger.audit(vec![audited(5)]).unwrap();
    let text = Some("TIDE 5".to_owned());
    let found = home.ledger.audit_lines(&AuditQuery { text, ..AuditQuery::default() }).unwrap();
    assert_eq!(found.iter().map(|line| line.id).collect::<Vec<_>>(), [5]);
    let all = home.ledger.audit_lines(&AuditQuery { before: Some(5), ..AuditQuery::default() });
    assert_eq!(all.unwrap().iter().map(|line| line.id).collect::<Vec<_>>(), [4]);
}
