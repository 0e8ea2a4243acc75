//! Reading a checksum companion in the form that `sha256sum` writes: a line for
//! each file, with the sum in hexadecimal, two spaces (or a space and a star)
//! and the name. A line that begins with a backslash has `\n`, `\r` and `\\` in its
//! name for a newline, a carriage return and a backslash. A file that holds a sum alone is
//! understood too.

/// Why a companion gives no sum of a file.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NoSum {
    #[error("it cannot be read: {0}")]
    Unread(std::io::Error),
    #[error("it is empty")]
    Empty,
    #[error("it has a line that is no SHA-256: `{0}`")]
    OtherLine(String),
    #[error("it has sums of other files only, none of `{0}`")]
    Others(String),
}

/// The sum that `text` gives for the file `name`, in lower case.
///
/// # Errors
/// [`NoSum`].
pub(crate) fn sum_for(text: &str, name: &str) -> Result<String, NoSum> {
    let mut others = 0;
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let (escaped, line) = match line.strip_prefix('\\') {
            Some(rest) => (true, rest),
            None => (false, line),
        };
        let (sum, rest) = line.split_once([' ', '\t']).unwrap_or((line.trim_end(), ""));
        if sum.len() != 64 || !sum.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            let begin: String = sum.chars().take(20).collect();
            return Err(NoSum::OtherLine(begin));
        }
        let named = rest.strip_prefix([' ', '*']).unwrap_or(rest);
        let named = if escaped { unescape(named) } else { named.to_owned() };
        let last = named.rsplit('/').next().unwrap_or(&named);
        if named.is_empty() || last == name {
            return Ok(sum.to_lowercase());
        }
        others += 1;
    }
    Err(match others {
        0 => NoSum::Empty,
        _ => NoSum::Others(name.to_owned()),
    })
}

fn unescape(text: &str) -> String {
    let mut read = String::with_capacity(text.len());
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match (letter, letters.clone().next()) {
            ('\\', Some(known @ ('n' | 'r' | '\\'))) => {
                letters.next();
                read.push(match known {
                    'n' => '\n',
                    'r' => '\r',
                    backslash => backslash,
                });
            }
            _ => read.push(letter),
        }
    }
    read
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A line as `sha256sum` writes it.
    fn line(sum: &str, name: &str, star: bool) -> String {
        let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
        let mark = if escaped == name { "" } else { "\\" };
        format!("{mark}{sum} {}{escaped}\n", if star { '*' } else { ' ' })
    }

    proptest! {
        #[test]
        fn the_sum_of_each_file_is_found_whatever_it_is_called(
            names in prop::collection::btree_set("[a-zö \\\\\n\r*.-]{1,6}", 1..6),
            star in any::<bool>(),
        ) {
            let sum = |number: usize| format!("{number:064x}");
            let text: String =
                names.iter().enumerate().map(|(number, name)| line(&sum(number), name, star)).collect();
            for (number, name) in names.iter().enumerate() {
                // A name that is nothing but blanks is none that a line can tell.
                if !name.trim().is_empty() && !name.starts_with([' ', '*']) {
                    prop_assert_eq!(sum_for(&text, name).unwrap(), sum(number), "{:?} in {:?}", name, text);
                }
            }
        }

        #[test]
        fn any_text_gives_a_sum_or_says_why_not(text in "(\\\\?[0-9a-f]{60,66}[ \t*]{0,3}[a-z\\\\/]{0,5}\n?|\\PC{0,9}){0,4}") {
            if let Ok(sum) = sum_for(&text, "a") {
                prop_assert_eq!(sum.len(), 64);
                prop_assert!(text.to_lowercase().contains(&sum), "{} is not in {:?}", sum, text);
            }
        }
    }

    const A: &str = "8a2fe3d6785f74ad4da199a132a42e9272fb047f7006382717ebb9918d6e5bca";

    #[test]
    fn sums_are_found_by_name_in_every_form_of_a_line() {
        let b = "b".repeat(64);
        let lines =
            format!("{b}  other.csv\n{}  sub/a.csv\n\\{b}  new\\nline\\\\.csv\n", A.to_uppercase());
        assert_eq!(sum_for(&lines, "a.csv").unwrap(), A);
        assert_eq!(sum_for(&lines, "new\nline\\.csv").unwrap(), b);
        assert_eq!(sum_for(&format!("{A} *a.csv"), "a.csv").unwrap(), A);
        assert_eq!(sum_for(&format!("{A}\n"), "a.csv").unwrap(), A);
    }

    #[test]
    fn what_is_wrong_is_told() {
        assert!(matches!(sum_for(" \n", "a"), Err(NoSum::Empty)));
        assert!(
            matches!(sum_for("d41d8cd9  a", "a"), Err(NoSum::OtherLine(sum)) if sum == "d41d8cd9")
        );
        let other = sum_for(&format!("{A}  b"), "a").unwrap_err();
        assert_eq!(other.to_string(), "it has sums of other files only, none of `a`");
    }
}
