//! The words of a message.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::config::tell_words::TellKind;
use crate::tell::event::Event;
use crate::words::{grouped, visible};

/// So many events are told one by one.
pub(crate) const TOLD: usize = 50;

/// Letters of a subject.
const SUBJECT: usize = 140;

/// What a message says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Body {
    /// In one line.
    pub subject: String,
    /// For people.
    pub text: String,
    /// What it is about, oldest first.
    pub events: Vec<Event>,
    /// So many more there are.
    pub more: u64,
    /// Events by kind, those that are not told one by one too.
    pub counts: BTreeMap<String, u64>,
    /// A report, and its page for mail.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<Written>,
}

/// A report that is sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Written {
    pub page: String,
    pub report: serde_json::Value,
}

/// In whose words times and links are told.
pub(crate) struct Voice<'a> {
    pub zone: &'a TimeZone,
    /// Under which address the page is.
    pub address: Option<&'a str>,
}

impl Body {
    /// Writes what a message says of some events.
    pub fn of(events: &[Event], voice: &Voice<'_>) -> Self {
        let mut counts: BTreeMap<String, u64> = BTreeMap::new();
        for event in events {
            *counts.entry(event.word()).or_default() += 1;
        }
        let more = events.len().saturating_sub(TOLD);
        let events: Vec<Event> = events.iter().take(TOLD).cloned().collect();
        let subject = subject(&events, &counts);
        let (text_, more) = (String::new(), more as u64);
        let mut body = Body { subject, text: text_, events, more, counts, report: None };
        body.text = text(&body, voice);
        body
    }

    /// A report.
    pub fn report(subject: String, text: String, page: String, report: serde_json::Value) -> Self {
        let (events, counts) = (Vec::new(), BTreeMap::new());
        let report = Some(Written { page, report });
        Body { subject, text, events, more: 0, counts, report }
    }

    /// As a page for mail, which needs nothing from outside.
    pub fn html(&self, voice: &Voice<'_>) -> String {
        if let Some(written) = &self.report {
            return written.page.clone();
        }
        let mut html = String::from(
            "<!doctype html><html><body style=\"font-family:sans-serif;color:#1b2733\"><table \
             cellpadding=\"6\" style=\"border-collapse:collapse\">",
        );
        for event in &self.events {
            let colour = if event.over { "#1f7a4d" } else { "#9b2c2c" };
            let when = voice.zone.to_datetime(event.at).strftime("%Y-%m-%d %H:%M");
            let link = link(event, voice).map(|link| {
                let link = escape(&link);
                format!("<br><a href=\"{link}\">{link}</a>")
            });
            // Writing to a String does not fail.
            let _ = write!(
                html,
                "<tr style=\"border-top:1px solid #d5dce3;vertical-align:top\"><td \
                 style=\"color:{colour};font-weight:bold\">{}</td><td>{}</td><td><b>{}</b> \
                 {}<br>{}<br><code>{}</code>{}</td></tr>",
                escape(&event.word()),
                when,
                escape(&event.about),
                escape(&visible(&event.subject)),
                escape(&visible(&event.words)),
                escape(&command(event)),
                link.unwrap_or_default()
            );
        }
        html.push_str("</table>");
        if self.more > 0 {
            let _ = write!(html, "<p>and {} more</p>", grouped(self.more));
        }
        html.push_str("</body></html>");
        html
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn cut(text: &str, letters: usize) -> String {
    match text.char_indices().nth(letters) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

fn subject(events: &[Event], counts: &BTreeMap<String, u64>) -> String {
    let line = match events {
        [] => "nothing to tell".to_owned(),
        [one] if one.subject.is_empty() => format!("{}: {}", one.about, one.words),
        [one] => format!("{} {}: {}: {}", one.about, one.word(), one.subject, one.words),
        _ => {
            let kinds = counts.iter().map(|(word, count)| format!("{} {word}", grouped(*count)));
            let abouts: BTreeSet<&str> = events.iter().map(|one| one.about.as_str()).collect();
            let abouts: Vec<&str> = abouts.into_iter().collect();
            format!("{} ({})", kinds.collect::<Vec<_>>().join(", "), abouts.join(", "))
        }
    };
    cut(&visible(&line), SUBJECT)
}

fn text(body: &Body, voice: &Voice<'_>) -> String {
    let mut text = String::new();
    for event in &body.events {
        let when = voice.zone.to_datetime(event.at).strftime("%Y-%m-%d %H:%M");
        let about = &event.about;
        let subject = visible(&event.subject);
        let _ = writeln!(text, "{} {when} {about} {subject}", event.word().to_uppercase());
        let _ = writeln!(text, "  {}", visible(&event.words));
        let _ = writeln!(text, "  {}", command(event));
        if let Some(link) = link(event, voice) {
            let _ = writeln!(text, "  {link}");
        }
        text.push('\n');
    }
    if body.more > 0 {
        let _ = writeln!(text, "and {} more", grouped(body.more));
    }
    text
}

/// The command that tells more, or helps.
fn command(event: &Event) -> String {
    match (event.entry, event.about.split_once(':')) {
        (Some(entry), _) => format!("vadegate entry {entry}"),
        (None, Some(("due", name))) => format!("vadegate due {name}"),
        (None, Some(("lookout", name))) => format!("vadegate lookouts {name}"),
        (None, Some(("tell", name))) => format!("vadegate told {name}"),
        (None, _) => format!("vadegate gates {}", event.about),
    }
}

/// Where the page tells more.
fn link(event: &Event, voice: &Voice<'_>) -> Option<String> {
    use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
    let address = voice.address?;
    let coded = |name: &str| utf8_percent_encode(name, NON_ALPHANUMERIC).to_string();
    Some(match (event.entry, event.about.split_once(':')) {
        (Some(entry), _) => format!("{address}/entries/{entry}"),
        (None, Some(("due", name))) => format!("{address}/morning?due={}", coded(name)),
        (None, Some(_)) => format!("{address}/"),
        (None, None) if event.kind == TellKind::All => format!("{address}/"),
        (None, None) => format!("{address}/gates/{}", coded(&event.about)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::ids::EntryId;
    use jiff::Timestamp;

    fn event(number: usize, kind: TellKind, subject: &str) -> Event {
        let mut event = Event::test("tag", "desk", Timestamp::UNIX_EPOCH);
        event.id = number.to_string();
        (event.kind, event.about) = (kind, "tide".into());
        (event.subject, event.words) = (subject.into(), "line 3 <b> is no row".into());
        event.entry = Some(EntryId::of(number as i64));
        event
    }

    #[test]
    fn a_message_says_what_where_why_and_what_helps() {
        let utc = TimeZone::UTC;
        let voice = Voice { zone: &utc, address: Some("https://gate.sound.example") };
        let one = Body::of(&[event(7, TellKind::Held, "a\nb.csv")], &voice);
        assert_eq!(one.subject, "tide held: a\\nb.csv: line 3 <b> is no row");
        assert!(one.text.contains("HELD 1970-01-01 00:00 tide a\\nb.csv"), "{}", one.text);
        assert!(one.text.contains("  vadegate entry 7\n  https://gate.sound.example/entries/7"));
        let html = one.html(&voice);
        assert!(html.contains("line 3 &lt;b&gt; is no row") && !html.contains("<b> is"));
        let many: Vec<Event> = (0..1000)
            .map(|at| event(at, if at == 0 { TellKind::Filed } else { TellKind::Held }, "a.csv"))
            .collect();
        let many = Body::of(&many, &voice);
        assert_eq!(many.subject, "1 filed, 999 held (tide)");
        assert_eq!((many.events.len(), many.more), (TOLD, 950));
        assert!(many.text.ends_with("and 950 more\n"));
        assert!(
            Body::of(&[event(1, TellKind::Held, &"x".repeat(5000))], &voice).subject.len() < 200
        );
    }
}
