//! The keys of the configuration, with what they mean: read from the reference, which is the
//! one place where they are explained.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

const REFERENCE: &str = include_str!("../../../docs/configuration.md");

/// A key of the configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigKey {
    /// The part of the reference in which it is explained, such as `[gate.NAME]`.
    pub section: String,
    /// Its name.
    pub key: String,
    /// What it means.
    pub meaning: String,
    /// What holds without it; none where the reference does not say.
    pub default: Option<String>,
}

/// All keys that the reference explains, in its order.
pub(crate) fn keys() -> Vec<ConfigKey> {
    let mut section = String::new();
    let mut in_keys = false;
    let mut keys = Vec::new();
    for line in REFERENCE.lines() {
        if let Some(title) = line.strip_prefix("## ").or_else(|| line.strip_prefix("### ")) {
            section = plain(title);
        }
        let Some(cells) = line.strip_prefix("| ").and_then(|line| line.strip_suffix(" |")) else {
            in_keys &= line.starts_with('|');
            continue;
        };
        let cells: Vec<&str> = cells.split(" | ").map(str::trim).collect();
        if cells[0].starts_with("key") {
            in_keys = true;
            continue;
        }
        if !in_keys {
            continue;
        }
        for key in cells[0].split('`').skip(1).step_by(2).filter(|key| is_key(key)) {
            keys.push(ConfigKey {
                section: section.clone(),
                key: key.to_owned(),
                meaning: cells.get(1).map(|text| plain(text)).unwrap_or_default(),
                default: cells.get(2).map(|text| plain(text)),
            });
        }
    }
    keys
}

fn is_key(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| c.is_ascii_lowercase() || c == '_')
}

/// A text without the marks of the reference: links are their words, code is as it is written.
fn plain(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('[') {
        let (before, after) = rest.split_at(at);
        plain.push_str(before);
        let link = after.find("](").and_then(|end| {
            let close = after[end..].find(')')?;
            Some((&after[1..end], end + close + 1))
        });
        match link.filter(|(words, _)| !words.contains('[') && !words.contains('`')) {
            Some((words, end)) => {
                plain.push_str(words);
                rest = &after[end..];
            }
            None => {
                plain.push('[');
                rest = &after[1..];
            }
        }
    }
    plain.push_str(rest);
    let plain = plain.replace('`', "").replace("\\|", "|");
    // Nothing stands below where it is shown.
    ["; see below", ", see below"].iter().fold(plain, |text, words| text.replace(words, ""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_reference_explains_the_keys() {
        let all = keys();
        let find = |section: &str, key: &str| {
            let found = all.iter().find(|one| one.section == section && one.key == key);
            found.unwrap_or_else(|| panic!("{section} {key} is not explained")).clone()
        };
        let settle = find("[gate.NAME]", "settle");
        assert_eq!(settle.meaning, "when a file counts as complete");
        assert_eq!(settle.default.as_deref(), Some("\"5s\""));
        assert_eq!(find("[service]", "state").default.as_deref(), Some("\"state\""));
        find("[gate.NAME.merge]", "into");
        find("[gate.NAME.run]", "program");
        find("[gate.NAME]", "unpack");
        assert!(all.len() > 90, "{}", all.len());
        assert!(all.iter().all(|one| !one.meaning.is_empty() && !one.meaning.contains('`')));
    }
}
