//! Long lists as JSON Lines, sent while they are made: they never stand whole in
//! memory.

use actix_web::web::{self, Bytes};
use futures_util::Stream;
use serde::Serialize;
use tokio::sync::mpsc;
use vadegate_core::engine::{Engine, EngineError};

use crate::Shared;
use crate::problem::Problem;

/// Bytes that are gathered before they are sent.
const PIECE: usize = 32 * 1024;

/// Pieces that wait for a slow reader before the list waits too.
const AHEAD: usize = 4;

/// A line of JSON for each thing that `list` gives. When it fails, the last line is a
/// problem.
pub(crate) fn lines<T: Serialize>(
    shared: web::Data<Shared>,
    list: impl FnOnce(&Engine, &mut dyn FnMut(T) -> bool) -> Result<(), EngineError> + Send + 'static,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let json = |one: &T| serde_json::to_string(one).unwrap_or_default();
    let failed = |error| {
        let problem = serde_json::to_string(&Problem::from(error)).unwrap_or_default();
        Ok(Bytes::from(problem + "\n"))
    };
    streamed(shared, String::new(), list, json, failed)
}

/// Lines of text below a line of names. When it fails the answer breaks off, so that nobody
/// takes a part for the whole.
pub(crate) fn table<T>(
    shared: web::Data<Shared>,
    names: &str,
    list: impl FnOnce(&Engine, &mut dyn FnMut(T) -> bool) -> Result<(), EngineError> + Send + 'static,
    line: impl Fn(&T) -> String + Send + 'static,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let failed = |error: EngineError| Err(Problem::from(error).into());
    streamed(shared, format!("{names}\n"), list, line, failed)
}

/// The bytes of a reader, as they are read. When it fails the answer breaks off.
pub(crate) fn bytes(
    shared: web::Data<Shared>,
    open: impl FnOnce(&Engine) -> Result<Box<dyn std::io::Read>, EngineError> + Send + 'static,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let (hand_over, pieces) = mpsc::channel::<Result<Bytes, std::io::Error>>(AHEAD);
    drop(web::block(move || {
        let mut reader = match open(&shared.engine) {
            Ok(reader) => reader,
            Err(error) => {
                let _ = hand_over.blocking_send(Err(std::io::Error::other(error.to_string())));
                return;
            }
        };
        let mut buffer = vec![0; 2 * PIECE];
        loop {
            let piece = match reader.read(&mut buffer) {
                Ok(0) => break,
                Ok(count) => Ok(Bytes::copy_from_slice(&buffer[..count])),
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => continue,
                Err(error) => Err(error),
            };
            let failed = piece.is_err();
            if hand_over.blocking_send(piece).is_err() || failed {
                break;
            }
        }
    }));
    futures_util::stream::unfold(pieces, |mut pieces| async move {
        let piece = pieces.recv().await?;
        Some((piece.map_err(actix_web::Error::from), pieces))
    })
}

fn streamed<T>(
    shared: web::Data<Shared>,
    begin: String,
    list: impl FnOnce(&Engine, &mut dyn FnMut(T) -> bool) -> Result<(), EngineError> + Send + 'static,
    line: impl Fn(&T) -> String + Send + 'static,
    failed: impl FnOnce(EngineError) -> Result<Bytes, actix_web::Error> + Send + 'static,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let (hand_over, pieces) = mpsc::channel::<Result<Bytes, EngineError>>(AHEAD);
    // It ends by itself, and early when nobody reads any more.
    drop(web::block(move || {
        let mut piece = begin;
        piece.reserve(PIECE + 1024);
        let mut each = |one: T| {
            piece.push_str(&line(&one));
            piece.push('\n');
            if piece.len() < PIECE {
                return true;
            }
            hand_over.blocking_send(Ok(Bytes::from(std::mem::take(&mut piece)))).is_ok()
        };
        let ended = list(&shared.engine, &mut each);
        // A reader that has gone needs no rest.
        let _ = hand_over.blocking_send(Ok(Bytes::from(piece)));
        if let Err(error) = ended {
            let _ = hand_over.blocking_send(Err(error));
        }
    }));
    let state = (pieces, Some(failed));
    futures_util::stream::unfold(state, |(mut pieces, mut failed)| async move {
        let piece = match pieces.recv().await? {
            Ok(piece) => Ok(piece),
            Err(error) => failed.take()?(error),
        };
        Some((piece, (pieces, failed)))
    })
}
