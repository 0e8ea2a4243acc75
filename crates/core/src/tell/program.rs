//! Telling by a program, which reads the message from its input.

use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use crate::ledger::{Ledger, Message};
use crate::tell::delivered::Delivered;
use crate::tell::message::Body;
use crate::work::run::process::{Ended, Order, run};

/// How long a program may run.
const LIMIT: Duration = Duration::from_secs(120);

/// Runs the program; what it came to.
pub(crate) fn send(
    (program, args): (&Path, &[String]),
    message: &Message,
    body: &Body,
    ledger: &Ledger,
    folder: &Path,
    stopping: &AtomicBool,
) -> Delivered {
    let input = serde_json::json!({
        "id": message.uid,
        "tell": message.tell,
        "at": message.at,
        "subject": body.subject,
        "text": body.text,
        "events": body.events,
        "more": body.more,
        "report": body.report.as_ref().map(|written| &written.report),
    });
    let order = Order {
        program,
        args: args.to_vec(),
        environment: environment(ledger, message, body),
        handed_on: &[],
        folder,
        limit: LIMIT,
        input: Some(input.to_string().into_bytes()),
    };
    let (ended, _) = run(&order, stopping);
    match ended {
        Ended::Done => Delivered::Taken,
        Ended::Again => Delivered::Later("the program says try again later".into()),
        Ended::Failed(why) | Ended::NotStarted(why) => Delivered::Later(why),
        Ended::Stopped => Delivered::Later("the service stopped while it ran".into()),
    }
}

/// What is always told, and of a message about one file the file.
fn environment(ledger: &Ledger, message: &Message, body: &Body) -> Vec<(String, String)> {
    let mut variables = vec![
        ("VADEGATE_TELL".to_owned(), message.tell.clone()),
        ("VADEGATE_SUBJECT".to_owned(), body.subject.clone()),
    ];
    if let [event] = &body.events[..]
        && body.more == 0
        && let Some(entry) = event.entry
        && let Ok(Some(entry)) = ledger.entry(entry)
    {
        variables.extend(crate::work::run::entry_environment(&entry, &entry.lies_at()));
    }
    // A variable has no NUL in it.
    variables.retain(|(_, value)| !value.contains('\0'));
    variables
}
