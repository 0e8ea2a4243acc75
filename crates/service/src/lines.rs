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

/// A line for each thing that `list` gives. When it fails, the last line is a
/// problem.
pub(crate) fn lines<T: Serialize>(
    shared: web::Data<Shared>,
    list: impl FnOnce(&Engine, &mut dyn FnMut(T) -> bool) -> Result<(), EngineError> + Send + 'static,
) -> impl Stream<Item = Result<Bytes, actix_web::Error>> {
    let (hand_over, pieces) = mpsc::channel::<Bytes>(AHEAD);
    // It ends by itself, and early when nobody reads any more.
    drop(web::block(move || {
        let mut piece = Vec::with_capacity(PIECE + 1024);
        let mut each = |one: T| {
            if serde_json::to_writer(&mut piece, &one).is_err() {
                return false;
            }
            piece.push(b'\n');
            if piece.len() < PIECE {
                return true;
            }
            hand_over.blocking_send(Bytes::from(std::mem::take(&mut piece))).is_ok()
        };
        if let Err(error) = list(&shared.engine, &mut each) {
            let problem = Problem::from(error);
            piece.extend(serde_json::to_vec(&problem).unwrap_or_default());
            piece.push(b'\n');
        }
        // A reader that has gone needs no rest.
        let _ = hand_over.blocking_send(Bytes::from(piece));
    }));
    futures_util::stream::unfold(pieces, |mut pieces| async move {
        let piece = pieces.recv().await?;
        Some((Ok(piece), pieces))
    })
}
