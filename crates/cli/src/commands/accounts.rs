//! `user`, `token` and `audit`: who may do what, and who did it.

use std::io::{self, BufRead, IsTerminal, Read};
use std::process::ExitCode;

use jiff::tz::TimeZone;
use vadegate_core::config::Config;
use vadegate_core::ledger::{AuditLine, AuditProof, AuditQuery};
use vadegate_core::people::{TokenView, UserView};
use vadegate_service::{PasswordOrder, RoleOrder, TokenOrder, UserOrder};

use super::ledger::since_until;
use crate::args::{Accounts, Audit, NewToken, Token, User};
use crate::client::Doer;
use crate::failure::{FAILED, Failure};
use crate::show;

/// A longer line is no password.
const LONGEST: u64 = 4096;

pub fn accounts(config: Config, command: &Accounts) -> Result<ExitCode, Failure> {
    let zone = config.service.timezone.clone();
    match command {
        Accounts::User(command) => user(config, command, &zone)?,
        Accounts::Token(Token::New(args)) => new_token(config, args, &zone)?,
        Accounts::Token(Token::List { json }) => {
            let tokens = Doer::to_ask(config)?.tokens()?;
            if *json { show::json(&tokens)? } else { print_tokens(&tokens, &zone)? }
        }
        Accounts::Token(Token::Revoke { id }) => {
            Doer::of(config)?.revoke_token(*id)?;
            show::line(&format!("token {id} is revoked; what it was shown for ends now"))?;
        }
        Accounts::Audit(args) if args.verify => return verify(config, args),
        Accounts::Audit(args) => audit(config, args, &zone)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn user(config: Config, command: &User, zone: &TimeZone) -> Result<(), Failure> {
    match command {
        User::Add { name, role } => {
            let order =
                UserOrder { name: name.clone(), role: *role, password: new_password(name)? };
            Doer::of(config)?.add_user(&order)?;
            show::line(&format!("{name} may sign in, as {role}"))
        }
        User::List { json } => {
            let users = Doer::to_ask(config)?.users()?;
            if *json { show::json(&users) } else { print_users(&users, zone) }
        }
        User::Role { name, role } => {
            Doer::of(config)?.set_role(name, &RoleOrder { role: *role })?;
            show::line(&format!("{name} has the role {role} now; their sessions have ended"))
        }
        User::Password { name } => {
            let order = PasswordOrder { password: new_password(name)?, present: None };
            Doer::of(config)?.set_password(name, &order)?;
            show::line(&format!("{name} has another password; their sessions have ended"))
        }
        User::Remove { name } => {
            Doer::of(config)?.remove_user(name)?;
            show::line(&format!("{name} is removed, with sessions and tokens"))
        }
    }
}

/// Asks for a password twice at a terminal; elsewhere the first line of the input is it.
fn new_password(name: &str) -> Result<String, Failure> {
    let ask = |what: &str| {
        rpassword::prompt_password(format!("{what} for {name}: ")).map_err(Failure::from)
    };
    if io::stdin().is_terminal() {
        let password = ask("Password")?;
        if ask("The same again")? != password {
            return Err(Failure::Wrong("the two are not the same; nothing was done".into()));
        }
        return Ok(password);
    }
    let mut line = String::new();
    let read = io::stdin().lock().take(LONGEST).read_line(&mut line)?;
    if read == 0 {
        return Err(Failure::Wrong(
            "no password came; write it into the input, as one line".into(),
        ));
    }
    Ok(line.trim_end_matches(['\n', '\r']).to_owned())
}

fn new_token(config: Config, args: &NewToken, zone: &TimeZone) -> Result<(), Failure> {
    let order = TokenOrder {
        label: args.label.clone(),
        role: args.role,
        gates: args.gates.clone(),
        lasting: args.lasting.clone(),
    };
    let made = Doer::of(config)?.make_token(&order)?;
    if args.json {
        return show::json(&made);
    }
    show::line(&made.secret)?;
    let until = match made.token.until {
        Some(until) => format!("until {}", show::time(until, zone)),
        None => "until it is revoked".to_owned(),
    };
    // Only the token is on standard output, so that it can be written into a file.
    show::say(&format!(
        "This is token {}, good {until}. It is shown this once; keep it where nobody else reads, and name it with --token-file or VADEGATE_TOKEN.",
        made.token.id
    ));
    Ok(())
}

fn print_users(users: &[UserView], zone: &TimeZone) -> Result<(), Failure> {
    if users.is_empty() {
        return show::line(
            "There are no users: only the token of the state folder opens anything. `vadegate user add NAME --role admin` adds one.",
        );
    }
    let mut table =
        show::table(&["USER", "ROLE", "SESSIONS", "TOKENS", "LAST SEEN", "ADDED", "BY"]);
    for user in users {
        table.add_row([
            show::cell(&user.name),
            show::cell(user.role),
            show::count(user.sessions),
            show::count(user.tokens),
            show::cell(show::ago(user.used_at)),
            show::cell(show::time(user.made_at, zone)),
            show::cell(&user.made_by),
        ]);
    }
    show::print(&table)
}

fn print_tokens(tokens: &[TokenView], zone: &TimeZone) -> Result<(), Failure> {
    if tokens.is_empty() {
        return show::line("There are no tokens but that of the state folder.");
    }
    let headings = ["TOKEN", "NAME", "ROLE", "GATES", "OF", "GOOD UNTIL", "LAST SHOWN", "MADE BY"];
    let mut table = show::table(&headings);
    for token in tokens {
        let gates = if token.gates.is_empty() { "all".to_owned() } else { token.gates.join(", ") };
        let until = match token.until {
            Some(until) if until < jiff::Timestamp::now() => "ended".to_owned(),
            Some(until) => show::time(until, zone),
            None => "revoked".to_owned(),
        };
        table.add_row([
            show::cell(token.id),
            show::cell(&token.label),
            show::cell(token.role),
            show::cell(gates),
            show::cell(token.owner.as_deref().unwrap_or("")),
            show::cell(until),
            show::cell(show::ago(token.used_at)),
            show::cell(&token.made_by),
        ]);
    }
    show::print(&table)
}

fn audit(config: Config, args: &Audit, zone: &TimeZone) -> Result<(), Failure> {
    let (since, until) = match &args.since {
        Some(since) => {
            let (since, until) = since_until(since, None, zone)?;
            (Some(since), until)
        }
        None => (None, None),
    };
    let asked = Doer::to_ask(config)?;
    let mut query = AuditQuery {
        who: args.who.clone(),
        what: args.what.clone(),
        text: args.text.clone(),
        since,
        until,
        failed: args.failed,
        before: None,
        limit: None,
    };
    let mut lines: Vec<AuditLine> = Vec::new();
    while (lines.len() as u64) < u64::from(args.limit) {
        let left = args.limit.saturating_sub(u32::try_from(lines.len()).unwrap_or(u32::MAX));
        query.limit = Some(left.min(1000));
        let page = asked.audit_lines(&query)?;
        let Some(last) = page.last() else { break };
        query.before = Some(last.id);
        lines.extend(page);
    }
    if args.json {
        return show::json(&lines);
    }
    if lines.is_empty() {
        return show::line("Nothing in the log fits.");
    }
    let mut table =
        show::table(&["LINE", "WHEN", "WHO", "FROM", "WHAT", "STATUS", "ABOUT AND WHY"]);
    for line in &lines {
        let about = match (line.about.is_empty(), line.why.is_empty()) {
            (false, false) => format!("{}: {}", line.about, line.why),
            _ => format!("{}{}", line.about, line.why),
        };
        table.add_row([
            show::cell(line.id),
            show::cell(show::time(line.at, zone)),
            show::cell(&line.who),
            show::cell(&line.address),
            show::cell(&line.what),
            show::cell(line.status),
            show::cell(about),
        ]);
    }
    show::unbroken(&mut table, &[0, 1, 4, 5]);
    show::print(&table)
}

fn verify(config: Config, args: &Audit) -> Result<ExitCode, Failure> {
    let proof = Doer::to_ask(config)?.audit_proof(args.known.as_deref())?;
    if args.json {
        show::json(&proof)?;
    } else {
        tell_proof(&proof)?;
    }
    let sound = proof.faults.is_empty() && proof.known != Some(false);
    Ok(if sound { ExitCode::SUCCESS } else { ExitCode::from(FAILED) })
}

fn tell_proof(proof: &AuditProof) -> Result<(), Failure> {
    let AuditProof { lines, first, last, sum, faults, known } = proof;
    for fault in faults {
        show::line(fault)?;
    }
    if let (Some(first), Some(last), Some(sum)) = (first, last, sum) {
        let lines = show::counted(*lines, "line", "lines");
        let state = if faults.is_empty() { "all as they were written" } else { "not as they were" };
        show::line(&format!("{lines}, from {first} to {last}: {state}."))?;
        show::line(&format!("The sum of the last is {sum}."))?;
    } else if faults.is_empty() {
        show::line("The log is empty.")?;
    }
    match known {
        Some(true) => show::line("The sum that you know stands in it."),
        Some(false) => show::line(
            "The sum that you know does not stand in it: what was written up to it was changed, or dropped after its time.",
        ),
        None => Ok(()),
    }
}
