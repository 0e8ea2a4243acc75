//! The `send` section of a gate.

use std::path::PathBuf;
use std::time::Duration;

use http::{HeaderName, HeaderValue, Method, Uri};

use crate::pattern::template::Template;
use crate::settings::keys::{duration, join, template};
use crate::settings::reader::{Found, Section};
use crate::settings::secret::Secret;
use crate::work::retry::Retry;
use crate::work::seam::ReadContext;

/// The `send` section of a gate.
#[derive(Debug, Clone)]
pub(crate) struct SendConfig {
    /// Where to; values of fields are percent-encoded in it.
    pub to: Template,
    /// By what method. Default POST.
    pub method: Method,
    /// Headers beside our own.
    pub headers: Vec<(HeaderName, Secret)>,
    /// How the file stands in the request.
    pub body: Body,
    /// Where the receiver is asked whether it has a file.
    pub ask: Option<Template>,
    /// How long a request may take. Default 1 minute.
    pub limit: Duration,
    /// After an answer that says so. Default 30 s, doubled up to 30 min, 20 times.
    pub retry: Retry,
    /// Certificates of those who vouch for the receiver; those of the system when none are
    /// named.
    pub certificates: Option<PathBuf>,
}

/// How a file stands in the request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Body {
    /// It is the body.
    Whole,
    /// It is the part of this name in a form (RFC 7578).
    Form(String),
}

/// Headers that are ours to set.
const OURS: [&str; 5] =
    ["content-length", "transfer-encoding", "host", "idempotency-key", "repr-digest"];

pub(crate) fn read(mut section: Section<'_>, context: &ReadContext<'_>) -> Option<SendConfig> {
    let to = address(&mut section, "to", context.fields);
    if to.is_none() && !section.has("to") {
        section.fault_here(
            "`to` is missing: say where files are sent, such as to = \"https://intake.sound.example/v1/<name>\"".into(),
        );
    }
    let methods = [("POST", Method::POST), ("PUT", Method::PUT), ("PATCH", Method::PATCH)];
    let words: Vec<(&str, usize)> =
        methods.iter().enumerate().map(|(at, (word, _))| (*word, at)).collect();
    let method = section.choice("method", &words).unwrap_or(0);
    let headers = Secret::named(&mut section, "headers", context.folder);
    let headers = headers.into_iter().filter_map(|(name, value)| header(&section, &name, value));
    let headers = headers.collect();
    let body = body(&mut section);
    let ask = if section.has("ask") { address(&mut section, "ask", context.fields) } else { None };
    let limit = duration(&mut section, "limit").unwrap_or(Duration::from_secs(60));
    let retry = Retry::read(&mut section);
    let certificates = section.text("certificates");
    let certificates = certificates.map(|text| join(context.folder, &text.value));
    section.finish();
    let method = methods.into_iter().nth(method).map(|(_, method)| method)?;
    Some(SendConfig { to: to?, method, headers, body, ask, limit, retry, certificates })
}

/// An address of the web, with fields in it.
fn address(section: &mut Section<'_>, key: &'static str, fields: &[String]) -> Option<Template> {
    let text = section.text(key)?;
    if let Some(why) = unfit(&text) {
        // The address may have a secret in it: it is not repeated.
        text.at.fault(format!("`{key}` {why}"));
        return None;
    }
    template(&text, fields)
}

/// Why a text is no address to send to.
fn unfit(text: &Found<'_, String>) -> Option<&'static str> {
    let value = &text.value;
    if !value.starts_with("http://") && !value.starts_with("https://") {
        return Some("is no address of the web; expected \"https://HOST/PATH\"");
    }
    let host = value.split_once("//").map_or("", |(_, rest)| rest);
    let host = host.split(['/', '?', '#']).next().unwrap_or("");
    if host.contains('@') {
        return Some(
            "has a user or a password in it, where it would be shown; take it out and say headers = { Authorization = { env = \"NAME\" } }",
        );
    }
    if host.is_empty() || host.contains(['<', '>']) {
        return Some(
            "must name its host itself, without a field: files do not choose who gets them",
        );
    }
    if value.contains('#') {
        return Some("has a `#` in it, which is never sent");
    }
    let example: String = value.split('<').next().unwrap_or("").to_owned();
    example.parse::<Uri>().err().map(|_| "is no address of the web; expected \"https://HOST/PATH\"")
}

fn header(section: &Section<'_>, name: &str, value: Secret) -> Option<(HeaderName, Secret)> {
    let Ok(known) = name.parse::<HeaderName>() else {
        section.fault_here(format!("`{name}` is no name of a header"));
        return None;
    };
    if OURS.contains(&known.as_str()) {
        section
            .fault_here(format!("the header `{name}` is set by the request itself; take it out"));
        return None;
    }
    if let Secret::Text(text) = &value
        && HeaderValue::from_str(text).is_err()
    {
        section
            .fault_here(format!("the value of the header `{name}` has letters that none may have"));
        return None;
    }
    Some((known, value))
}

/// `as`: the body itself, or a part of a form.
fn body(section: &mut Section<'_>) -> Body {
    if !section.has("as") || section.is_text("as") {
        section.choice("as", &[("body", ())]);
        return Body::Whole;
    }
    let Some(mut form) = section.section("as") else { return Body::Whole };
    let name = form.text("form");
    if name.is_none() {
        form.fault_here("`form` is missing: as = { form = \"file\" } names the part".into());
    }
    form.finish();
    name.map_or(Body::Whole, |name| Body::Form(name.value))
}
