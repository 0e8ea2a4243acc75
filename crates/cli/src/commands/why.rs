//! `why`: one file's story in a sentence.

use crate::args::Why;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

pub fn why(client: &Client, args: &Why) -> Result<(), Failure> {
    let path = std::path::absolute(&args.path)?;
    let answer = client.why(&path)?;
    if args.json { show::json(&answer) } else { show::one(&answer.sentence) }
}
