//! Handing files in at the door of a gate, piece by piece.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::time::Duration;

use http::Response;
use ureq::Body;
use vadegate_core::act::HandedInFile;
use vadegate_core::files::Sha256;

use super::remote::{Remote, coded};
use crate::failure::Failure;

/// Bytes of one request.
const PIECE: u64 = 8 * 1024 * 1024;

/// How often in a row a piece is sent again.
const TRIES: u32 = 8;

/// The longest pause before it is sent again.
const LONGEST_PAUSE: Duration = Duration::from_secs(20);

/// What is handed in.
pub struct Handed<'a> {
    pub gate: &'a str,
    pub path: &'a str,
    pub who: Option<&'a str>,
    pub bytes: u64,
    pub sha256: Sha256,
    /// The sum of what it replaces.
    pub replaces: Option<Sha256>,
}

impl Remote {
    /// Hands a file in; `progress` is told how many bytes are there.
    pub fn hand_in(
        &self,
        handed: &Handed<'_>,
        file: &mut File,
        progress: &dyn Fn(u64),
    ) -> Result<HandedInFile, Failure> {
        let (place, mut offset) = self.begin(handed)?;
        let mut failed = 0;
        loop {
            progress(offset);
            match self.piece(&place, (file, offset), handed.bytes) {
                Ok(Piece::More(next)) => (offset, failed) = (next, 0),
                Ok(Piece::Done(done)) => return Ok(done),
                Err(error) if error.is_passing() && failed < TRIES => {
                    let pause = Duration::from_millis(250) * 2u32.pow(failed);
                    std::thread::sleep(pause.min(LONGEST_PAUSE));
                    failed += 1;
                    // What came of it is there: it goes on behind that.
                    if let Ok(there) = self.how_far(&place) {
                        offset = there;
                    }
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Begins, or goes on with what was cut off; gives where it is received, and how much is
    /// there.
    fn begin(&self, handed: &Handed<'_>) -> Result<(String, u64), Failure> {
        let path: Vec<String> = handed.path.split('/').map(coded).collect();
        let url =
            self.url(&format!("/api/v1/gates/{}/drop/{}", coded(handed.gate), path.join("/")));
        let mut request = self
            .agent()
            .put(url)
            .query_pairs(handed.who.map(|who| ("who", who)))
            .header("Authorization", self.bearer())
            .header("Upload-Complete", "?0")
            .header("Upload-Length", handed.bytes.to_string())
            .header("Repr-Digest", handed.sha256.to_digest());
        if let Some(replaces) = handed.replaces {
            request = request.header("If-Match", format!("\"{replaces}\""));
        }
        let answer = request.send_empty().map_err(|error| self.unreached(&error))?;
        if answer.status().is_success()
            && let (Some(place), Some(offset)) = (text(&answer, "location"), there(&answer))
        {
            return Ok((place, offset));
        }
        Err(self.refused(answer))
    }

    fn piece(
        &self,
        place: &str,
        (file, offset): (&mut File, u64),
        bytes: u64,
    ) -> Result<Piece, Failure> {
        let length = PIECE.min(bytes.saturating_sub(offset));
        let mut piece = vec![0; usize::try_from(length).unwrap_or(0)];
        file.seek(SeekFrom::Start(offset)).and_then(|_| file.read_exact(&mut piece)).map_err(
            |error| Failure::Failed(format!("the file cannot be read: {error}; was it cut short?")),
        )?;
        let last = offset + length == bytes;
        let request = self
            .agent()
            .patch(self.url(place))
            .header("Authorization", self.bearer())
            .header("Content-Type", "application/partial-upload")
            .header("Upload-Offset", offset.to_string())
            .header("Upload-Complete", if last { "?1" } else { "?0" });
        let answer = request.send(&piece[..]).map_err(|error| self.unreached(&error))?;
        match (answer.status().as_u16(), there(&answer)) {
            (204, Some(next)) => Ok(Piece::More(next)),
            // Others are there, from a request that seemed to fail.
            (409, Some(next)) if next != offset => Ok(Piece::More(next)),
            (status, _) if (200..300).contains(&status) => self.read(Ok(answer)).map(Piece::Done),
            _ => Err(self.refused(answer)),
        }
    }

    fn how_far(&self, place: &str) -> Result<u64, Failure> {
        let request = self.agent().head(self.url(place)).header("Authorization", self.bearer());
        let answer = request.call().map_err(|error| self.unreached(&error))?;
        there(&answer).ok_or_else(|| self.refused(answer))
    }

    fn refused(&self, answer: Response<Body>) -> Failure {
        let read = self.read::<serde_json::Value>(Ok(answer));
        read.err().unwrap_or_else(|| {
            Failure::Failed("the service's answer is not understood; is it of the same version as this command?".into())
        })
    }
}

/// What came of a piece.
enum Piece {
    More(u64),
    Done(HandedInFile),
}

fn text(answer: &Response<Body>, name: &str) -> Option<String> {
    answer.headers().get(name)?.to_str().ok().map(str::to_owned)
}

/// How many bytes are there, as an answer says.
fn there(answer: &Response<Body>) -> Option<u64> {
    text(answer, "upload-offset")?.parse().ok()
}
