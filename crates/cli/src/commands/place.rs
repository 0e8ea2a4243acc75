//! `place`: servers from which is fetched and to which is delivered, and what lies there.

use jiff::tz::TimeZone;
use vadegate_core::ask::{PlaceFileKind, PlaceFolder, PlaceView};
use vadegate_core::config::{Config, write_bytes};

use crate::args::Place;
use crate::client::Client;
use crate::failure::Failure;
use crate::show;

const NONE: &str = "The configuration has no place. Write a server as [place.NAME] with `at`, and have a gate fetch from it with [gate.X.fetch], or deliver to it.";

pub fn place(config: Config, args: &Place) -> Result<(), Failure> {
    let zone = config.service.timezone.clone();
    let client = Client::of(config)?;
    let Some(name) = &args.name else {
        let places = client.places()?;
        return match args.json {
            true => show::json(&places),
            false if places.is_empty() => show::line(NONE),
            false => print_places(&places),
        };
    };
    let folder = client.place_folder(name, args.folder.as_deref().unwrap_or(""))?;
    if args.json { show::json(&folder) } else { print_folder(&folder, &zone) }
}

fn print_places(places: &[PlaceView]) -> Result<(), Failure> {
    let mut table = show::table(&["PLACE", "ADDRESS", "FETCHED BY", "DELIVERED BY"]);
    let listed = |gates: &[String]| match gates {
        [] => "-".to_owned(),
        gates => gates.join(", "),
    };
    for place in places {
        table.add_row([
            show::cell(&place.name),
            show::cell(&place.at),
            show::cell(listed(&place.fetched_by)),
            show::cell(listed(&place.delivered_by)),
        ]);
    }
    show::print(&table)?;
    for place in places {
        for problem in &place.problems {
            show::line("")?;
            show::one(&format!("{}: {problem}", place.name))?;
        }
    }
    show::line(
        "\n`vadegate place NAME [FOLDER]` lists what lies there; `vadegate check` tries all of them.",
    )
}

fn print_folder(folder: &PlaceFolder, zone: &TimeZone) -> Result<(), Failure> {
    let PlaceFolder { place, at, folder: below, files, count, bytes } = folder;
    let shown =
        if below.is_empty() { at.clone() } else { format!("{}/{below}", at.trim_end_matches('/')) };
    if files.is_empty() {
        return show::one(&format!("{place}: `{shown}` is empty."));
    }
    let mut table = show::table(&["NAME", "SIZE", "MODIFIED THERE"]);
    for file in files {
        let name = match file.kind {
            PlaceFileKind::Folder => format!("{}/", file.name),
            _ => file.name.clone(),
        };
        let size = match file.kind {
            PlaceFileKind::Folder => "-".to_owned(),
            PlaceFileKind::File => write_bytes(file.bytes),
            _ => "no file".to_owned(),
        };
        let modified = file.modified.map_or("-".to_owned(), |at| show::time(at, zone));
        table.add_row([
            show::cell(&name),
            show::cell(&size).set_alignment(comfy_table::CellAlignment::Right),
            show::cell(&modified),
        ]);
    }
    show::print(&table)?;
    let shown_count = files.len() as u64;
    if *count > shown_count {
        show::line(&format!("… and {} more", show::grouped(count - shown_count)))?;
    }
    let names = show::counted(*count, "name", "names");
    show::line(&format!("\n{place}, {shown}: {names}, {}", write_bytes(*bytes)))
}
