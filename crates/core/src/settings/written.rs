//! Texts and names as TOML has them, for configurations that are written.

/// A text as TOML has it.
pub fn quoted(text: &str) -> String {
    let escape = |c: char| match c {
        '"' => "\\\"".to_owned(),
        '\\' => "\\\\".to_owned(),
        c if c.is_control() => format!("\\u{:04X}", u32::from(c)),
        c => c.to_string(),
    };
    format!("\"{}\"", text.chars().map(escape).collect::<String>())
}

/// A name as a key: bare where it may be.
pub(crate) fn key(name: &str) -> String {
    let bare = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
    if !name.is_empty() && name.chars().all(bare) { name.to_owned() } else { quoted(name) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_quoted_is_read_as_it_was() {
        for text in ["", "tide", "a \"b\" \\", "new\nline\u{1b}\u{7f}", "e\u{301}\u{85}\u{200b} ¼"]
        {
            let read = format!("key = {}", quoted(text)).parse::<toml_edit::DocumentMut>();
            assert_eq!(read.unwrap()["key"].as_str(), Some(text));
            let read = format!("{} = 1", key(text)).parse::<toml_edit::DocumentMut>().unwrap();
            assert!(read.contains_key(text));
        }
        assert_eq!((key("level_m"), key("level m")), ("level_m".into(), "\"level m\"".into()));
    }
}
