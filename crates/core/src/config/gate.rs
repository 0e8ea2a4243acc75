//! Building the gates.

use std::path::Path;
use std::time::Duration;

use super::reader::{Found, Section};
use super::values::{parse_bytes, parse_duration};
use super::{
    Archive, Bounds, Drops, Empty, Gate, Interrupted, OfferConfig, Order, Range, RunConfig, Work,
    batch, identity, join, load, merge, pick, settle,
};
use crate::pattern::{Pattern, Template};

/// Reads the gates of all files; `likes` are the sections that gates may be
/// like.
pub(super) fn read_all<'a>(
    sections: Vec<(String, Section<'a>)>,
    likes: &[(String, Section<'a>)],
    folder: &Path,
) -> Vec<Gate> {
    let mut gates: Vec<Gate> = Vec::new();
    for (name, mut section) in sections {
        let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
        if name.is_empty() || !name.chars().all(good) {
            section.fault_here(format!(
                "`{name}` is no name for a gate; use lower-case letters, digits, `-` and `_`"
            ));
        }
        if let Some(other) = gates.iter().find(|other| other.name == name) {
            section.fault_here(format!(
                "the gate `{name}` is there already, in {} on line {}; give one another name",
                other.file.display(),
                other.line
            ));
        }
        stand_before_its_like(&mut section, likes);
        gates.extend(read(name, section, folder));
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
            let near = super::reader::nearest(&wanted.value, known);
            let hint = near.map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
            wanted.at.fault(format!("there is no [like.{}]{hint}", wanted.value));
            return;
        };
        section.stand_before(like);
        seen.push(wanted.value);
        next = like.own_text("like");
    }
}

fn read(name: String, mut section: Section<'_>, folder: &Path) -> Option<Gate> {
    section.has("like");
    let exact = section.choice("case", &[("exact", true), ("ignore", false)]).unwrap_or(false);
    let drops = read_drops(&name, &mut section, folder, exact);
    let (take, leave) = read_patterns(&mut section, exact);
    // A field that only some of the patterns capture is accepted: an entry
    // without it is held by name when the template asks for it.
    let of_drops = drops.iter().flat_map(Drops::fields);
    let of_names = take.iter().flat_map(|pattern| pattern.fields());
    let fields: Vec<String> = of_drops.chain(of_names).cloned().collect();
    let settle = settle::read(&mut section, &fields);
    let bounds = Bounds {
        bytes: range(&mut section, "bytes", parse_bytes),
        age: range(&mut section, "age", parse_duration),
    };
    let empty = [("hold", Empty::Hold), ("take", Empty::Take), ("leave", Empty::Leave)];
    let empty = section.choice("empty", &empty).unwrap_or(Empty::Hold);
    let sweep = duration(&mut section, "sweep").unwrap_or(Duration::from_secs(10));
    let depth = read_depth(&mut section);
    let notices = section.choice("notices", &[("on", true), ("off", false)]).unwrap_or(true);
    let follow_links = section.choice("links", &[("leave", false), ("follow", true)]);
    let at_once = section.count("at_once").and_then(|count| usize::try_from(count).ok());
    let at_once = at_once.filter(|count| *count > 0);
    let order = order(&mut section, &fields);
    let pick = pick::read(&mut section, &fields);
    let identity = identity::read(&mut section, folder, &fields);
    let interrupted = [("hold", Interrupted::Hold), ("retry", Interrupted::Retry)];
    let interrupted = section.choice("interrupted", &interrupted).unwrap_or(Interrupted::Hold);
    let work = read_work(&name, &mut section, folder, &fields)?;
    let batch = batch::read(&mut section, &work, &fields, exact);
    let archive = read_archive(&name, &mut section, folder, &fields);
    let hold = read_hold(&mut section, folder, &fields);
    let (file, line) = (section.file(), section.line());
    section.finish();
    Some(Gate {
        name,
        drops: drops?,
        take,
        leave,
        subfolders: depth > 0,
        depth,
        follow_links: follow_links.unwrap_or(false),
        notices,
        at_once,
        settle,
        bounds,
        empty,
        sweep: sweep.max(Duration::from_millis(100)),
        order,
        pick,
        once: identity.once,
        once_across: identity.once_across,
        once_for: identity.once_for,
        repeats: identity.repeats,
        hold_revisions: identity.hold_revisions,
        work,
        batch,
        interrupted,
        archive: archive?,
        hold,
        file,
        line,
    })
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

fn patterns(texts: Vec<Found<'_, String>>, exact: bool) -> Vec<Pattern> {
    let mut patterns = Vec::new();
    for text in texts {
        match Pattern::parse(&text.value, exact) {
            Ok(pattern) => patterns.push(pattern),
            Err(error) => text.at.fault(error.to_string()),
        }
    }
    patterns
}

/// A range such as `1B..2GB`, `..30d` or `1h..`.
fn range<T: PartialOrd>(
    section: &mut Section<'_>,
    key: &'static str,
    parse: impl Fn(&str) -> Result<T, String>,
) -> Range<T> {
    let none = Range { least: None, most: None };
    let Some(text) = section.text(key) else { return none };
    let Some((least, most)) = text.value.split_once("..") else {
        text.at.fault(format!(
            "`{key}` is \"{}\"; expected a range such as \"1..2\", \"..2\" or \"1..\", with units",
            text.value
        ));
        return none;
    };
    let end = |end: &str| match end.trim() {
        "" => Ok(None),
        end => parse(end).map(Some),
    };
    match (end(least), end(most)) {
        (Ok(Some(least)), Ok(Some(most))) if least > most => {
            text.at.fault(format!("`{key}`: the range `{}` is backwards", text.value));
            none
        }
        (Ok(least), Ok(most)) => Range { least, most },
        (Err(message), _) | (_, Err(message)) => {
            text.at.fault(format!("`{key}`: {message}"));
            none
        }
    }
}

/// `take` and `leave`.
fn read_patterns(section: &mut Section<'_>, exact: bool) -> (Vec<Pattern>, Vec<Pattern>) {
    let take = match section.texts("take") {
        Some(texts) => patterns(texts, exact),
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

fn read_work(
    name: &str,
    section: &mut Section<'_>,
    folder: &Path,
    fields: &[String],
) -> Option<Work> {
    const WORKS: [&str; 4] = ["merge", "load", "run", "offer"];
    // The work of what it is like gives way to a work of its own.
    let own: Vec<&str> = WORKS.into_iter().filter(|work| section.has_of_its_own(work)).collect();
    let mut works = Vec::new();
    for work in WORKS {
        if !own.is_empty() && !own.contains(&work) || !section.has(work) {
            section.has(work);
            continue;
        }
        let Some(inner) = section.section(work) else { continue };
        works.extend(match work {
            "merge" => merge::read(inner, folder, fields).map(|merge| Work::Merge(Box::new(merge))),
            "load" => load::read(inner, folder, fields).map(|load| Work::Load(Box::new(load))),
            "run" => read_run(inner, folder, fields).map(Work::Run),
            _ => Some(Work::Offer(read_offer(inner))),
        });
    }
    if let [one, other, ..] = &works[..] {
        let (one, other) = (one.word(), other.word());
        section.fault_here(format!(
            "the gate `{name}` has both `{one}` and `{other}`; a gate has one work, so make two gates"
        ));
        return None;
    }
    Some(works.pop().unwrap_or(Work::None))
}

fn read_offer(mut section: Section<'_>) -> OfferConfig {
    let lease = duration(&mut section, "lease").unwrap_or(Duration::from_secs(60));
    let (wait, wait_up_to, tries) = read_tries(&mut section);
    section.finish();
    OfferConfig { lease, wait, wait_up_to, tries }
}

/// How often something is tried, and how long is waited between.
fn read_tries(section: &mut Section<'_>) -> (Duration, Duration, u32) {
    let wait = duration(section, "wait").unwrap_or(Duration::from_secs(30));
    let wait_up_to = duration(section, "wait_up_to").unwrap_or(Duration::from_secs(1800));
    (wait, wait_up_to, section.count("tries").unwrap_or(20))
}

pub(super) fn duration(section: &mut Section<'_>, key: &'static str) -> Option<Duration> {
    let text = section.text(key)?;
    match parse_duration(&text.value) {
        Ok(duration) => Some(duration),
        Err(message) => {
            text.at.fault(format!("`{key}`: {message}"));
            None
        }
    }
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

pub(super) fn template(text: &Found<'_, String>, fields: &[String]) -> Option<Template> {
    let template = match Template::parse(&text.value) {
        Ok(template) => template,
        Err(error) => {
            text.at.fault(error.to_string().replacen("pattern", "template", 1));
            return None;
        }
    };
    for used in template.uses() {
        if !Template::is_builtin(used) && !fields.iter().any(|field| field == used) {
            let near = super::reader::nearest(used, fields.iter().map(String::as_str));
            let hint = near.map(|near| format!("; did you mean `<{near}>`?")).unwrap_or_default();
            text.at.fault(format!(
                "the template uses the field `<{used}>`, which no `take` pattern captures{hint}"
            ));
        }
    }
    Some(template)
}

/// A template of a path, made absolute.
pub(super) fn path_template(
    section: &mut Section<'_>,
    key: &'static str,
    folder: &Path,
    fields: &[String],
) -> Option<Template> {
    let Some(mut text) = section.text(key) else {
        if !section.has(key) {
            section
                .fault_here(format!("`{key}` is missing; expected a path such as \"out/<name>\""));
        }
        return None;
    };
    if !text.value.starts_with('/') {
        let escaped =
            folder.to_string_lossy().replace('\\', "\\\\").replace('<', "\\<").replace('>', "\\>");
        text.value = format!("{}/{}", escaped.trim_end_matches('/'), text.value);
    }
    if text.value.split('/').any(|part| part == "..") {
        text.at.fault(format!("`{key}` climbs with `..`; write the path without it"));
        return None;
    }
    template(&text, fields)
}

fn read_run(mut section: Section<'_>, folder: &Path, fields: &[String]) -> Option<RunConfig> {
    let program = section.text("program");
    if program.is_none() && !section.has("program") {
        section.fault_here(
            "`program` is missing; expected a program such as \"bin/check-manifest\"".into(),
        );
    }
    let args = section.texts("args").unwrap_or_default();
    let args = args.iter().filter_map(|text| template(text, fields)).collect();
    let limit = duration(&mut section, "limit").unwrap_or(Duration::from_secs(600));
    let (wait, wait_up_to, tries) = read_tries(&mut section);
    section.finish();
    let program = program?.value;
    // A bare name is looked up in PATH, as everywhere; a path is a path.
    let program = if program.contains('/') { join(folder, &program) } else { program.into() };
    Some(RunConfig { program, args, limit, wait, wait_up_to, tries })
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
    folder: &Path,
    fields: &[String],
) -> Option<Archive> {
    if section.is_text("archive") {
        return section.choice("archive", &[("leave", ())]).map(|()| Archive::Leave);
    }
    if !section.has("archive") {
        section.fault_here(format!("the gate `{name}` does not say where worked files go; add archive = {{ into = \"archive/{name}\" }}, or archive = \"leave\""));
        return None;
    }
    let mut archive = section.section("archive")?;
    let into = path_template(&mut archive, "into", folder, fields);
    archive.finish();
    Some(Archive::Into(into?))
}
