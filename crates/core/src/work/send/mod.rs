//! The work `send`: each file goes to a receiver by HTTP.
//!
//! With `ask` the effect is proven: after an interruption, and before every attempt but the
//! first, the receiver is asked whether it has the file. Without it a connection that was
//! cut after the request began leaves everybody in doubt.

pub(crate) mod answers;
pub(crate) mod config;
pub(crate) mod request;

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use crate::fault::at;
use crate::files::version::Version;
use crate::ledger::pending::OpenClaim;
use crate::ledger::requests::{Claimed, MadeOutput, OutputAt, PlannedOutput};
use crate::ledger::types::{Entry, OpenEntry};
use crate::ledger::words::{Effect, OutputMode, OutputRole, WorkKind};
use crate::pattern::template::{Template, TemplateError};
use crate::settings::reader::Section;
use crate::work::batch::Batch;
use crate::work::env::Env;
use crate::work::outcome::{Asked, Carried, Failure, Made, SourceFault};
use crate::work::retry::Retry;
use crate::work::seam::{
    Blocked, Drive, EntryVerdict, Planned, ReadContext, Work, WorkFindings, WorkPlan, WorkView,
    Worker,
};
use crate::work::send::answers::{LONGEST_WAIT, judge, judge_asked, leave_alone, left_alone};
use crate::work::send::config::SendConfig;
use crate::work::send::request::{NoAnswer, Outgoing, agent, ask, send};
use vadegate_places::{CertificateFault, certificates_in};

/// Letters, digits, and what RFC 3986 calls unreserved, stand as they are in an address.
const KEPT: AsciiSet = NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');

/// Reads the `send` section of a gate.
pub(crate) fn read(section: Section<'_>, context: &ReadContext<'_>) -> Option<Arc<dyn Work>> {
    Some(Arc::new(Send(Arc::new(config::read(section, context)?))))
}

/// Why the entries of a request to a receiver that its gate does not know any more are held.
pub(crate) fn lost_place(place: &str, proof: &str) -> String {
    format!(
        "interrupted while it was sent to `{place}`, which the gate does not name any more; \
         ask there whether it has come (batch {proof}), then release it"
    )
}

/// The work of a gate that sends.
#[derive(Debug)]
struct Send(Arc<SendConfig>);

impl Work for Send {
    fn kind(&self) -> WorkKind {
        WorkKind::Send
    }

    fn effect(&self) -> Effect {
        if self.0.ask.is_some() { Effect::Proven } else { Effect::Unprovable }
    }

    fn drive(&self) -> Drive {
        Drive::Each
    }

    fn retry(&self) -> Retry {
        self.0.retry
    }

    fn longest_wait(&self, tries: u32) -> Duration {
        self.0.retry.longest(tries).max(LONGEST_WAIT)
    }

    fn view(&self) -> WorkView {
        WorkView {
            does: "sends each file by HTTP",
            label: "Receiver",
            detail: Some(self.0.to.source().to_owned()),
            adds: false,
        }
    }

    fn place(&self) -> String {
        format!("nothing can be sent to `{}`", self.0.to.source())
    }

    fn meant_fields(&self) -> Vec<&str> {
        self.0.to.uses().collect()
    }

    fn check(&self, _: &Path, findings: &mut WorkFindings) {
        let config = &self.0;
        if let Some(path) = &config.certificates
            && let Err(why) = certificates_in(path)
        {
            findings.faults.push(why.to_string());
        }
        if let Err(why) = request::headers(config) {
            findings.faults.push(why.to_string());
        }
        if config.to.source().starts_with("http:") && !is_local(config.to.source()) {
            findings.warnings.push(format!(
                "files are sent to `{}` without encryption; say https:// where the receiver has it",
                config.to.source()
            ));
        }
        if config.ask.is_none() {
            findings.warnings.push(
                "without `ask` a file whose connection was cut is held: nobody can know whether it came; name where the receiver tells, or say interrupted = \"retry\" if it may come twice".to_owned(),
            );
        }
    }

    fn knows(&self, place: &str) -> bool {
        place.starts_with(self.0.to.fixed_start())
    }

    fn open(&self) -> Option<Box<dyn Worker>> {
        Some(Box::new(Sender { config: Arc::clone(&self.0), agent: None }))
    }
}

/// Whether an address is one of this machine.
fn is_local(address: &str) -> bool {
    let host = address.trim_start_matches("http://");
    let host = host.split(['/', '?']).next().unwrap_or("");
    let host = host.rsplit_once(':').map_or(host, |(host, _)| host);
    matches!(host, "localhost" | "127.0.0.1" | "[::1]")
}

/// The address that a template comes to for an entry; values are percent-encoded.
fn address(template: &Template, entry: &Entry, env: &Env<'_>) -> Result<String, TemplateError> {
    let coded = |value: String| utf8_percent_encode(&value, &KEPT).to_string();
    template.text_with(&entry.fields, &env.values(entry), coded)
}

/// What sends: it makes the requests of one gate.
struct Sender {
    config: Arc<SendConfig>,
    agent: Option<ureq::Agent>,
}

impl Sender {
    fn agent(&mut self) -> Result<ureq::Agent, CertificateFault> {
        if let Some(agent) = &self.agent {
            return Ok(agent.clone());
        }
        Ok(self.agent.insert(agent(&self.config)?).clone())
    }
}

impl Worker for Sender {
    fn plan(&mut self, batch: Batch, env: &Env<'_>) -> Result<WorkPlan, Blocked> {
        let agent = self.agent().map_err(|fault| Blocked::Away(fault.to_string()))?;
        let config = &self.config;
        let (mut verdicts, mut letters, mut outputs) = (Vec::new(), Vec::new(), Vec::new());
        let mut doing = String::new();
        for member in batch.members {
            let entry = &member.filing.entry;
            let to = address(&config.to, entry, env);
            let ask = config.ask.as_ref().map(|ask| address(ask, entry, env)).transpose();
            let verdict = match (to, ask) {
                (Err(why), _) | (_, Err(why)) => EntryVerdict::Hold(why.to_string()),
                (Ok(to), Ok(ask)) => {
                    if let Some(left) = left_alone(&to) {
                        let asked = crate::settings::values::write_duration(left);
                        return Err(Blocked::Away(format!(
                            "it asked to be left alone, for {asked} more"
                        )));
                    }
                    if (env.is_unchanged)(&member.filing) {
                        doing = format!("sending {} to {to}", entry.path);
                        outputs.push(sent(&to));
                        letters.push(Letter {
                            to,
                            ask,
                            filing: member.filing.clone(),
                            path: member.path.clone(),
                        });
                        EntryVerdict::Fits
                    } else {
                        EntryVerdict::Gone
                    }
                }
            };
            verdicts.push((member, verdict));
        }
        let work = Box::new(Sending { config: Arc::clone(config), agent, letters });
        Ok(WorkPlan { verdicts, outputs, program: None, foreign: None, doing, work })
    }

    fn ask(
        &mut self,
        claim: &OpenClaim,
        entries: &[Entry],
        env: &Env<'_>,
    ) -> Result<Asked, Blocked> {
        let agent = self.agent().map_err(|fault| Blocked::Away(fault.to_string()))?;
        let (Some(template), Some(entry)) = (&self.config.ask, entries.first()) else {
            return Ok(Asked::NotThere("interrupted before it was sent".into()));
        };
        let place = address(template, entry, env)?;
        match ask(&agent, &self.config, &place).map(|answer| judge_asked(&answer)) {
            Ok(Ok(true)) => {
                let outputs = claim.outputs.iter().map(|_| Some(copied(entry.bytes))).collect();
                Ok(Asked::There(Made { outputs, ..Made::default() }))
            }
            Ok(Ok(false)) => Ok(Asked::NotThere(
                "interrupted while it was sent; the receiver does not have it".into(),
            )),
            Ok(Err(why)) => Err(Blocked::Away(why.to_string())),
            Err(NoAnswer::Away(why) | NoAnswer::Cut(why) | NoAnswer::Wrong(why)) => {
                Err(Blocked::Away(why))
            }
        }
    }
}

/// A file at its receiver, as an output.
fn sent(to: &str) -> PlannedOutput {
    PlannedOutput {
        path: to.to_owned(),
        at: OutputAt::Proven,
        mode: OutputMode::Create,
        base_bytes: 0,
        base_sha256: None,
        of: None,
        role: OutputRole::Copy,
    }
}

/// What the ledger keeps of a file that was sent.
fn copied(bytes: u64) -> MadeOutput {
    MadeOutput { bytes, ..MadeOutput::default() }
}

/// A file with its receiver.
struct Letter {
    to: String,
    ask: Option<String>,
    filing: OpenEntry,
    path: std::path::PathBuf,
}

/// Files that are to be sent; entries are worked one by one.
struct Sending {
    config: Arc<SendConfig>,
    agent: ureq::Agent,
    letters: Vec<Letter>,
}

impl Planned for Sending {
    fn carry_out(self: Box<Self>, claimed: &Claimed, env: &Env<'_>) -> Carried {
        let (mut words, mut outputs) = (String::new(), Vec::new());
        for letter in &self.letters {
            match self.one(letter, claimed, env) {
                Ok(said) => {
                    words.push_str(&said);
                    outputs.push(Some(copied(letter.filing.entry.bytes)));
                }
                Err((failure, said)) => return Carried { words: said, outcome: Err(failure) },
            }
        }
        Carried { words, outcome: Ok(Made { outputs, ..Made::default() }) }
    }
}

impl Sending {
    /// Sends a file; gives what was answered.
    fn one(
        &self,
        letter: &Letter,
        claimed: &Claimed,
        env: &Env<'_>,
    ) -> Result<String, (Failure, String)> {
        let silent = |failure| (failure, String::new());
        if self.is_there(letter).map_err(silent)? {
            return Ok("the receiver has it already".to_owned());
        }
        let file = env.reach.at(&letter.path).and_then(|at| at.open());
        let file = file.map_err(|error| silent(source(error)))?;
        let meta = file.metadata().map_err(|error| silent(source(error)))?;
        if Version::of(&meta) != letter.filing.version {
            return Err(silent(Failure::Source(0, SourceFault::Changed)));
        }
        let entry = &letter.filing.entry;
        let outgoing = Outgoing {
            address: letter.to.clone(),
            name: entry.name.clone(),
            bytes: letter.filing.version.bytes,
            sha256: entry.sha256_there(),
            key: claimed.key.clone(),
        };
        at("send.begin").map_err(|error| silent(Failure::Away(error.to_string())))?;
        let answered = send(&self.agent, &self.config, &outgoing, file, env.stopping);
        if let Err(error) = at("send.answered") {
            return Err(silent(self.cut(error.to_string(), env)));
        }
        match answered {
            Ok(answer) => {
                let said = format!("{} {}", answer.status, answer.words);
                match judge(&answer) {
                    Ok(()) => Ok(said),
                    Err(failure) => {
                        if let Failure::Again(Some(wait), _) = &failure {
                            leave_alone(&letter.to, *wait);
                        }
                        Err((failure, said))
                    }
                }
            }
            Err(NoAnswer::Away(why)) => Err(silent(Failure::Away(why))),
            Err(NoAnswer::Wrong(why)) if why == request::Inside::Changed.to_string() => {
                Err(silent(Failure::Source(0, SourceFault::Changed)))
            }
            Err(NoAnswer::Wrong(why)) => Err(silent(Failure::Refused(why))),
            Err(NoAnswer::Cut(why)) => Err(silent(self.cut(why, env))),
        }
    }

    /// Before every attempt but the first the receiver is asked.
    fn is_there(&self, letter: &Letter) -> Result<bool, Failure> {
        let Some(place) = letter.ask.as_ref().filter(|_| letter.filing.entry.tries > 0) else {
            return Ok(false);
        };
        match ask(&self.agent, &self.config, place).map(|answer| judge_asked(&answer)) {
            Ok(Ok(there)) => Ok(there),
            Ok(Err(why)) => Err(Failure::Again(None, why.to_string())),
            Err(NoAnswer::Away(why) | NoAnswer::Cut(why)) => Err(Failure::Away(why)),
            Err(NoAnswer::Wrong(why)) => Err(Failure::Refused(why)),
        }
    }

    /// The connection was cut after the request began.
    fn cut(&self, why: String, env: &Env<'_>) -> Failure {
        if self.config.ask.is_some() {
            return Failure::Doubt(why);
        }
        let when = match env.stopping.load(std::sync::atomic::Ordering::Relaxed) {
            true => "the service stopped while it was sent".to_owned(),
            false => format!("the connection was cut after the request began ({why})"),
        };
        Failure::Interrupted(when)
    }
}

/// A source that cannot be read.
fn source(error: std::io::Error) -> Failure {
    Failure::Source(
        0,
        match error.kind() {
            std::io::ErrorKind::NotFound => SourceFault::Changed,
            _ => SourceFault::Unreadable(error),
        },
    )
}
