//! The `deliver` section of a gate.

use std::path::Path;
use std::sync::Arc;

use vadegate_places::Pace;

use crate::afar::config::rate;

use crate::files::compress::Compression;
use crate::pattern::template::Template;
use crate::settings::keys::{file_path_of, path_of, template};
use crate::settings::reader::{Found, Named, Section, nearest};
use crate::work::deliver::bundle::BundleKind;
use crate::work::exists::FileExists;
use crate::work::openpgp::seal::SealConfig;
use crate::work::seam::ReadContext;

/// The `deliver` section of a gate.
#[derive(Debug, Clone)]
pub(crate) struct DeliverConfig {
    /// Where each file is copied to.
    pub to: Vec<DestinationConfig>,
    /// An archive of the files of each batch.
    pub bundle: Option<BundleConfig>,
}

/// A place to which each file is copied.
#[derive(Debug, Clone)]
pub(crate) struct DestinationConfig {
    /// The path of the copy.
    pub into: Template,
    /// What is done when something lies there. Default: the file is held.
    pub exists: FileExists,
    /// How the copy is compressed. Default: not.
    pub compress: Option<Compression>,
    /// For whom the copy is encrypted, and with what it is signed. Default: it is not.
    pub seal: Option<SealConfig>,
    /// The place at which it is; on this machine without one.
    pub far: Option<FarDestination>,
}

/// A destination that is not on this machine.
#[derive(Debug, Clone)]
pub(crate) struct FarDestination {
    /// The name of the place.
    pub place: String,
    /// A bound of its own on bytes in a second.
    pub pace: Option<Arc<Pace>>,
}

impl DestinationConfig {
    /// It as people read it.
    pub fn shown(&self) -> String {
        match &self.far {
            Some(far) => format!("{}:{}", far.place, self.into.source().trim_start_matches('/')),
            None => self.into.source().to_owned(),
        }
    }
}

/// An archive of the files of a batch.
#[derive(Debug, Clone)]
pub(crate) struct BundleConfig {
    /// Its path; files with the same one are bundled together.
    pub into: Template,
    pub kind: BundleKind,
    /// The names of its members. Default `<name>`.
    pub member: Template,
    /// What is done when something lies there. Default: the files are held.
    pub exists: FileExists,
    /// For whom it is encrypted, and with what it is signed. Default: it is not.
    pub seal: Option<SealConfig>,
}

/// What holds for every destination that does not say it itself.
struct Defaults {
    exists: FileExists,
    compress: Option<Compression>,
    seal: Option<SealConfig>,
}

pub(crate) fn read(mut section: Section<'_>, context: &ReadContext<'_>) -> Option<DeliverConfig> {
    let exists = FileExists::read(&mut section).unwrap_or(FileExists::Fail);
    let compress = read_compress(&mut section);
    let seal = SealConfig::read(&mut section, context.folder);
    let defaults = Defaults { exists, compress, seal };
    let named = section.several("to");
    let count = named.len();
    let to: Vec<DestinationConfig> =
        named.into_iter().filter_map(|one| destination(one, &defaults, context)).collect();
    let bundle = match section.has("bundle") {
        true => Some(bundle(section.section("bundle")?, context)?),
        false => None,
    };
    if count == 0 && bundle.is_none() {
        section.fault_here(
            "`to` is missing: say where files are delivered, such as to = \"outbox\", or to = [\"outbox\", { into = \"packed\", compress = \"gzip\" }]".into(),
        );
    }
    for (at, one) in to.iter().enumerate() {
        if to[..at].iter().any(|other| other.shown() == one.shown()) {
            section.fault_at(
                "to",
                format!(
                    "`to` names `{}` twice; give each destination a path of its own",
                    one.shown()
                ),
            );
        }
    }
    section.finish();
    (to.len() == count && (count > 0 || bundle.is_some())).then_some(DeliverConfig { to, bundle })
}

fn read_compress(section: &mut Section<'_>) -> Option<Compression> {
    let all = [Compression::Gzip, Compression::Zstd, Compression::Zip];
    section.choice("compress", &all.map(|one| (one.word(), one)))
}

fn destination(
    named: Named<'_>,
    defaults: &Defaults,
    context: &ReadContext<'_>,
) -> Option<DestinationConfig> {
    match named {
        Named::Text(text) => {
            let Defaults { exists, compress, ref seal } = *defaults;
            let into = file_path(text, compress, seal.as_ref(), context)?;
            Some(DestinationConfig { into, exists, compress, seal: seal.clone(), far: None })
        }
        Named::Table(mut table) => {
            let compress = read_compress(&mut table).or(defaults.compress);
            let exists = FileExists::read(&mut table).unwrap_or(defaults.exists);
            let own = SealConfig::read(&mut table, context.folder);
            let seal = own.or_else(|| defaults.seal.clone());
            let far = far(&mut table, context);
            let into = table.text("into");
            if into.is_none() && !table.has("into") {
                table.fault_here(
                    "`into` is missing; expected a path such as { into = \"outbox/<name>\" }"
                        .into(),
                );
            }
            table.finish();
            let far = far.ok()?;
            // A path at a place is below the folder of its address.
            let root = ReadContext { folder: Path::new("/"), ..*context };
            let context = if far.is_some() { &root } else { context };
            let into = file_path(into?, compress, seal.as_ref(), context)?;
            Some(DestinationConfig { into, exists, compress, seal, far })
        }
    }
}

/// The place of a destination, if it is at one.
fn far(table: &mut Section<'_>, context: &ReadContext<'_>) -> Result<Option<FarDestination>, ()> {
    let rate = match table.text("at_most") {
        Some(text) => Some(rate(&text).ok_or(())?),
        None => None,
    };
    let pace = rate.map(|bytes| Arc::new(Pace::new(bytes)));
    let Some(place) = table.text("place") else {
        if pace.is_some() {
            table.fault_here("`at_most` is for a destination at a `place`".into());
        }
        return Ok(None);
    };
    if !context.places.iter().any(|known| known.name == place.value) {
        let near = nearest(&place.value, context.places.iter().map(|known| known.name.as_str()));
        let hint = near.map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
        place.at.fault(format!("there is no [place.{}]{hint}", place.value));
        return Err(());
    }
    Ok(Some(FarDestination { place: place.value, pace }))
}

fn file_path(
    text: Found<'_, String>,
    compress: Option<Compression>,
    seal: Option<&SealConfig>,
    context: &ReadContext<'_>,
) -> Option<Template> {
    let compressed = compress.map_or("", Compression::ending);
    let ending = format!("{compressed}{}", seal.map_or("", |_| SealConfig::ENDING));
    file_path_of("to", text, &ending, context.folder, context.fields)
}

fn bundle(mut section: Section<'_>, context: &ReadContext<'_>) -> Option<BundleConfig> {
    let exists = FileExists::read(&mut section).unwrap_or(FileExists::Fail);
    let member = match section.text("member") {
        Some(text) => member(&text, context.fields)?,
        None => Template::parse("<name>").ok()?,
    };
    let seal = SealConfig::read(&mut section, context.folder);
    let Some(text) = section.text("into") else {
        section.fault_here(
            "`into` is missing; expected the path of the archive, such as \"outbox/<day:%F>.zip\""
                .into(),
        );
        return None;
    };
    section.finish();
    let plain = seal.as_ref().and_then(|_| text.value.strip_suffix(SealConfig::ENDING));
    let Some(kind) = BundleKind::by_name(plain.unwrap_or(&text.value)) else {
        text.at.fault(format!(
            "`into` is \"{}\"; a bundle ends with .zip, .tar.gz or .tar.zst, and with .pgp behind it where it is encrypted",
            text.value
        ));
        return None;
    };
    let into = path_of("into", text, Path::new(context.folder), context.fields)?;
    Some(BundleConfig { into, kind, member, exists, seal })
}

/// Names of members: below the archive, and nowhere else.
fn member(text: &Found<'_, String>, fields: &[String]) -> Option<Template> {
    let climbs = text.value.split('/').any(|part| matches!(part, "" | "." | ".."));
    if climbs || text.value.contains('\\') {
        text.at.fault(format!(
            "`member` is \"{}\"; expected a path below the archive, such as \"<folder>/<name>\"",
            text.value
        ));
        return None;
    }
    template(text, fields)
}
