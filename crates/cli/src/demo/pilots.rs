//! The pilots' own server: a small server of WebDAV (RFC 4918) on loopback over a folder of the
//! demo, so that delivering by HTTP is seen without any other.

use std::fs;
use std::io::{self, Write as _};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::sync::mpsc;

use actix_web::http::{StatusCode, header};
use actix_web::web::{Bytes, Data, PayloadConfig, route};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer};
use jiff::Timestamp;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD as BASE64;

use crate::failure::Failure;

/// What stands in a segment of a path as it is.
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A file that is put there may have so many bytes.
const MOST: usize = 16 << 20;

/// The part of the configuration that has the server: its address is of today.
pub fn rule(pilots: &Pilots) -> String {
    format!(
        r#"
# The pilots read the berth lists on a server of theirs (here a stand-in, on this machine).
[place.pilots]
at       = "webdav://pilot@127.0.0.1:{port}/board"
password = {{ file = "pilots.password" }}
"#,
        port = pilots.port,
    )
}

/// The server, until it is dropped.
pub struct Pilots {
    port: u16,
    handle: actix_web::dev::ServerHandle,
    thread: Option<std::thread::JoinHandle<()>>,
}

struct Shelf {
    root: PathBuf,
    /// What `Authorization` must say.
    known: String,
}

impl Pilots {
    /// Starts it over the folder `pilots` of the demo; its password is a file beside the
    /// configuration.
    pub fn open(folder: &Path) -> Result<Pilots, Failure> {
        let failed =
            |why: String| Failure::Failed(format!("the pilots' server does not start: {why}"));
        let root = folder.join("pilots");
        fs::create_dir_all(root.join("board"))?;
        let mut random = [0_u8; 16];
        rand::fill(&mut random);
        let password: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        fs::write(folder.join("pilots.password"), format!("{password}\n"))?;
        let known = format!("Basic {}", BASE64.encode(format!("pilot:{password}")));
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let port = listener.local_addr()?.port();
        let shelf = Data::new(Shelf { root, known });
        let (hand_over, begun) = mpsc::channel();
        let thread = std::thread::Builder::new().name("pilots".into()).spawn(move || {
            let app = move || {
                App::new()
                    .app_data(Data::clone(&shelf))
                    .app_data(PayloadConfig::new(MOST))
                    .default_service(route().to(answer))
            };
            let server = HttpServer::new(app).workers(1).disable_signals().listen(listener);
            let server = server.map(HttpServer::run);
            let _ = hand_over
                .send(server.as_ref().map(|one| one.handle()).map_err(io::Error::to_string));
            if let Ok(server) = server {
                let _ = actix_web::rt::System::new().block_on(server);
            }
        })?;
        let handle = begun.recv().map_err(|error| failed(error.to_string()))?.map_err(failed)?;
        Ok(Pilots { port, handle, thread: Some(thread) })
    }
}

impl Drop for Pilots {
    fn drop(&mut self) {
        drop(self.handle.stop(false));
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

async fn answer(request: HttpRequest, body: Bytes, shelf: Data<Shelf>) -> HttpResponse {
    let said = request.headers().get(header::AUTHORIZATION);
    if said.is_none_or(|said| said.as_bytes() != shelf.known.as_bytes()) {
        let who = (header::WWW_AUTHENTICATE, "Basic realm=\"pilots\"");
        return HttpResponse::Unauthorized().insert_header(who).finish();
    }
    let Some(path) = place(&shelf, request.path()) else {
        return HttpResponse::BadRequest().finish();
    };
    let done = match request.method().as_str() {
        "OPTIONS" => Ok(HttpResponse::Ok().insert_header(("dav", "1")).finish()),
        "PROPFIND" => listing(&request, &path),
        "GET" => fs::read(&path).map(|content| HttpResponse::Ok().body(content)),
        "PUT" => put(&path, &body),
        "MKCOL" if path.is_dir() => Ok(HttpResponse::MethodNotAllowed().finish()),
        "MKCOL" => fs::create_dir(&path).map(|()| HttpResponse::Created().finish()),
        "DELETE" => fs::remove_file(&path).map(|()| HttpResponse::NoContent().finish()),
        "MOVE" => renamed(&request, &shelf, &path),
        _ => Ok(HttpResponse::MethodNotAllowed().finish()),
    };
    done.unwrap_or_else(|error| {
        let status = match error.kind() {
            io::ErrorKind::NotFound => StatusCode::NOT_FOUND,
            io::ErrorKind::AlreadyExists => StatusCode::PRECONDITION_FAILED,
            _ => StatusCode::FORBIDDEN,
        };
        HttpResponse::build(status).finish()
    })
}

/// A path below the root; none for one that climbs.
fn place(shelf: &Shelf, path: &str) -> Option<PathBuf> {
    let path = percent_decode_str(path).decode_utf8().ok()?;
    let mut place = shelf.root.clone();
    for part in path.split('/').filter(|part| !part.is_empty()) {
        if part == "." || part == ".." || part.contains('\0') {
            return None;
        }
        place.push(part);
    }
    Some(place)
}

fn put(path: &Path, body: &[u8]) -> io::Result<HttpResponse> {
    let mut file = fs::File::create(path)?;
    file.write_all(body).and_then(|()| file.sync_all())?;
    Ok(HttpResponse::Created().finish())
}

fn renamed(request: &HttpRequest, shelf: &Shelf, path: &Path) -> io::Result<HttpResponse> {
    let of = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
    let to = of("destination").and_then(|to| to.parse::<http::Uri>().ok());
    let Some(to) = to.and_then(|to| place(shelf, to.path())) else {
        return Ok(HttpResponse::BadRequest().finish());
    };
    if of("overwrite") == Some("F") {
        // A second name never takes the place of a file.
        fs::hard_link(path, &to).and_then(|()| fs::remove_file(path))?;
    } else {
        fs::rename(path, &to)?;
    }
    Ok(HttpResponse::Created().finish())
}

fn listing(request: &HttpRequest, path: &Path) -> io::Result<HttpResponse> {
    let mut text =
        String::from("<?xml version=\"1.0\" encoding=\"utf-8\"?><multistatus xmlns=\"DAV:\">");
    let here = request.path().trim_end_matches('/');
    let found = fs::metadata(path)?;
    text.push_str(&described(here, &found));
    let whole = request.headers().get("depth").is_some_and(|depth| depth == "1");
    if found.is_dir() && whole {
        for entry in fs::read_dir(path)?.filter_map(Result::ok) {
            let Ok(name) = entry.file_name().into_string() else { continue };
            let href = format!("{here}/{}", utf8_percent_encode(&name, SEGMENT));
            text.push_str(&described(&href, &entry.metadata()?));
        }
    }
    text.push_str("</multistatus>");
    let kind = "application/xml; charset=utf-8";
    Ok(HttpResponse::MultiStatus().content_type(kind).body(text))
}

fn described(href: &str, found: &fs::Metadata) -> String {
    let modified = found.modified().ok().and_then(|at| Timestamp::try_from(at).ok());
    let modified = modified.map(|at| at.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string());
    let kind = if found.is_dir() { "<collection/>" } else { "" };
    format!(
        "<response><href>{href}</href><propstat><prop><resourcetype>{kind}</resourcetype>\
         <getcontentlength>{}</getcontentlength><getlastmodified>{}</getlastmodified></prop>\
         <status>HTTP/1.1 200 OK</status></propstat></response>",
        if found.is_dir() { 0 } else { found.len() },
        modified.unwrap_or_default()
    )
}
