//! Decimals as PostgreSQL sends and takes them (`numeric_recv` of its sources).

/// A decimal of any length: its digits in fours, from the point to both sides, without the
/// zeros before and behind them. None where it is no decimal, or is too long for the server.
pub(super) fn numeric(out: &mut Vec<u8>, text: &str) -> Option<()> {
    const NEGATIVE: u16 = 0x4000;
    let (negative, digits) = match text.as_bytes() {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        all => (false, all),
    };
    let point = digits.iter().position(|byte| *byte == b'.');
    let (whole, fraction) = match point {
        Some(at) => (&digits[..at], &digits[at + 1..]),
        None => (digits, &digits[..0]),
    };
    let are_digits = |part: &[u8]| part.iter().all(u8::is_ascii_digit);
    if whole.len() + fraction.len() == 0 || !are_digits(whole) || !are_digits(fraction) {
        return None;
    }
    let begin = out.len();
    out.extend_from_slice(&[0; 8]);
    let four =
        |digits: &[u8]| digits.iter().fold(0, |sum, digit| sum * 10 + i16::from(digit - b'0'));
    // The first group has what is left over; the last one zeros behind it.
    let first = whole.len() % 4;
    let lead = (first > 0).then(|| four(&whole[..first]));
    let last = fraction.chunks_exact(4).remainder();
    let padded = (!last.is_empty()).then(|| four(last) * 10_i16.pow(4 - last.len() as u32));
    let groups = lead
        .into_iter()
        .chain(whole[first..].chunks_exact(4).map(four))
        .chain(fraction.chunks_exact(4).map(four))
        .chain(padded);
    let mut weight = i64::try_from(whole.len().div_ceil(4)).ok()? - 1;
    let (mut count, mut zeros) = (0_i64, 0_usize);
    for group in groups {
        match (group, count) {
            (0, 0) => weight -= 1,
            (0, _) => zeros += 1,
            _ => {
                // Zeros count only between others.
                out.extend(std::iter::repeat_n(0, zeros * 2));
                out.extend_from_slice(&group.to_be_bytes());
                count += 1 + zeros as i64;
                zeros = 0;
            }
        }
    }
    let zero = count == 0;
    let sign = if negative && !zero { NEGATIVE } else { 0 };
    let weight = if zero { 0 } else { i16::try_from(weight).ok()? };
    // So many digits behind the point, as the server bounds it.
    let scale = u16::try_from(fraction.len()).ok().filter(|scale| *scale <= 16_383)?;
    let count = i16::try_from(count).ok()?;
    for (at, part) in
        [count.to_be_bytes(), weight.to_be_bytes(), sign.to_be_bytes(), scale.to_be_bytes()]
            .iter()
            .enumerate()
    {
        out[begin + at * 2..begin + at * 2 + 2].copy_from_slice(part);
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn encoded(text: &str) -> Option<Vec<i16>> {
        let mut out = Vec::new();
        numeric(&mut out, text)?;
        Some(out.chunks(2).map(|pair| i16::from_be_bytes([pair[0], pair[1]])).collect())
    }

    /// As the server writes it out again.
    fn decoded(parts: &[i16]) -> String {
        let [count, weight, sign, scale, groups @ ..] = parts else { panic!("{parts:?}") };
        assert_eq!(usize::try_from(*count).unwrap(), groups.len());
        let group = |at: i16| usize::try_from(at).ok().and_then(|at| groups.get(at)).unwrap_or(&0);
        let mut whole = String::new();
        for at in 0..=*weight {
            whole.push_str(&format!("{:04}", group(at)));
        }
        let (mut fraction, mut at) = (String::new(), weight + 1);
        while fraction.len() < usize::try_from(*scale).unwrap() {
            fraction.push_str(&format!("{:04}", group(at)));
            at += 1;
        }
        fraction.truncate(usize::try_from(*scale).unwrap());
        let whole = whole.trim_start_matches('0');
        let whole = if whole.is_empty() { "0" } else { whole };
        let sign = if *sign == 0 { "" } else { "-" };
        let point = if fraction.is_empty() { "" } else { "." };
        format!("{sign}{whole}{point}{fraction}")
    }

    #[test]
    fn decimals_are_written_as_the_server_has_them() {
        // Count of groups, weight of the first, sign, digits behind the point, groups.
        for (text, wanted) in [
            ("0", vec![0, 0, 0, 0]),
            ("-0.00", vec![0, 0, 0, 2]),
            ("1", vec![1, 0, 0, 0, 1]),
            ("12345.67", vec![3, 1, 0, 2, 1, 2345, 6700]),
            ("-10000", vec![1, 1, 0x4000, 0, 1]),
            (".0001", vec![1, -1, 0, 4, 1]),
            ("0.00000100", vec![1, -2, 0, 8, 100]),
            ("+100000000.5", vec![4, 2, 0, 1, 1, 0, 0, 5000]),
        ] {
            assert_eq!(encoded(text), Some(wanted), "{text}");
        }
        for text in ["", "-", ".", "1e5", "1.2.3", "NaN", "١"] {
            assert_eq!(encoded(text), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn every_decimal_can_be_read_again(
            negative in any::<bool>(), whole in "[0-9]{1,30}", fraction in "[0-9]{0,30}",
        ) {
            let point = if fraction.is_empty() { "" } else { "." };
            let sign = if negative { "-" } else { "" };
            let read = decoded(&encoded(&format!("{sign}{whole}{point}{fraction}")).unwrap());
            let shown = whole.trim_start_matches('0');
            let shown = if shown.is_empty() { "0" } else { shown };
            let zero = shown == "0" && fraction.bytes().all(|digit| digit == b'0');
            let sign = if negative && !zero { "-" } else { "" };
            prop_assert_eq!(read, format!("{sign}{shown}{point}{fraction}"));
        }
    }
}
