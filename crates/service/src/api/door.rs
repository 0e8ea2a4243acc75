//! The door of a gate: files are handed in, in one piece or in several.
//!
//! Pieces go as the IETF draft "Resumable Uploads for HTTP" (draft-ietf-httpbis-resumable-upload)
//! has it: `Upload-Complete`, `Upload-Offset`, `Upload-Length`, `PATCH` with
//! `application/partial-upload`, `HEAD`, `DELETE`. Interim answers (104) are not sent: who wants
//! to go on after a break begins with `Upload-Complete: ?0` and no bytes.

use std::time::{Duration, Instant};

use actix_web::http::StatusCode;
use actix_web::http::header;
use actix_web::web::{self, Bytes, Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder, delete, get, head, patch, put};
use futures_util::StreamExt;
use serde::Deserialize;
use tokio::sync::mpsc;
use utoipa::IntoParams;
use vadegate_core::act::{DoorError, HandedInFile, NewUpload, UploadView};
use vadegate_core::ask::GateState;
use vadegate_core::files::Sha256;
use vadegate_core::people::Role;

use crate::api::people::signature;
use crate::api::upload_headers::{
    Said, UPLOAD_COMPLETE, UPLOAD_LENGTH, UPLOAD_OFFSET, complete, number, text,
};
use crate::caller::Caller;
use crate::problem::Problem;
use crate::{Shared, ask};

/// A piece may rest so long before the request is given up.
const REST: Duration = Duration::from_secs(60);

/// So long it is waited for the entry of a file that was handed in.
const ENTERED_WITHIN: Duration = Duration::from_secs(10);

/// The title of the problem that nothing of a file is missing.
const WHOLE: &str = "It is whole";

/// Pieces of the network that wait for the disk.
const AHEAD: usize = 16;

/// Who hands it in.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct HandInQuery {
    /// Their name; said by the holder of the local token alone.
    who: Option<String>,
}

/// Whose uploads somebody may go on with: their own, and with the local token all.
fn owner(caller: &Caller) -> Option<String> {
    (!caller.is_local()).then(|| caller.name())
}

/// Hands in a file. It is checked, made durable and settled at once; the answer has its entry,
/// once the gate takes files. With `Upload-Complete: ?0` more is to come, at `Location`.
#[utoipa::path(tag = "door", extensions(("x-role" = json!("supplier")), ("x-streamed" = json!(true))),
    params(("gate" = String, Path, description = "The gate's name"),
        ("path" = String, Path, description = "The path below its drop folder"), HandInQuery,
        ("Repr-Digest" = Option<String>, Header, description = "Its SHA-256, as `sha-256=:BASE64:` (RFC 9530)"),
        ("If-Match" = Option<String>, Header, description = "The SHA-256 of the held file that it replaces"),
        ("Upload-Complete" = Option<String>, Header, description = "`?0` when more is to come"),
        ("Upload-Length" = Option<u64>, Header, description = "The length of the whole")),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 201, body = HandedInFile, description = "It lies in the drop folder; or more is to come"),
        (status = 400, body = Problem, description = "It is not of the length or the sum that was said"),
        (status = 404, body = Problem), (status = 409, body = Problem, description = "Something lies there"),
        (status = 412, body = Problem, description = "What lies there is not what was to be replaced"),
        (status = 413, body = Problem), (status = 422, body = Problem, description = "The gate takes no file of this name"),
        (status = 503, body = Problem, description = "Too many files wait"), (status = 507, body = Problem)))]
#[put("/api/v1/gates/{gate}/drop/{path:.*}")]
pub(crate) async fn hand_in(
    shared: Data<Shared>,
    caller: Caller,
    at: Path<(String, String)>,
    query: web::Query<HandInQuery>,
    request: HttpRequest,
    body: web::Payload,
) -> Result<HttpResponse, Problem> {
    let (gate, path) = at.into_inner();
    caller.at_gate(&gate)?;
    let said = Said::of(request.headers())?;
    if said.replaces.is_some() && caller.role == Role::Supplier {
        let why = "what is held is replaced by operators alone; hand it in under another name";
        return Err(Problem::new(StatusCode::FORBIDDEN, why));
    }
    let who = query.into_inner().who.or_else(|| caller.is_local().then(|| "somebody".to_owned()));
    let new = NewUpload {
        gate,
        path,
        who: signature(&caller, who.as_deref())?,
        bytes: said.length,
        sha256: said.sha256,
        replaces: said.replaces,
    };
    let resume = !said.complete;
    let upload = ask(&shared, move |engine| Ok(engine.begin_upload(new, resume)?)).await?;
    if resume && upload.received > 0 {
        // It goes on: where, is told; what comes with this request is none of it.
        return Ok(told(HttpResponse::Created(), &upload).finish());
    }
    let (name, own) = (upload.name.clone(), owner(&caller));
    let received = receive(&shared, &caller, (&name, 0), body).await;
    let (_, sum) = match received {
        Ok(received) => received,
        Err(problem) => {
            if said.complete {
                // Nobody knows its name: it cannot go on.
                let end = name.clone();
                let _ = ask(&shared, move |engine| Ok(engine.end_upload(&end, None)?)).await;
            }
            return Err(problem);
        }
    };
    if said.complete {
        let finished = finish(&shared, &caller, name.clone(), sum).await;
        if finished.as_ref().is_err_and(|problem| (400..500).contains(&problem.status)) {
            // Refused, and nobody knows its name: nothing of it stays.
            let _ = ask(&shared, move |engine| Ok(engine.end_upload(&name, None)?)).await;
        }
        finished
    } else {
        let upload = ask(&shared, move |engine| Ok(engine.upload(&name, own.as_deref())?)).await?;
        Ok(told(HttpResponse::Created(), &upload).finish())
    }
}

/// Goes on with a file that is handed in.
#[utoipa::path(tag = "door", extensions(("x-role" = json!("supplier")), ("x-streamed" = json!(true))),
    params(("name" = String, Path, description = "The last part of `Location`"),
        ("Upload-Offset" = u64, Header, description = "So many bytes are there already"),
        ("Upload-Complete" = Option<String>, Header, description = "`?0` when more is to come")),
    request_body(content = String, content_type = "application/partial-upload"),
    responses((status = 201, body = HandedInFile, description = "It lies in the drop folder"),
        (status = 204, description = "More is to come"),
        (status = 400, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem, description = "Other bytes are there: `Upload-Offset` says how many")))]
#[patch("/api/v1/uploads/{name}")]
pub(crate) async fn go_on(
    shared: Data<Shared>,
    caller: Caller,
    name: Path<String>,
    request: HttpRequest,
    body: web::Payload,
) -> Result<HttpResponse, Problem> {
    let (name, headers) = (name.into_inner(), request.headers());
    let complete = complete(headers)?;
    let Some(offset) = number(headers, &UPLOAD_OFFSET)? else {
        return Err(Problem::bad_request(
            "there is no upload-offset; ask with HEAD how many bytes are there, and send it",
        ));
    };
    let kind = text(headers, &header::CONTENT_TYPE).unwrap_or("");
    if kind != "application/partial-upload" {
        let why = format!("the content type is `{kind}`; expected application/partial-upload");
        return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, why));
    }
    let (_, sum) = match receive(&shared, &caller, (&name, offset), body).await {
        // It was all there, and could not get its name.
        Err(problem) if problem.title == WHOLE && complete => (offset, None),
        Err(problem) if problem.status == 409 => {
            let own = owner(&caller);
            let asked = name.clone();
            let upload =
                ask(&shared, move |engine| Ok(engine.upload(&asked, own.as_deref())?)).await?;
            return Ok(told(HttpResponse::Conflict(), &upload)
                .content_type("application/problem+json")
                .json(problem));
        }
        received => received?,
    };
    if complete {
        return finish(&shared, &caller, name, sum).await;
    }
    let own = owner(&caller);
    let upload = ask(&shared, move |engine| Ok(engine.upload(&name, own.as_deref())?)).await?;
    Ok(told(HttpResponse::NoContent(), &upload).finish())
}

/// How far a file has come that is handed in.
#[utoipa::path(tag = "door", extensions(("x-role" = json!("supplier"))),
    params(("name" = String, Path, description = "The last part of `Location`")),
    responses((status = 204, description = "`Upload-Offset` and `Upload-Complete` say it"),
        (status = 404, body = Problem)))]
#[head("/api/v1/uploads/{name}")]
pub(crate) async fn how_far(
    shared: Data<Shared>,
    caller: Caller,
    name: Path<String>,
) -> Result<HttpResponse, Problem> {
    let own = owner(&caller);
    let upload = ask(&shared, move |engine| Ok(engine.upload(&name, own.as_deref())?)).await?;
    Ok(told(HttpResponse::NoContent(), &upload).finish())
}

/// How far a file has come that is handed in, and what became of it.
#[utoipa::path(tag = "door", extensions(("x-role" = json!("supplier"))),
    params(("name" = String, Path, description = "The last part of `Location`")),
    responses((status = 200, body = UploadView), (status = 404, body = Problem)))]
#[get("/api/v1/uploads/{name}")]
pub(crate) async fn uploaded(
    shared: Data<Shared>,
    caller: Caller,
    name: Path<String>,
) -> Result<Json<UploadView>, Problem> {
    let own = owner(&caller);
    let mut upload = ask(&shared, move |engine| Ok(engine.upload(&name, own.as_deref())?)).await?;
    upload.became = upload.became.map(|became| for_caller(&caller, became));
    Ok(Json(upload))
}

/// Gives up a file that is handed in.
#[utoipa::path(tag = "door", extensions(("x-role" = json!("supplier"))),
    params(("name" = String, Path, description = "The last part of `Location`")),
    responses((status = 204, description = "It is given up"), (status = 404, body = Problem),
        (status = 409, body = Problem, description = "It is whole")))]
#[delete("/api/v1/uploads/{name}")]
pub(crate) async fn end_upload(
    shared: Data<Shared>,
    caller: Caller,
    name: Path<String>,
) -> Result<HttpResponse, Problem> {
    let own = owner(&caller);
    ask(&shared, move |engine| Ok(engine.end_upload(&name, own.as_deref())?)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Says how far it is.
fn told(mut answer: HttpResponseBuilder, upload: &UploadView) -> HttpResponseBuilder {
    answer
        .insert_header((header::LOCATION, format!("/api/v1/uploads/{}", upload.name)))
        .insert_header((UPLOAD_OFFSET, upload.received.to_string()))
        .insert_header((UPLOAD_COMPLETE, if upload.complete { "?1" } else { "?0" }));
    if let Some(bytes) = upload.bytes {
        answer.insert_header((UPLOAD_LENGTH, bytes.to_string()));
    }
    answer
}

/// Writes a body to what is handed in; gives how much is there then, and its sum where it is
/// known.
async fn receive(
    shared: &Data<Shared>,
    caller: &Caller,
    (name, offset): (&str, u64),
    mut body: web::Payload,
) -> Result<(u64, Option<Sha256>), Problem> {
    let Some(_stream) = shared.limits.stream(&caller.name()) else {
        let why = "these are more files at once than one caller may hand in; wait for one of them";
        return Err(Problem::too_much(Duration::from_secs(1), why));
    };
    let (name, own) = (name.to_owned(), owner(caller));
    let mut receiving =
        ask(shared, move |engine| Ok(engine.receive(&name, own.as_deref(), offset)?)).await?;
    let (pieces, mut coming) = mpsc::channel::<Bytes>(AHEAD);
    let writing = web::block(move || -> Result<(u64, Option<Sha256>), DoorError> {
        let mut failed = None;
        while let Some(piece) = coming.blocking_recv() {
            if let Err(error) = receiving.write(&piece) {
                failed = Some(error);
                break;
            }
        }
        drop(coming);
        let paused = receiving.pause();
        failed.map_or(paused, Err)
    });
    let cut_off = async {
        loop {
            match tokio::time::timeout(REST, body.next()).await {
                Ok(Some(Ok(piece))) => {
                    // The writer has failed, and says why.
                    if pieces.send(piece).await.is_err() {
                        return None;
                    }
                }
                Ok(None) => return None,
                Ok(Some(Err(error))) => {
                    let why = format!("the body broke off: {error}; what came is kept");
                    return Some(Problem::bad_request(why));
                }
                Err(_) => {
                    let why = format!("nothing came for {} seconds", REST.as_secs());
                    return Some(Problem::new(StatusCode::REQUEST_TIMEOUT, why));
                }
            }
        }
    }
    .await;
    drop(pieces);
    let received = writing.await.map_err(|_| Problem::stopping())??;
    cut_off.map_or(Ok(received), Err)
}

/// Ends it, and waits for its entry where the gate takes files.
async fn finish(
    shared: &Data<Shared>,
    caller: &Caller,
    name: String,
    sum: Option<Sha256>,
) -> Result<HttpResponse, Problem> {
    let until = Instant::now() + ENTERED_WITHIN;
    let mut pulses = shared.live.sender().subscribe();
    let (asked, own) = (name.clone(), owner(caller));
    let mut upload =
        ask(shared, move |engine| Ok(engine.finish_upload(&asked, own.as_deref(), sum)?)).await?;
    loop {
        if upload.became.as_ref().is_some_and(|became| became.entry.is_some()) {
            break;
        }
        let gate = upload.gate.clone();
        let takes =
            ask(shared, move |engine| Ok(engine.gate(&gate)?.state == GateState::Open)).await?;
        let left = until.saturating_duration_since(Instant::now());
        if !takes || left.is_zero() || shared.live.is_closing() {
            break;
        }
        // Whatever woke it, it only looks again.
        let _ = tokio::time::timeout(left.min(Duration::from_millis(500)), pulses.recv()).await;
        let (name, own) = (name.clone(), owner(caller));
        upload = ask(shared, move |engine| Ok(engine.upload(&name, own.as_deref())?)).await?;
    }
    let Some(became) = upload.became.clone() else { return Err(Problem::stopping()) };
    let mut answer = told(HttpResponse::Created(), &upload);
    answer.insert_header((header::ETAG, format!("\"{}\"", became.sha256)));
    Ok(answer.json(for_caller(caller, became)))
}

/// A supplier hears of its own file alone, and not of what others sent.
fn for_caller(caller: &Caller, became: HandedInFile) -> HandedInFile {
    match caller.role {
        Role::Supplier => HandedInFile { reason: None, repeat_of: None, ..became },
        _ => became,
    }
}

impl std::convert::From<DoorError> for Problem {
    fn from(error: DoorError) -> Self {
        let words = error.to_string();
        let status = match error {
            DoorError::Engine(error) => return error.into(),
            DoorError::Name { .. } => StatusCode::UNPROCESSABLE_ENTITY,
            DoorError::Large { .. } => StatusCode::PAYLOAD_TOO_LARGE,
            DoorError::Full { .. } => {
                let problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, words);
                return Problem { retry_after: Some(60), ..problem };
            }
            DoorError::Whole => {
                let problem = Problem::new(StatusCode::CONFLICT, words);
                return Problem { title: WHOLE.into(), ..problem };
            }
            DoorError::Occupied(_) | DoorError::Busy => StatusCode::CONFLICT,
            DoorError::Offset { .. } => {
                let kind =
                    "https://iana.org/assignments/http-problem-types#mismatching-upload-offset";
                let problem = Problem::new(StatusCode::CONFLICT, words);
                return Problem { kind: kind.into(), ..problem };
            }
            DoorError::Changed(_) => StatusCode::PRECONDITION_FAILED,
            DoorError::None => StatusCode::NOT_FOUND,
            DoorError::Wrong(_) | DoorError::Gone(_) => StatusCode::BAD_REQUEST,
            DoorError::Io(error) if full(&error) => StatusCode::INSUFFICIENT_STORAGE,
            DoorError::Io(_) => StatusCode::INTERNAL_SERVER_ERROR,
        };
        Problem::new(status, words)
    }
}

fn full(error: &std::io::Error) -> bool {
    use std::io::ErrorKind;
    matches!(error.kind(), ErrorKind::StorageFull | ErrorKind::QuotaExceeded)
}
