//! Reading the section of a gate.

use crate::afar::config::PlaceConfig;
use crate::config::batch;
use crate::config::calendar::Calendars;
use crate::config::drops::Drops;
use crate::config::fetch::{self, FetchConfig};
use crate::config::gate::{Archive, Bounds, Door, Empty, Gate, Interrupted, Order, Usual};
use crate::config::identity;
use crate::config::identity::{Once, Repeats};
use crate::config::pick;
use crate::config::schedule;
use crate::config::settle;
use crate::config::work;
use crate::files::compress::Compression;
use crate::files::durable::Durability;
use crate::pattern::Pattern;
use crate::pattern::template::Template;
use crate::settings::keys::{check_name, duration, path_template, patterns, range};
use crate::settings::reader::Section;
use crate::settings::values::{parse_bytes, parse_duration};
use crate::work::seam::{ReadContext, Work};
use std::path::Path;
use std::time::Duration;

/// What gates may name, and the folder from which their paths start.
#[derive(Clone, Copy)]
pub(crate) struct Around<'a> {
    pub calendars: &'a Calendars,
    pub places: &'a [PlaceConfig],
    pub folder: &'a Path,
}

/// Reads the gates of all files; `likes` are the sections that gates may be
/// like.
pub(crate) fn read_all<'a>(
    sections: Vec<(String, Section<'a>)>,
    likes: &[(String, Section<'a>)],
    around: Around<'_>,
) -> Vec<Gate> {
    let mut gates: Vec<Gate> = Vec::new();
    for (name, mut section) in sections {
        check_name(&section, "gate", &name);
        if let Some(other) = gates.iter().find(|other| other.name == name) {
            section.fault_here(format!(
                "the gate `{name}` is there already, in {} on line {}; give one another name",
                other.file.display(),
                other.line
            ));
        }
        stand_before_its_like(&mut section, likes);
        gates.extend(read(name, section, around));
    }
    gates
}

/// Puts what a gate is like behind its section, and what that is like, and so
/// on.
fn stand_before_its_like<'a>(section: &mut Section<'a>, likes: &[(String, Section<'a>)]) {
    let mut seen: Vec<String> = Vec::new();
    let mut next = section.text("like");
    while let Some(wanted) = next {
        if seen.contains(&wanted.value) {
            wanted.at.fault(format!(
                "`{}` is like itself, by way of {}",
                wanted.value,
                seen.join(", ")
            ));
            return;
        }
        let Some((_, like)) = likes.iter().find(|(name, _)| *name == wanted.value) else {
            let known = likes.iter().map(|(name, _)| name.as_str());
            let near = crate::settings::reader::nearest(&wanted.value, known);
            let hint = near.map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
            wanted.at.fault(format!("there is no [like.{}]{hint}", wanted.value));
            return;
        };
        section.stand_before(like);
        seen.push(wanted.value);
        next = like.own_text("like");
    }
}

/// How a gate looks at its drop folders.
struct Looking {
    sweep: Duration,
    depth: u32,
    notices: bool,
    follow_links: bool,
    at_once: Option<usize>,
}

fn read_looking(section: &mut Section<'_>) -> Looking {
    let sweep = duration(section, "sweep").unwrap_or(Duration::from_secs(10));
    let depth = read_depth(section);
    let notices = section.choice("notices", &[("on", true), ("off", false)]).unwrap_or(true);
    let follow_links = section.choice("links", &[("leave", false), ("follow", true)]);
    let at_once = section.count("at_once").and_then(|count| usize::try_from(count).ok());
    Looking {
        sweep: sweep.max(Duration::from_millis(100)),
        depth,
        notices,
        follow_links: follow_links.unwrap_or(false),
        at_once: at_once.filter(|count| *count > 0),
    }
}

fn read_bounds(section: &mut Section<'_>) -> Bounds {
    let bytes = range(section, "bytes", parse_bytes);
    Bounds { bytes, age: range(section, "age", parse_duration) }
}

fn read_door(section: &mut Section<'_>) -> Door {
    let mut door = Door { bytes: 2_000_000_000, files_waiting: 1_000 };
    let Some(mut section) = section.section("door") else { return door };
    let bytes = range(&mut section, "bytes", parse_bytes);
    if bytes.least.is_some() {
        section.fault_at("bytes", "`bytes` of a door is a most, such as \"..2GB\"".into());
    }
    door.bytes = bytes.most.map_or(door.bytes, |most| most.at);
    door.files_waiting = section.count("files_waiting").map_or(door.files_waiting, u64::from);
    section.finish();
    door
}

fn read_group(section: &mut Section<'_>) -> Option<String> {
    let group = section.text("group")?.value.trim().to_owned();
    (!group.is_empty()).then_some(group)
}

fn read(name: String, mut section: Section<'_>, around: Around<'_>) -> Option<Gate> {
    let Around { calendars, places, folder } = around;
    section.has("like");
    let exact = section.choice("case", &[("exact", true), ("ignore", false)]).unwrap_or(false);
    let drops = read_drops(&name, &mut section, folder, exact);
    let (take, leave) = read_patterns(&mut section, exact);
    // A field that only some of the patterns capture is accepted: an entry without it is held.
    let of_drops = drops.iter().flat_map(Drops::fields);
    let of_names = take.iter().flat_map(|pattern| pattern.fields());
    let fields: Vec<String> = of_drops.chain(of_names).cloned().collect();
    let (settle, bounds) = (settle::read(&mut section, &fields), read_bounds(&mut section));
    let (empty, durable) = (read_empty(&mut section), read_durable(&mut section));
    let looking = read_looking(&mut section);
    let (group, usual) = (read_group(&mut section), read_usual(&mut section));
    let schedule = schedule::read(&mut section, calendars);
    let order = order(&mut section, &fields);
    let pick = pick::read(&mut section, &fields);
    let identity = identity::read(&mut section, folder, &fields);
    let fetch = read_fetch(&mut section, places, drops.as_ref(), exact, looking.depth);
    let context = ReadContext { folder, fields: &fields, places };
    let work = work::read(&name, &mut section, &context).ok()?;
    let batch = batch::read(&name, &mut section, work.as_deref(), &fields, exact);
    let archive = read_archive(&name, &mut section, work.as_deref(), folder, &fields);
    let (hold, door) = (read_hold(&mut section, folder, &fields), read_door(&mut section));
    let interrupted = read_interrupted(&mut section);
    let (file, line) = (section.file(), section.line());
    section.finish();
    Some(Gate {
        name,
        group,
        drops: drops?,
        take,
        leave,
        subfolders: looking.depth > 0,
        depth: looking.depth,
        follow_links: looking.follow_links,
        notices: looking.notices,
        at_once: looking.at_once,
        settle,
        durable,
        bounds,
        empty,
        usual,
        sweep: looking.sweep,
        schedule,
        order,
        pick,
        once: identity.once,
        once_across: identity.once_across,
        once_for: identity.once_for,
        repeats: repeats_of(identity.repeats, identity.once, archive.as_ref()),
        hold_revisions: identity.hold_revisions,
        work,
        batch,
        interrupted,
        archive: archive?,
        hold,
        door,
        fetch,
        file,
        line,
    })
}

fn read_fetch(
    section: &mut Section<'_>,
    places: &[PlaceConfig],
    drops: Option<&Drops>,
    exact: bool,
    depth: u32,
) -> Option<FetchConfig> {
    let of_drops = drops.map_or(0, Drops::depth);
    let depth = usize::try_from(depth).unwrap_or(usize::MAX);
    fetch::read(section, places, exact, of_drops.saturating_add(depth))
}

fn repeats_of(repeats: Repeats, once: Once, archive: Option<&Archive>) -> Repeats {
    match (repeats, archive) {
        // There is no archive to which they could go. One that is known by its name alone may
        // have content that was never worked: it stays.
        (Repeats::File, Some(Archive::Delete)) if once != Once::Name => Repeats::Delete,
        (repeats, _) => repeats,
    }
}

fn read_interrupted(section: &mut Section<'_>) -> Interrupted {
    let choices = [("hold", Interrupted::Hold), ("retry", Interrupted::Retry)];
    section.choice("interrupted", &choices).unwrap_or(Interrupted::Hold)
}

fn read_empty(section: &mut Section<'_>) -> Empty {
    let choices = [("hold", Empty::Hold), ("take", Empty::Take), ("leave", Empty::Leave)];
    section.choice("empty", &choices).unwrap_or(Empty::Hold)
}

fn read_usual(section: &mut Section<'_>) -> Usual {
    let choices = [("off", Usual::Off), ("tell", Usual::Tell), ("hold", Usual::Hold)];
    section.choice("usual", &choices).unwrap_or(Usual::Off)
}

fn read_durable(section: &mut Section<'_>) -> Durability {
    let choices = [("content", Durability::Content), ("rename", Durability::Rename)];
    section.choice("durable", &choices).unwrap_or(Durability::Content)
}

fn read_drops(name: &str, section: &mut Section<'_>, folder: &Path, exact: bool) -> Option<Drops> {
    let drops = section.texts("drop");
    if drops.as_ref().is_none_or(Vec::is_empty) {
        section.fault_here(format!(
            "the gate `{name}` has no `drop`; name its drop folder: drop = \"drops/{name}\""
        ));
    }
    Drops::read(&drops?, folder, exact)
}

/// `take` and `leave`.
fn read_patterns(section: &mut Section<'_>, exact: bool) -> (Vec<Pattern>, Vec<Pattern>) {
    let take = match section.texts("take") {
        Some(texts) => {
            for text in texts.iter().filter(|text| text.value.starts_with('!')) {
                let left = &text.value[1..];
                text.at.fault(format!(
                    "`take` has \"{}\"; what is to be left stands in `leave`: leave = [\"{left}\"]",
                    text.value
                ));
            }
            patterns(texts, exact)
        }
        None => Pattern::parse("*", exact).into_iter().collect(),
    };
    let leave = section.texts("leave").unwrap_or_default();
    (take, patterns(leave, exact))
}

/// `subfolders`: none, all, or down to a depth.
fn read_depth(section: &mut Section<'_>) -> u32 {
    if section.is_count("subfolders") {
        return section.count("subfolders").unwrap_or(0);
    }
    if section.flag("subfolders").unwrap_or(false) { u32::MAX } else { 0 }
}

fn order(section: &mut Section<'_>, fields: &[String]) -> Order {
    let Some(text) = section.text("order") else { return Order::Oldest };
    match text.value.as_str() {
        "oldest" => Order::Oldest,
        "newest" => Order::Newest,
        "name" => Order::Name,
        "smallest" => Order::Smallest,
        "largest" => Order::Largest,
        other => {
            let field = other.strip_prefix('<').and_then(|rest| rest.strip_suffix('>'));
            if let Some(field) = field.filter(|field| fields.iter().any(|known| known == field)) {
                return Order::Field(field.to_owned());
            }
            let known: Vec<String> = fields.iter().map(|field| format!("\"<{field}>\"")).collect();
            let fields =
                if known.is_empty() { String::new() } else { format!(", {}", known.join(", ")) };
            text.at.fault(format!("`order` is \"{other}\"; expected \"oldest\", \"newest\", \"name\", \"smallest\", \"largest\"{fields}"));
            Order::Oldest
        }
    }
}

fn read_hold(section: &mut Section<'_>, folder: &Path, fields: &[String]) -> Option<Template> {
    let mut hold = section.section("hold")?;
    let into = path_template(&mut hold, "into", folder, fields);
    hold.finish();
    into
}

fn read_archive(
    name: &str,
    section: &mut Section<'_>,
    work: Option<&dyn Work>,
    folder: &Path,
    fields: &[String],
) -> Option<Archive> {
    if section.is_text("archive") {
        let words = [("leave", false), ("delete", true)];
        let deletes = section.choice("archive", &words)?;
        if deletes && work.is_some_and(Work::may_leave) {
            section.fault_at("archive", "with archive = \"delete\" a file for whose place exists = \"leave\" does nothing would be gone everywhere; say exists = \"fail\" or \"number\", or keep the originals".into());
        }
        if deletes && work.is_none() {
            section.fault_at("archive", format!("the gate `{name}` has no work, and archive = \"delete\": its files would be deleted and nothing else; give it a work, or say archive = {{ into = \"archive/{name}\" }}"));
        }
        return Some(if deletes { Archive::Delete } else { Archive::Leave });
    }
    if !section.has("archive") {
        section.fault_here(format!("the gate `{name}` does not say where worked files go; add archive = {{ into = \"archive/{name}\" }}, or archive = \"leave\""));
        return None;
    }
    let mut archive = section.section("archive")?;
    let into = path_template(&mut archive, "into", folder, fields);
    let all = [Compression::Gzip, Compression::Zstd];
    let compress = archive.choice("compress", &all.map(|one| (one.word(), one)));
    archive.finish();
    Some(Archive::Into(into?, compress))
}
