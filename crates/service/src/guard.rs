//! What every request must pass: who calls is let through, and the body comes in time. What
//! they do is written into the audit log.

use std::time::Duration;

use actix_web::body::{BoxBody, EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderValue};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::Next;
use actix_web::web::{Bytes, BytesMut};
use actix_web::{Error, HttpMessage, HttpResponse, ResponseError, web};
use futures_util::StreamExt;
use vadegate_core::ledger::NewAudit;
use vadegate_core::people::{Identity, Role};

use crate::Shared;
use crate::access::{self, Access, Call};
use crate::admission::{Admitted, Refusal, admit, text};
use crate::api::people::local_name;
use crate::caller::{Caller, From};
use crate::problem::Problem;
use crate::record::{self, Said};

/// Browsers come back over TLS alone for a year.
const STRICT: &str = "max-age=31536000";

/// Largest body of a request that is read, in bytes: ours are all small.
pub(crate) const BODY_LIMIT: usize = 512 * 1024;

/// How long a body may take to come.
const BODY_TIME: Duration = Duration::from_secs(10);

const POLICY: &str = "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// Lets a request through, or answers with the problem.
pub(crate) async fn guard(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<EitherBody<impl MessageBody, BoxBody>>, Error> {
    let Some(shared) = request.app_data::<web::Data<Shared>>().cloned() else {
        let answer = Problem::stopping().error_response();
        return Ok(request.into_response(answer).map_into_right_body());
    };
    let (method, path) = (request.method().clone(), request.path().to_owned());
    let from = From::of(request.request(), &shared);
    let admitted = match admit(&request, &shared, from) {
        Ok(admitted) if admitted.call.as_ref().is_some_and(|call| call.streamed) => {
            Ok((admitted, Bytes::new()))
        }
        Ok(admitted) => read_body(&mut request).await.map(|body| (admitted, body)),
        Err(refusal) => Err(refusal),
    };
    let (Admitted { identity, call }, body) = match admitted {
        Ok(admitted) => admitted,
        Err(refusal) => {
            let answer = refuse(refusal, &shared, from, (&method, &path)).await;
            return Ok(request.into_response(answer).map_into_right_body());
        }
    };
    let order = Order::of(&request, identity.as_ref(), call.as_ref(), &body);
    if let Some(identity) = identity {
        request.extensions_mut().insert(Caller(identity));
    }
    let mut response = next.call(request).await?;
    if let Some(order) = order {
        let status = response.status().as_u16();
        tracing::info!(who = %order.who, from = %from.text(), %method, %path, status, "asked");
        if order.audited {
            shared.record.write(order.line(from, status)).await;
        }
    }
    protect(response.response_mut(), &path, &shared);
    Ok(response.map_into_left_body())
}

/// Answers what is refused, and tells of it.
async fn refuse(
    refusal: Refusal,
    shared: &Shared,
    from: From,
    (method, path): (&Method, &str),
) -> HttpResponse {
    let Refusal { problem, allow, who, quiet } = refusal;
    let (status, why) = (problem.status, &problem.detail);
    if !quiet {
        tracing::warn!(from = %from.text(), %method, %path, status, "refused: {why}");
    }
    if matches!(status, 401 | 403 | 429) && !quiet {
        let line = NewAudit {
            who: who.unwrap_or_else(|| "anybody".into()),
            address: from.text(),
            what: "refused".into(),
            about: record::cut(&format!("{method} {path}")),
            why: record::cut(why),
            status,
        };
        shared.record.refused(from, line).await;
    }
    let mut answer = problem.error_response();
    if let Some(allow) = allow.and_then(|allow| HeaderValue::from_str(&allow).ok()) {
        answer.headers_mut().insert(header::ALLOW, allow);
    }
    // What was sent and not read must not be taken for the next request.
    answer.head_mut().set_connection_type(actix_web::http::ConnectionType::Close);
    protect(&mut answer, path, shared);
    answer
}

/// What somebody orders, for the logs.
struct Order {
    who: String,
    what: String,
    about: String,
    why: String,
    audited: bool,
}

impl Order {
    /// Of a call that changes something; none of any other.
    fn of(
        request: &ServiceRequest,
        identity: Option<&Identity>,
        call: Option<&Call>,
        body: &[u8],
    ) -> Option<Self> {
        let (identity, call) = (identity?, call?);
        let Some(Access::Role(role)) = call.access else { return None };
        let rehearses = call.rehearses || record::is_rehearsal(body);
        if !access::changes(request.method()) || rehearses {
            return None;
        }
        let said = Said::of(body);
        let named = said.who.clone().or_else(|| asked_by(request.query_string()));
        let who = match named.filter(|_| identity.is_local()) {
            Some(named) => local_name(&named),
            None => identity.name(),
        };
        let about = said.about(request.path().trim_start_matches("/api/v1"));
        let what = said.action.unwrap_or_else(|| call.name.replace('_', "-"));
        let why = said.why;
        // What workers do stands in the history of each entry, and pieces of a file are no
        // orders.
        let audited = role != Role::Worker && request.method() != Method::PATCH;
        Some(Order { who, what, about, why, audited })
    }

    fn line(self, from: From, status: u16) -> NewAudit {
        let Order { who, what, about, why, .. } = self;
        NewAudit { who, address: from.text(), what, about, why, status }
    }
}

/// Who is said to ask, in a query.
fn asked_by(query: &str) -> Option<String> {
    #[derive(serde::Deserialize)]
    struct By {
        who: Option<String>,
    }
    web::Query::<By>::from_query(query).ok()?.into_inner().who
}

/// Headers that every answer has, also a refusal.
fn protect<B>(response: &mut HttpResponse<B>, path: &str, shared: &Shared) {
    let headers = response.headers_mut();
    let fixed = [
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::CONTENT_SECURITY_POLICY, POLICY),
    ];
    for (name, value) in fixed {
        headers.insert(name, HeaderValue::from_static(value));
    }
    if shared.tls {
        headers.insert(header::STRICT_TRANSPORT_SECURITY, HeaderValue::from_static(STRICT));
    }
    let of_api = ["/api/", "/metrics", "/healthz", "/readyz"];
    if of_api.iter().any(|begin| path.starts_with(begin)) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
}

/// Reads the body of a request that is let through, within its bounds of size and time:
/// half a body keeps no connection.
async fn read_body(request: &mut ServiceRequest) -> Result<Bytes, Refusal> {
    if !access::changes(request.method()) {
        return Ok(Bytes::new());
    }
    let too_large = || {
        let kib = BODY_LIMIT / 1024;
        let why = format!("the body is larger than {kib} KiB, which is the most that is read");
        Refusal::from(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, why))
    };
    let said = text(request, &header::CONTENT_LENGTH).and_then(|length| length.parse().ok());
    if said.is_some_and(|length: usize| length > BODY_LIMIT) {
        return Err(too_large());
    }
    let mut payload = request.take_payload();
    let mut body = BytesMut::new();
    let reading = async {
        while let Some(piece) = payload.next().await {
            let piece = piece.map_err(|error| {
                Refusal::from(Problem::bad_request(format!("the body cannot be read: {error}")))
            })?;
            if body.len() + piece.len() > BODY_LIMIT {
                return Err(too_large());
            }
            body.extend_from_slice(&piece);
        }
        Ok(())
    };
    match tokio::time::timeout(BODY_TIME, reading).await {
        Ok(read) => read?,
        Err(_) => {
            let seconds = BODY_TIME.as_secs();
            let why = format!("the body did not come within {seconds} seconds; send it again");
            return Err(Problem::new(StatusCode::REQUEST_TIMEOUT, why).into());
        }
    }
    let body = body.freeze();
    request.set_payload(actix_web::dev::Payload::from(body.clone()));
    Ok(body)
}
