//! Telling by mail.

use std::time::Duration;

use lettre::message::header::ContentType;
use lettre::message::{Mailbox, MultiPart, SinglePart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::{Message as Mail, SmtpTransport, Transport};
use vadegate_places::{CertificateFault, certificates_in};

use crate::config::tell::{MailServer, MailTls};
use crate::ledger::Message;
use crate::settings::secret::SecretFault;
use crate::tell::delivered::Delivered;
use crate::tell::message::{Body, Voice};

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
        Err(why) => return Delivered::Refused(why.to_string()),
    };
    let transport = match transport(server) {
        Ok(transport) => transport,
        Err(why) => return Delivered::Later(why.to_string()),
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

/// Why the mail server cannot be spoken with.
#[derive(Debug, thiserror::Error)]
enum NoTransport {
    #[error(transparent)]
    Certificates(#[from] CertificateFault),
    #[error("{0}")]
    NoTls(#[from] lettre::transport::smtp::Error),
    #[error("the password {0}")]
    Password(#[from] SecretFault),
}

/// Why a mail cannot be written.
#[derive(Debug, thiserror::Error)]
enum NotWritten {
    #[error("`{text}` is no mail address: {why}")]
    Address { text: String, why: lettre::address::AddressError },
    #[error("the mail cannot be written: {0}")]
    Refused(#[from] lettre::error::Error),
}

fn transport(server: &MailServer) -> Result<SmtpTransport, NoTransport> {
    let parameters = || -> Result<TlsParameters, NoTransport> {
        let mut builder = TlsParameters::builder(server.host.clone());
        if let Some(path) = &server.certificates {
            for one in certificates_in(path)? {
                let one = Certificate::from_der(one.to_vec())?;
                builder = builder.add_root_certificate(one);
            }
        }
        Ok(builder.build_rustls()?)
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
        let password = password.read()?;
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
) -> Result<Mail, NotWritten> {
    let mailbox = |text: &str| {
        let read = text.parse::<Mailbox>();
        read.map_err(|why| NotWritten::Address { text: text.to_owned(), why })
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
    Ok(mail.multipart(parts)?)
}
