//! `[tell.NAME]` and `[mail]`: who hears of what, and how.

use std::path::{Path, PathBuf};
use std::time::Duration;

use http::Uri;

use crate::config::schedule::Hours;
use crate::config::tell_words::TellKind;
use crate::pattern::Pattern;
use crate::settings::keys::{check_name, duration, join, patterns};
use crate::settings::reader::{Section, nearest};
use crate::settings::secret::Secret;
use crate::settings::values::parse_duration;

/// Somebody who hears of some of what happens.
#[derive(Debug, Clone)]
pub struct Tell {
    /// Its name.
    pub name: String,
    /// Of what.
    pub of: Vec<TellKind>,
    /// About which gates, dues and lookouts; about all where it is empty.
    pub about: Vec<Pattern>,
    /// What comes within this time of the first goes into one message.
    pub gather: Duration,
    /// After this time what lasts is told again. Default never.
    pub again: Option<Duration>,
    /// So many messages in so long a time.
    pub at_most: Option<(u32, Duration)>,
    /// When messages go out; outside they wait.
    pub hours: Vec<Hours>,
    /// By what.
    pub by: TellBy,
}

/// By what somebody is told.
#[derive(Debug, Clone)]
pub enum TellBy {
    /// A mail to these addresses.
    Mail(Vec<String>),
    /// A request to this address, signed with the secret.
    Http {
        /// The address.
        url: String,
        /// The secret of the signature.
        secret: Option<Secret>,
        /// Certificates of those who vouch for the receiver.
        certificates: Option<PathBuf>,
    },
    /// A program that reads the message from its input.
    Run {
        /// The program.
        program: PathBuf,
        /// Its arguments.
        args: Vec<String>,
    },
}

/// By which server mails go out.
#[derive(Debug, Clone)]
pub struct MailServer {
    /// Its host.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Whether it speaks TLS, and from when on.
    pub tls: MailTls,
    /// Who sends.
    pub from: String,
    /// Who signs in.
    pub user: Option<String>,
    /// With what.
    pub password: Option<Secret>,
    /// Certificates of those who vouch for it.
    pub certificates: Option<PathBuf>,
}

/// When the connection to a mail server is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailTls {
    /// From the beginning: `smtps://`.
    Whole,
    /// By STARTTLS, where it offers that.
    Offered,
    /// By STARTTLS, or not at all.
    Required,
}

impl Tell {
    /// Whether it hears of something of a kind.
    pub fn hears(&self, kind: TellKind, about: &str) -> bool {
        let of = self.of.contains(&TellKind::All) || self.of.contains(&kind);
        of && (self.about.is_empty() || self.about.iter().any(|one| one.is_match(about)))
    }

    /// To whom it goes, in words.
    pub fn receiver(&self) -> String {
        match &self.by {
            TellBy::Mail(to) => format!("mail to {}", to.join(", ")),
            TellBy::Http { url, .. } => format!("http to {}", shown_address(url)),
            TellBy::Run { program, .. } => format!("program {}", program.display()),
        }
    }
}

/// An address without what may be a secret in it: host and path.
pub(crate) fn shown_address(url: &str) -> String {
    url.split(['?', '#']).next().unwrap_or_default().to_owned()
}

/// Reads `[mail]`.
pub(crate) fn read_mail(section: Option<Section<'_>>, folder: &Path) -> Option<MailServer> {
    let mut section = section?;
    let server = section.text("server");
    if server.is_none() {
        section.fault_here(
            "[mail] has no `server`; say one such as server = \"smtp://mail.sound.example:587\""
                .into(),
        );
    }
    let from = section.text("from");
    match &from {
        None => section.fault_here("[mail] has no `from`: the address that sends".into()),
        Some(from) if from.value.parse::<lettre::message::Mailbox>().is_err() => {
            from.at.fault(format!("`from` is \"{}\", which is no mail address", from.value));
        }
        Some(_) => {}
    }
    let user = section.text("user").map(|text| text.value);
    let password = match section.has("password") {
        true => section
            .section("password")
            .and_then(|table| Secret::table(table, folder, "the password of the mail server")),
        false => None,
    };
    if user.is_some() != password.is_some() {
        section.fault_here("`user` and `password` of [mail] go together".into());
    }
    let required = section.choice("tls", &[("required", true), ("offered", false)]);
    let certificates = section.text("certificates").map(|text| join(folder, &text.value));
    section.finish();
    let server = server?;
    let Some((host, port, whole)) = mail_server(&server.value) else {
        server.at.fault(
            "`server` is no mail server; expected one such as \"smtp://mail.sound.example:587\" or \"smtps://mail.sound.example\", without user or password"
                .into(),
        );
        return None;
    };
    let tls = match (whole, required) {
        (true, _) => MailTls::Whole,
        (false, Some(true)) => MailTls::Required,
        (false, _) => MailTls::Offered,
    };
    if user.is_some() && tls == MailTls::Offered && !is_local(&host) {
        server.at.fault(
            "a password would go out without encryption where the server offers none; say tls = \"required\", or smtps://"
                .into(),
        );
    }
    Some(MailServer { host, port, tls, from: from?.value, user, password, certificates })
}

fn is_local(host: &str) -> bool {
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

fn mail_server(text: &str) -> Option<(String, u16, bool)> {
    let (whole, rest) = match text.strip_prefix("smtps://") {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix("smtp://")?),
    };
    let uri: Uri = format!("smtp://{}/", rest.trim_end_matches('/')).parse().ok()?;
    let authority = uri.authority()?;
    if authority.as_str().contains('@') || !uri.path().trim_matches('/').is_empty() {
        return None;
    }
    let host = authority.host().trim_matches(['[', ']']).to_owned();
    let port = authority.port_u16().unwrap_or(if whole { 465 } else { 587 });
    (!host.is_empty()).then_some((host, port, whole))
}

/// Reads all `[tell.NAME]` sections.
pub(crate) fn read_all(
    sections: Vec<(String, Section<'_>)>,
    mail: bool,
    folder: &Path,
) -> Vec<Tell> {
    let mut tells: Vec<Tell> = Vec::new();
    for (name, section) in sections {
        check_name(&section, "tell", &name);
        if tells.iter().any(|other| other.name == name) {
            section.fault_here(format!("the tell `{name}` is there twice; give one another name"));
        }
        tells.extend(read(name, section, mail, folder));
    }
    tells
}

fn read(name: String, mut section: Section<'_>, mail: bool, folder: &Path) -> Option<Tell> {
    let of = read_of(&mut section);
    let about = patterns(section.texts("about").unwrap_or_default(), true);
    let gather = duration(&mut section, "gather").unwrap_or(Duration::from_secs(60));
    let again = duration(&mut section, "again");
    if again.is_some_and(|again| again < Duration::from_secs(60)) {
        section.fault_at("again", "`again` is at least \"1m\"".into());
    }
    let at_most = read_at_most(&mut section);
    let mut hours = Vec::new();
    for text in section.texts("hours").unwrap_or_default() {
        match Hours::parse(&text.value) {
            Ok(one) => hours.push(one),
            Err(why) => text.at.fault(format!("`hours`: {why}")),
        }
    }
    let by = read_by(&name, &mut section, mail, folder);
    section.finish();
    Some(Tell { name, of, about, gather, again, at_most, hours, by: by? })
}

fn read_of(section: &mut Section<'_>) -> Vec<TellKind> {
    let mut of = Vec::new();
    for text in section.texts("of").unwrap_or_default() {
        match TellKind::of(&text.value) {
            Some(kind) => of.push(kind),
            None => {
                let words = || TellKind::EVERY.iter().map(|kind| kind.word());
                let near = nearest(&text.value, words());
                let hint = near.map(|near| format!("; did you mean \"{near}\"?"));
                let hint = hint.unwrap_or_else(|| {
                    format!("; known are {}", words().collect::<Vec<_>>().join(", "))
                });
                text.at
                    .fault(format!("`of` has \"{}\", which is nothing to tell{hint}", text.value));
            }
        }
    }
    if of.is_empty() && !section.has("of") {
        section.fault_here(
            "`of` is missing: say what is told, such as of = [\"held\", \"late\", \"missing\"]"
                .into(),
        );
    }
    of
}

/// `10 in 1h`
fn read_at_most(section: &mut Section<'_>) -> Option<(u32, Duration)> {
    let text = section.text("at_most")?;
    let read = text.value.split_once(" in ").and_then(|(count, span)| {
        let count = count.trim().parse().ok().filter(|count| *count > 0)?;
        Some((count, parse_duration(span.trim()).ok()?))
    });
    if read.is_none() {
        text.at.fault(format!(
            "`at_most` is \"{}\"; expected a number in a time such as \"10 in 1h\"",
            text.value
        ));
    }
    read
}

fn read_by(name: &str, section: &mut Section<'_>, mail: bool, folder: &Path) -> Option<TellBy> {
    let mut all: Vec<Option<TellBy>> = Vec::new();
    if section.has("mail") {
        all.push(section.section("mail").and_then(|table| read_mail_to(table, mail)));
    }
    if section.has("http") {
        all.push(section.section("http").and_then(|table| read_http(table, folder)));
    }
    if section.has("run") {
        all.push(section.section("run").and_then(|table| read_run(table, folder)));
    }
    if all.len() != 1 {
        section.fault_here(format!(
            "the tell `{name}` goes by one of mail = {{ to = [\"…\"] }}, http = {{ url = \"…\" }} and run = {{ program = \"…\" }}"
        ));
    }
    all.pop().flatten()
}

fn read_mail_to(mut table: Section<'_>, mail: bool) -> Option<TellBy> {
    if !mail {
        table.fault_here("there is no mail server; write [mail] with `server` and `from`".into());
    }
    let to = table.texts("to").unwrap_or_default();
    if to.is_empty() {
        table.fault_here("`to` is missing: mail = { to = [\"desk@sound.example\"] }".into());
    }
    for one in &to {
        if one.value.parse::<lettre::message::Mailbox>().is_err() {
            one.at.fault(format!("`to` has \"{}\", which is no mail address", one.value));
        }
    }
    table.finish();
    Some(TellBy::Mail(to.into_iter().map(|one| one.value).collect()))
}

fn read_http(mut table: Section<'_>, folder: &Path) -> Option<TellBy> {
    let url = table.text("url");
    if let Some(url) = &url {
        let host = url.value.split_once("://").map_or("", |(_, rest)| rest);
        let host = host.split(['/', '?', '#']).next().unwrap_or("");
        let web = url.value.starts_with("http://") || url.value.starts_with("https://");
        if !web || host.is_empty() || host.contains('@') || url.value.parse::<Uri>().is_err() {
            // It may have a secret in it: it is not repeated.
            url.at.fault(
                "`url` is no address to tell; expected \"https://HOST/PATH\", without user or password"
                    .into(),
            );
        }
    } else {
        table.fault_here("`url` is missing: http = { url = \"https://…\" }".into());
    }
    let secret = match table.has("secret") {
        true => table
            .section("secret")
            .and_then(|one| Secret::table(one, folder, "the secret of the signature")),
        false => None,
    };
    let certificates = table.text("certificates").map(|text| join(folder, &text.value));
    table.finish();
    Some(TellBy::Http { url: url?.value, secret, certificates })
}

fn read_run(mut table: Section<'_>, folder: &Path) -> Option<TellBy> {
    let program = table.text("program");
    if program.is_none() {
        table.fault_here("`program` is missing: run = { program = \"bin/tell\" }".into());
    }
    let args = table.texts("args").unwrap_or_default();
    let args = args.into_iter().map(|arg| arg.value).collect();
    table.finish();
    // A name alone is looked for where programs are.
    let program = program.map(|text| match text.value.contains('/') {
        true => join(folder, &text.value),
        false => PathBuf::from(text.value),
    });
    Some(TellBy::Run { program: program?, args })
}
