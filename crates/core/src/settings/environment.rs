//! The environment's variables in a configuration.

/// Puts the environment's variables in place of `${NAME}`; `$${` is a `${`. What is wrong
/// is told to `fault`.
pub(crate) fn expand(text: &str, mut fault: impl FnMut(String)) -> String {
    let mut expanded = String::new();
    let mut rest = text;
    while let Some(found) = rest.find("${") {
        if rest[..found].ends_with('$') {
            expanded.push_str(&rest[..found - 1]);
            expanded.push_str("${");
            rest = &rest[found + 2..];
            continue;
        }
        expanded.push_str(&rest[..found]);
        let Some((name, after)) = rest[found + 2..].split_once('}') else {
            fault("a `${` without its `}`; write `$${` for the characters themselves".into());
            return text.to_owned();
        };
        match std::env::var(name) {
            Ok(value) => expanded.push_str(&value),
            Err(_) => fault(format!(
                "the environment has no variable `{name}` in UTF-8; set it, or write `$${{` for the characters themselves"
            )),
        }
        rest = after;
    }
    expanded.push_str(rest);
    expanded
}
