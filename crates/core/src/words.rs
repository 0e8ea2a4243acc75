//! Counts in words.

/// `1 row`, `12,345 rows`.
pub fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// `1 row`, `12,345 rows`.
pub fn rows(number: u64) -> String {
    counted(number, "row", "rows")
}

/// `1 file`, `12,345 files`, of a number of things in memory.
pub fn files(number: usize) -> String {
    counted(number as u64, "file", "files")
}

/// `12,345`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_is_one_and_thousands_are_parted() {
        assert_eq!([rows(0), rows(1), rows(2)], ["0 rows", "1 row", "2 rows"]);
        assert_eq!(files(1000), "1,000 files");
        assert_eq!([grouped(999), grouped(1_234_567)], ["999", "1,234,567"]);
    }
}
