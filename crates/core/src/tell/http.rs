//! Telling by a request: CloudEvents 1.0 in JSON, signed as Standard Webhooks says.

use std::path::Path;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http::Request;
use jiff::Timestamp;
use ring::hmac;
use serde_json::{Value, json};

use crate::ledger::Message;
use crate::settings::secret::{Secret, SecretFault};
use crate::tell::delivered::Delivered;
use crate::tell::event::Event;
use crate::tell::message::Body;
use crate::work::send::answers::wait_of;
use crate::work::web;

/// How long a request may take.
const LIMIT: Duration = Duration::from_secs(30);

/// Bytes of an answer that are kept.
const KEPT: usize = 300;

/// Where events are told.
pub(crate) struct Receiver<'a> {
    pub url: &'a str,
    pub secret: Option<&'a Secret>,
    pub certificates: Option<&'a Path>,
    /// Who tells.
    pub source: &'a str,
}

/// Sends a message; what it came to.
pub(crate) fn send(receiver: &Receiver<'_>, message: &Message, body: &Body) -> Delivered {
    let (kind, content) = content(receiver.source, message, body);
    let secure = receiver.url.starts_with("https:") || receiver.certificates.is_some();
    let agent = match web::agent(LIMIT, secure, receiver.certificates) {
        Ok(agent) => agent,
        Err(why) => return Delivered::Later(why.to_string()),
    };
    let now = Timestamp::now().as_second();
    let mut request = Request::post(receiver.url)
        .header("content-type", kind)
        .header("webhook-id", &message.uid)
        .header("webhook-timestamp", now.to_string());
    if let Some(secret) = receiver.secret {
        let secret = secret.read().map_err(Unsigned::from);
        match secret.and_then(|secret| sign(&secret, &message.uid, now, &content)) {
            Ok(signature) => request = request.header("webhook-signature", signature),
            Err(why) => return Delivered::Later(why.to_string()),
        }
    }
    let request = match request.body(content) {
        Ok(request) => request,
        Err(error) => return Delivered::Refused(format!("the request cannot be made: {error}")),
    };
    match agent.run(request) {
        Ok(mut answer) => {
            let retry_after = answer.headers().get("retry-after");
            let retry_after =
                retry_after.and_then(|value| wait_of(value.to_str().ok()?, Timestamp::now()));
            let status = answer.status().as_u16();
            let text = answer.body_mut().with_config().limit(4096).read_to_string();
            let text: String = text.unwrap_or_default().chars().take(KEPT).collect();
            judge(status, &text, retry_after)
        }
        Err(error) => Delivered::Later(error.to_string()),
    }
}

fn judge(status: u16, text: &str, retry_after: Option<Duration>) -> Delivered {
    let words = match text.trim() {
        "" => format!("the receiver answered {status}"),
        text => format!("the receiver answered {status}: {text}"),
    };
    match status {
        200..=299 => Delivered::Taken,
        408 | 425 | 429 | 500..=599 => match retry_after {
            Some(wait) => Delivered::After(wait, words),
            None => Delivered::Later(words),
        },
        300..=399 => Delivered::Refused(format!("{words}; redirects are not followed")),
        _ => Delivered::Refused(words),
    }
}

/// One event as itself, several as a batch.
fn content(source: &str, message: &Message, body: &Body) -> (&'static str, Vec<u8>) {
    if let Some(written) = &body.report {
        let value = json!({
            "specversion": "1.0",
            "id": message.uid,
            "source": source,
            "type": "vadegate.report",
            "time": message.at.to_string(),
            "subject": body.subject,
            "datacontenttype": "application/json",
            "data": { "text": body.text, "report": written.report },
        });
        return ("application/cloudevents+json", serde_json::to_vec(&value).unwrap_or_default());
    }
    let (kind, value) = match &body.events[..] {
        [one] if body.more == 0 => ("application/cloudevents+json", cloud_event(source, one, None)),
        events => {
            let more = (body.more > 0).then_some(body.more);
            let all: Vec<Value> =
                events.iter().map(|event| cloud_event(source, event, more)).collect();
            ("application/cloudevents-batch+json", Value::Array(all))
        }
    };
    (kind, serde_json::to_vec(&value).unwrap_or_default())
}

fn cloud_event(source: &str, event: &Event, more: Option<u64>) -> Value {
    let mut value = json!({
        "specversion": "1.0",
        "id": event.id,
        "source": source,
        "type": event.type_name(),
        "time": event.at.to_string(),
        "datacontenttype": "application/json",
        "data": {
            "about": event.about,
            "subject": event.subject,
            "words": event.words,
            "entry": event.entry,
            "over": event.over,
            "again_of": event.again_of,
            // How many there are beside those of the batch.
            "more": more,
        },
    });
    // A subject is not empty.
    if !event.subject.is_empty() {
        value["subject"] = Value::String(event.subject.clone());
    }
    value
}

/// The signature of a message: `v1,` and the HMAC-SHA-256 of identity, time and content.
/// Why a message cannot be signed.
#[derive(Debug, thiserror::Error)]
enum Unsigned {
    #[error("the secret {0}")]
    NoSecret(#[from] SecretFault),
    #[error("the secret begins with whsec_, and is no base64 behind it")]
    NoBase64,
}

fn sign(secret: &str, id: &str, seconds: i64, content: &[u8]) -> Result<String, Unsigned> {
    // Where it has the prefix of the standard it is in base64.
    let key = match secret.trim().strip_prefix("whsec_") {
        Some(coded) => STANDARD.decode(coded).map_err(|_| Unsigned::NoBase64)?,
        None => secret.trim().as_bytes().to_vec(),
    };
    let mut context = hmac::Context::with_key(&hmac::Key::new(hmac::HMAC_SHA256, &key));
    context.update(format!("{id}.{seconds}.").as_bytes());
    context.update(content);
    Ok(format!("v1,{}", STANDARD.encode(context.sign().as_ref())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signature_is_that_of_the_standard() {
        // The example of the Standard Webhooks specification.
        let signature = sign(
            "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw",
            "msg_p5jXN8AQM9LWM0D4loKWxJek",
            1_614_265_330,
            br#"{"test": 2432232314}"#,
        );
        assert_eq!(signature.unwrap(), "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
        assert!(sign("whsec_*", "a", 1, b"").is_err());
    }

    #[test]
    fn each_answer_has_its_meaning() {
        let is = |status| match judge(status, "", None) {
            Delivered::Taken => "taken",
            Delivered::Later(_) | Delivered::After(..) => "later",
            Delivered::Refused(_) => "refused",
        };
        for (status, meaning) in [
            (200, "taken"),
            (204, "taken"),
            (301, "refused"),
            (400, "refused"),
            (408, "later"),
            (410, "refused"),
            (425, "later"),
            (429, "later"),
            (500, "later"),
            (503, "later"),
        ] {
            assert_eq!(is(status), meaning, "{status}");
        }
        assert_eq!(
            judge(429, "", Some(Duration::from_secs(7))),
            Delivered::After(Duration::from_secs(7), "the receiver answered 429".into())
        );
    }
}
