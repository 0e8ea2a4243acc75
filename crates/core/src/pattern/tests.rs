mod plain;
mod written;

use super::*;
use proptest::prelude::*;

/// One line a case: pattern, path, and the captured fields as `name=value`
/// separated by spaces, or `-` for no match.
const CASES: &[(&str, &str, &str)] = &[
    ("*.csv", "tide.csv", ""),
    ("*.csv", "deep/er/tide.CSV", ""),
    ("*.csv", "tide.csv.part", "-"),
    ("tide?.csv", "tide1.csv", ""),
    ("tide?.csv", "tide.csv", "-"),
    ("[a-c]*", "Buoy", ""),
    ("[!a-c]*", "buoy", "-"),
    ("[]x]*", "]", ""),
    ("[a-]", "-", ""),
    ("*.{csv,txt}", "a.txt", ""),
    ("{a,b{c,d}}x", "bdx", ""),
    ("{a,}x", "x", ""),
    ("{<n:int>,x}_y", "12_y", "n=12"),
    ("a,b", "a,b", ""),
    ("\\<x\\>", "<x>", ""),
    ("\\*", "a", "-"),
    ("a/*.csv", "a/b.csv", ""),
    ("a/*.csv", "a/b/c.csv", "-"),
    ("**/c.csv", "c.csv", ""),
    ("**/c.csv", "a/b/c.csv", ""),
    ("a/**", "a/b/c.csv", ""),
    ("a/**/z", "a/z", ""),
    ("a/**/z", "a/b/c/z", ""),
    ("<s>_<n:int>.csv", "Garrow_Light_007.csv", "n=007 s=Garrow_Light"),
    ("<n:int>*", "12x", "n=12"),
    ("<s>.csv", ".csv", "-"),
    ("<s>/<s>_*.csv", "ullin/Ullin_1.csv", "s=ullin"),
    ("<s>/<s>_*.csv", "ullin/tarn_1.csv", "-"),
    ("<d:%Y%m%d>*", "20260229x", "-"),
    ("<d:%Y%m%d>*", "20240229x", "d=2024-02-29"),
    ("<d:%d%b%y>", "07mar26", "d=2026-03-07"),
    ("<d:%d-%B-%Y>", "07-March-1999", "d=1999-03-07"),
    ("<d:%Y-%j>", "2026-366", "-"),
    ("<d:%Y-%j>", "2026-365", "d=2026-12-31"),
    ("<t:%Y%m%dT%H%M>Z", "20260131T0605z", "t=2026-01-31T06:05:00"),
    ("<t:%I%M%p>", "1205am", "t=00:05:00"),
    ("<m:%b>.xlsx", "Nov.xlsx", "m=--11"),
    ("<m:%Y-%m>", "2026-13", "-"),
    ("<s>_<d:%F>", "a_b_2026-01-02", "d=2026-01-02 s=a_b"),
    ("Ä*", "äx", ""),
];

#[test]
fn a_name_that_goes_on_behind_a_letter_of_several_bytes_is_a_near_miss() {
    let pattern = Pattern::parse("tide-\u{e9}", false).unwrap();
    let miss = pattern.near_miss("tide-\u{e9}x").unwrap();
    assert_eq!((miss.fitted.as_str(), miss.needed.contains("to end there")), ("tide-\u{e9}", true));
}

#[test]
fn each_case_matches_as_its_line_says() {
    for (pattern, path, expected) in CASES {
        let compiled = Pattern::parse(pattern, false).expect(pattern);
        let found = compiled.matches(path).map_or("-".to_owned(), |fields| {
            fields.iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(" ")
        });
        assert_eq!(found, *expected, "{pattern} on {path}");
    }
}

#[test]
fn letter_case_counts_when_asked() {
    let exact = Pattern::parse("Tide*.csv", true).unwrap();
    assert!(exact.is_match("Tide1.csv"));
    assert!(!exact.is_match("tide1.csv"));
}

#[test]
fn faults_say_where_and_what_to_write() {
    let fault = |text| Pattern::parse(text, false).expect_err(text).to_string();
    assert_eq!(
        fault("a[b"),
        "in pattern `a[b`, character 2: a `[` without its `]`; write `\\[` for the character itself"
    );
    assert!(fault("{a,b").contains("a `{` without its `}`"));
    assert!(fault("a}").contains("a stray `}`"));
    assert!(fault("<day:%Q>").contains("the date letter `%Q` is not known"));
    assert!(fault("<day:text>").contains("write `<day>`, `<day:int>` or a date"));
    assert!(fault("<Day>").contains("`Day` is no name for a field"));
    assert!(fault("[z-a]").contains("write `a-z`"));
    assert!(fault("").contains("it is empty"));
    assert!(fault("/a").contains("below the drop folder"));
}

#[test]
fn a_near_miss_tells_how_far_it_fitted() {
    let pattern = Pattern::parse("<station>_<day:%Y%m%d>*.csv", false).unwrap();
    let miss = pattern.near_miss("Fennick_2026.csv").unwrap();
    assert_eq!(
        (miss.fitted.as_str(), miss.needed.as_str()),
        ("<station>_", "a real date as `%Y%m%d`")
    );
    let miss = pattern.near_miss("Fennick_20260101.txt").unwrap();
    assert_eq!(miss.needed, "`.csv`");
    assert!(pattern.near_miss("Fennick_20260101.csv").is_none());
}

fn builtins(path: &str) -> Builtins<'_> {
    let at = jiff::civil::date(2026, 11, 24).at(7, 5, 9, 0);
    Builtins {
        path,
        gate: "tide",
        entry: Some(12),
        batch: None,
        sha256: None,
        seen: at,
        modified: at,
        now: at,
    }
}

#[test]
fn templates_write_fields_and_built_ins() {
    let fields =
        Fields::from([("station".into(), "Tarn Ness".into()), ("day".into(), "2026-01-31".into())]);
    let write = |text: &str| Template::parse(text).unwrap().path(&fields, &builtins("in/a.b.csv"));
    assert_eq!(
        write("archive/<station>/<day:%Y>/<name>").unwrap(),
        "archive/Tarn Ness/2026/a.b.csv"
    );
    assert_eq!(write("<stem>|<ext>|<folder>|<gate>|<entry>").unwrap(), "a.b|csv|in|tide|12");
    assert_eq!(write("<now:%Y-%m-%d>_<seen>").unwrap(), "2026-11-24_20261124T070509");
    assert_eq!(write("<day:%d %b>").unwrap(), "31 Jan");
    assert!(
        write("<batch>").unwrap_err().to_string().contains("`<batch>`, which was not captured")
    );
    assert!(write("<station:%Y>").unwrap_err().to_string().contains("its value is `Tarn Ness`"));
    assert!(Template::parse("<day:%Q>").unwrap_err().to_string().contains("%Q"));
}

#[test]
fn the_example_of_a_pattern_is_one_that_it_matches() {
    for (text, _, _) in CASES {
        let pattern = Pattern::parse(text, false).unwrap();
        assert!(pattern.is_match(&pattern.example()), "{text}: {}", pattern.example());
    }
}

#[test]
fn numbers_in_names_count_as_numbers() {
    let mut names = ["b10", "b9", "b09", "a", "b9x", "b"];
    names.sort_by(|a, b| natural_order(a, b));
    assert_eq!(names, ["a", "b", "b09", "b9", "b9x", "b10"]);
}

/// The cells of the rows of the page's tables with this heading.
fn rows_of_the_page(heading: &str) -> Vec<Vec<String>> {
    const PAGE: &str = include_str!("../../../../docs/patterns.md");
    let mut rows = Vec::new();
    let mut wanted = false;
    for line in PAGE.lines() {
        if !line.starts_with('|') {
            wanted = false;
        } else if line == heading {
            wanted = true;
        } else if wanted && !line.starts_with("|---") {
            let cells = line.trim_matches('|').split(" | ");
            rows.push(cells.map(|cell| cell.trim().trim_matches('`').to_owned()).collect());
        }
    }
    rows
}

#[test]
fn every_line_of_the_page_is_true() {
    let patterns = rows_of_the_page("| pattern | path | captures |");
    assert!(patterns.len() > 30, "{} lines", patterns.len());
    for row in patterns {
        let [pattern, path, captures] = &row[..] else { panic!("{row:?}") };
        let found = Pattern::parse(pattern, false).expect(pattern).matches(path);
        let found = found.map_or("no match".to_owned(), |fields| {
            fields.iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(" ")
        });
        assert_eq!(found, captures.trim(), "{pattern} on {path}");
    }
    let templates = rows_of_the_page("| template | written |");
    assert_eq!(templates.len(), 3);
    let path = "north/ullin_20260301.csv";
    let fields =
        Pattern::parse("<station>_<day:%Y%m%d>.csv", false).unwrap().matches(path).unwrap();
    for row in templates {
        let written = Template::parse(&row[0]).unwrap().path(&fields, &builtins(path)).unwrap();
        assert_eq!(written, row[1]);
    }
}

proptest! {
    #[test]
    fn any_text_parses_or_is_refused_but_never_panics(text in "\\PC{0,24}", path in "\\PC{0,24}") {
        if let Ok(pattern) = Pattern::parse(&text, false) {
            prop_assert_eq!(pattern.is_match(&path), pattern.near_miss(&path).is_none());
        }
        let _ = Template::parse(&text);
    }

    #[test]
    fn an_escaped_name_matches_itself(name in "[^/\0]{1,20}") {
        let escaped: String = name.chars().flat_map(|c| ['\\', c]).collect();
        prop_assert!(Pattern::parse(&escaped, true).unwrap().is_match(&name));
    }

    #[test]
    fn a_date_reads_back_as_it_was_written(days in 0i32..40_000) {
        let date = jiff::civil::date(1970, 1, 1).checked_add(jiff::Span::new().days(days)).unwrap();
        for format in ["%Y%m%d", "%d%b%Y", "%j.%Y", "%A_%d_%B_%Y"] {
            let pattern = Pattern::parse(&format!("x<d:{format}>y"), false).unwrap();
            let name = format!("x{}y", date.strftime(format));
            let found = pattern.matches(&name).map(|fields| fields["d"].clone());
            prop_assert_eq!(found, Some(date.to_string()));
        }
    }

    #[test]
    fn no_value_climbs_out_of_its_folder(value in "[./a\0]{0,12}", folder in "[./a]{0,12}") {
        let fields = Fields::from([("v".into(), value)]);
        let path = format!("{folder}/n");
        let written = Template::parse("root/<folder>/<v>").unwrap().path(&fields, &builtins(&path)).unwrap();
        prop_assert!(written.starts_with("root/"));
        prop_assert!(!written.split('/').any(|part| part == ".." || part == "."));
    }

    #[test]
    fn natural_order_is_an_order(mut names in prop::collection::vec("[a0-9]{0,6}", 3)) {
        names.sort_by(|a, b| natural_order(a, b));
        prop_assert!(natural_order(&names[0], &names[2]) != std::cmp::Ordering::Greater);
        prop_assert_eq!(natural_order(&names[0], &names[1]), natural_order(&names[1], &names[0]).reverse());
    }
}

/// Two patterns, and the name that they share, or `-`.
const MEETINGS: &[(&str, &str, &str)] = &[
    ("tide_*", "*.csv", "tide_.csv"),
    ("a*", "*b", "ab"),
    ("*.csv", "*.txt", "-"),
    ("[a-c]x", "[c-e]?", "cx"),
    ("[!a]", "a", "-"),
    ("[!ax1B_-]", "?", "`"),
    ("{tide,buoy}_<n:int>", "buoy_0*", "buoy_0"),
    ("<n:int>", "*0", "0"),
    ("<n:int>", "*x", "-"),
    ("<d:%Y%m%d>.csv", "*_*.csv", "-"),
    ("<d:%Y%m%d>.csv", "202703*31.csv", "20270331.csv"),
    ("<d:%Y-%b>", "*-mar", "2026-mar"),
    ("<d:%Y%m%d>", "<n:int>", "20260301"),
    ("<d:%Y%m>*", "<n:int>x", "202603x"),
    ("<s>_<s>", "*_x", "x_x"),
    ("TIDE*", "*tide", "tide"),
    ("a/*.csv", "b.csv", "a/b.csv"),
    ("**/c", "a/b/*", "a/b/c"),
    ("a/*", "b/*", "-"),
    ("ä*", "*Ö", "äö"),
];

#[test]
fn patterns_that_may_take_one_file_are_told() {
    for (first, second, expected) in MEETINGS {
        let deep = first.contains('/') || second.contains('/');
        let reach = Reach { folder: "", deep };
        let (first, second) = (Pattern::parse(first, false), Pattern::parse(second, false));
        let (first, second) = (first.unwrap(), second.unwrap());
        for (one, other) in [(&first, &second), (&second, &first)] {
            let both = |path: &str| one.is_match(path) && other.is_match(path);
            let found = one.meets(reach, (other, reach), both);
            let found = found.as_deref().unwrap_or("-");
            assert_eq!(found, *expected, "{} and {}", one.source(), other.source());
        }
    }
}

#[test]
fn a_pattern_is_held_against_one_of_another_folder() {
    let (outer, inner) = (Pattern::parse("in/*.csv", false), Pattern::parse("a*", false));
    let (outer, inner) = (outer.unwrap(), inner.unwrap());
    let seen = |path: &str| outer.is_match(path);
    let at = |folder| Reach { folder, deep: false };
    assert_eq!(outer.meets(at(""), (&inner, at("in")), seen).as_deref(), Some("in/a.csv"));
    assert_eq!(outer.meets(at(""), (&inner, at("out")), seen), None);
}

#[test]
fn letter_case_of_patterns_that_meet_is_kept_where_it_counts() {
    let (exact, any) = (Pattern::parse("Tide*", true), Pattern::parse("*E.CSV", false));
    let (exact, any) = (exact.unwrap(), any.unwrap());
    let both = |path: &str| exact.is_match(path) && any.is_match(path);
    let found = exact.meets(Reach::default(), (&any, Reach::default()), both);
    assert_eq!(found.as_deref(), Some("Tide.csv"));
}
