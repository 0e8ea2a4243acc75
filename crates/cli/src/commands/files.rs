//! `files`: what lies in drop folders, and in any folder inside the roots.

use vadegate_core::arrivals::{Seen, sweep};
use vadegate_core::config::Config;
use vadegate_core::pattern::Pattern;

use super::listed::{Listed, Plain, word};
use super::listing::Listing;
use crate::args::Files;
use crate::client::{Client, asked, gate_names};
use crate::failure::Failure;

pub fn files(config: Config, args: &Files) -> Result<(), Failure> {
    let pattern = args.pattern.as_deref().map(|text| Pattern::parse(text, false)).transpose();
    let pattern = pattern.map_err(|error| Failure::Wrong(error.to_string()))?;
    let mut listing = Listing::of(args);
    let unread = gather(config, args, |one| {
        let verdict = match (&args.verdict, &one) {
            (None, _) => true,
            (Some(wanted), Listed::OfGate(file)) => word(file.verdict) == wanted,
            (Some(_), Listed::InFolder(_)) => false,
        };
        if verdict && pattern.as_ref().is_none_or(|pattern| pattern.is_match(one.path())) {
            listing.add(one)?;
        }
        Ok(())
    })?;
    listing.finish()?;
    if unread.is_empty() { Ok(()) } else { Err(Failure::Failed(unread.join("\nvadegate: "))) }
}

/// Gives what lies in the gates and folders asked for; returns what could not be
/// read.
fn gather(
    config: Config,
    args: &Files,
    mut each: impl FnMut(Listed) -> Result<(), Failure>,
) -> Result<Vec<String>, Failure> {
    let mut unread = Vec::new();
    let all = args.gates.is_empty();
    let names: Vec<String> = if all { gate_names(&config)? } else { args.gates.clone() };
    let (folders, gates): (Vec<String>, Vec<String>) = names.into_iter().partition(|name| {
        // A service elsewhere has no folders here.
        asked().service.is_none() && config.gate(name).is_none() && is_folder(name)
    });
    for folder in &folders {
        let absolute = std::path::absolute(folder)?;
        let within = config.really_within_roots(&absolute);
        within.map_err(|why| Failure::Wrong(why.to_string()))?;
        let mut failed = Ok(());
        let problems = sweep(&config.reach, &absolute, u32::MAX, |seen| {
            if failed.is_ok() {
                failed = each(Listed::InFolder(plain(seen)));
            }
        });
        failed?;
        let problems = problems.map_err(|problem| Failure::Failed(problem.to_string()))?;
        unread.extend(problems.iter().map(ToString::to_string));
    }
    if gates.is_empty() {
        return Ok(unread);
    }
    let client = Client::of(config)?;
    for gate in &gates {
        match client.each_file(gate, |file| each(Listed::OfGate(file))) {
            Ok(()) => {}
            // One folder that cannot be read does not hide the others.
            Err(failure @ (Failure::Problem(_) | Failure::Engine(_))) if all => {
                unread.push(format!("gate `{gate}`: {failure}"));
            }
            Err(failure) => return Err(failure),
        }
    }
    Ok(unread)
}

fn is_folder(name: &str) -> bool {
    std::fs::metadata(name).is_ok_and(|meta| meta.is_dir())
}

fn plain(seen: Seen) -> Plain {
    Plain {
        name: seen.path.rsplit('/').next().unwrap_or(&seen.path).to_owned(),
        path: seen.path,
        kind: seen.kind,
        bytes: seen.version.bytes,
        modified: jiff::Timestamp::from_nanosecond(i128::from(seen.version.modified_ns))
            .unwrap_or_default(),
        owner: seen.owner,
    }
}
