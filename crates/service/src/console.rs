//! The console's files, embedded in the program.

use actix_web::http::header::{self, AcceptEncoding, ContentEncoding, Encoding, Header};
use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

use crate::problem::Problem;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

const NOT_BUILT: &str = "<!doctype html><title>Vadegate</title><p>This program was built without \
                         its console. Run <code>make build</code>; the API and the command line work.";

/// Whether the console has a page there, as its router says.
fn is_page(path: &str) -> bool {
    let mut parts = path.split('/');
    match parts.next() {
        Some(
            "" | "morning" | "held" | "outputs" | "lineage" | "configuration" | "ledger" | "table"
            | "clears" | "sign-in" | "account" | "people" | "audit" | "new-gate",
        ) => parts.next().is_none(),
        Some("gates") => parts.next().is_none_or(|gate| !gate.is_empty()) && parts.next().is_none(),
        Some("entries") => {
            let number = parts.next().unwrap_or("");
            let known = !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit());
            known && matches!((parts.next(), parts.next()), (None | Some("rows"), None))
        }
        _ => false,
    }
}

/// Whether who asks can read what is packed by brotli (RFC 7932).
fn takes_brotli(request: &HttpRequest) -> bool {
    let known = [Encoding::brotli(), Encoding::gzip(), Encoding::identity()];
    let accepts = AcceptEncoding::parse(request).ok();
    accepts.and_then(|accepts| accepts.negotiate(known.iter())) == Some(Encoding::brotli())
}

/// A file of the console. Any other path is one of its pages, which it finds
/// by itself; a path below `/api` is nothing.
pub(crate) async fn serve(request: HttpRequest) -> Result<HttpResponse, Problem> {
    let path = request.path().trim_start_matches('/');
    if path == "api" || path.starts_with("api/") {
        return Err(Problem::not_found(format!("there is nothing at `{}`", request.path())));
    }
    if let Some(file) = Files::get(path).filter(|_| !path.is_empty()) {
        // Names of assets carry a sum of their content.
        let keep = if path.starts_with("assets/") {
            "public, max-age=31536000, immutable"
        } else {
            "no-cache"
        };
        let mut answer = HttpResponse::Ok();
        answer
            .content_type(mime_guess::from_path(path).first_or_octet_stream().as_ref())
            .insert_header((header::CACHE_CONTROL, keep));
        // Packed once when the console was built, and better than there is time for here.
        let packed = Files::get(&format!("{path}.br")).filter(|_| takes_brotli(&request));
        let data = match packed {
            Some(packed) => {
                answer.insert_header(ContentEncoding::Brotli);
                answer.insert_header((header::VARY, "accept-encoding"));
                packed.data
            }
            None => file.data,
        };
        return Ok(answer.body(data.into_owned()));
    }
    if path.starts_with("assets/") {
        return Err(Problem::not_found(format!("there is nothing at `/{path}`")));
    }
    let index = Files::get("index.html");
    let body = index.map_or_else(|| NOT_BUILT.into(), |file| file.data.into_owned());
    // The page itself says that there is nothing.
    let mut answer = if is_page(path) { HttpResponse::Ok() } else { HttpResponse::NotFound() };
    Ok(answer
        .content_type("text/html; charset=utf-8")
        .insert_header((header::CACHE_CONTROL, "no-cache"))
        .body::<Vec<u8>>(body))
}
