//! Telling by mail.

use std::time::Duration;

use lettre::message::header::ContentType;
use lettre::message::{Mailbox, MultiPart, SinglePart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::{Message as Mail, SmtpTransport, Transport};

use crate::config::tell::{MailServer, MailTls};
use crate::ledger::Message;
use crate::tell::delivered::Delivered;
use crate::tell::message::{Body, Voice};
use crate::work::web::certificates;

/// How long each step of the conversation with a server may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// Sends a message; what it came to.
pub(crate) fn send(
    server: &MailServer,
    to: &[String],
    message: &Message,
    body: &Body,
    voice: &Voice<'_>,
) -> Delivered {
    let mail = match write(server, to, message, body, voice) {
        Ok(mail) => mail,
        Err(why) => return Delivered::Refused(why),
    };
    let transport = match transport(server) {
        Ok(transport) => transport,
        Err(why) => return Delivered::Later(why),
    };
    match transport.send(&mail) {
        Ok(_) => Delivered::Taken,
        Err(error) if error.is_permanent() => Delivered::Refused(words(&error)),
        Err(error) => Delivered::Later(words(&error)),
    }
}

/// What went wrong, with its cause.
fn words(error: &lettre::transport::smtp::Error) -> String {
    match std::error::Error::source(error) {
        Some(source) => format!("{error}: {source}").chars().take(500).collect(),
        None => error.to_string().chars().take(500).collect(),
    }
}

fn transport(server: &MailServer) -> Result<SmtpTransport, String> {
    let parameters = || -> Result<TlsParameters, String> {
        let mut builder = TlsParameters::builder(server.host.clone());
        if let Some(path) = &server.certificates {
            for one in certificates(path)? {
                let one = Certificate::from_der(one.to_vec()).map_err(|error| error.to_string())?;
                builder = builder.add_root_certificate(one);
            }
        }
        builder.build_rustls().map_err(|error| error.to_string())
    };
    let tls = match server.tls {
        MailTls::Whole => Tls::Wrapper(parameters()?),
        MailTls::Required => Tls::Required(parameters()?),
        MailTls::Offered => Tls::Opportunistic(parameters()?),
    };
    let mut builder = SmtpTransport::builder_dangerous(&server.host)
        .port(server.port)
        .tls(tls)
        .timeout(Some(PATIENCE));
    if let (Some(user), Some(password)) = (&server.user, &server.password) {
        let password = password.read().map_err(|why| format!("the password {why}"))?;
        builder = builder.credentials(Credentials::new(user.clone(), password));
    }
    Ok(builder.build())
}

fn write(
    server: &MailServer,
    to: &[String],
    message: &Message,
    body: &Body,
    voice: &Voice<'_>,
) -> Result<Mail, String> {
    let mailbox = |text: &str| {
        text.parse::<Mailbox>().map_err(|error| format!("`{text}` is no mail address: {error}"))
    };
    let from = mailbox(&server.from)?;
    // The same over all attempts, so that who gets it twice sees that it is one.
    let id =
        format!("<{}@{}>", message.uid.replace(['<', '>', '@', ' '], "-"), from.email.domain());
    let mut mail = Mail::builder().from(from).subject(&body.subject).message_id(Some(id));
    for one in to {
        mail = mail.to(mailbox(one)?);
    }
    let part = |kind: ContentType, text: String| SinglePart::builder().header(kind).body(text);
    let parts = MultiPart::alternative()
        .singlepart(part(ContentType::TEXT_PLAIN, body.text.clone()))
        .singlepart(part(ContentType::TEXT_HTML, body.html(voice)));
    mail.multipart(parts).map_err(|error| format!("the mail cannot be written: {error}"))
}
