use super::*;
use proptest::prelude::*;

fn merged(
    plan: MergePlan,
    sources: &[(&str, Vec<Added>)],
) -> Result<(String, Account), MergeError> {
    let mut plan = plan;
    for (text, added) in sources {
        plan.note(text.as_bytes(), added)?;
    }
    let mut merger = Merger::new(Vec::new(), plan, true)?;
    for (text, added) in sources {
        merger.copy(text.as_bytes(), added)?;
    }
    let (account, bytes) = merger.finish()?;
    Ok((String::from_utf8(bytes).expect("text"), account))
}

fn added(column: &str, value: &str) -> Added {
    Added { column: column.into(), value: value.into() }
}

#[test]
fn columns_unite_by_name_and_absent_ones_are_empty() {
    let (text, account) = merged(
        MergePlan::union(b','),
        &[
            ("time,level_m\n01,1.5\n", vec![added("station", "Ullin Bay")]),
            ("level_m,wind,time\r\n1.6,\"4, gusts\",02\r\n", vec![added("station", "Tarn, Ness")]),
        ],
    )
    .expect("a merge");
    assert_eq!(
        text,
        "time,level_m,station,wind\n01,1.5,Ullin Bay,\n02,1.6,\"Tarn, Ness\",\"4, gusts\"\n"
    );
    assert_eq!(account.rows, 2);
}

#[test]
fn chosen_columns_come_in_the_order_asked_and_others_are_left_out() {
    let plan = MergePlan::choosing(b';', vec!["b".into(), "a".into()]);
    let (text, _) = merged(plan, &[("a;c;b\n1;2;3\n", vec![])]).expect("a merge");
    assert_eq!(text, "b;a\n3;1\n");
}

#[test]
fn a_source_that_cannot_take_part_says_why() {
    let refused = |plan, text, adds: Vec<Added>| {
        merged(plan, &[(text, adds)]).expect_err("refused").to_string()
    };
    assert_eq!(
        refused(MergePlan::union(b','), "a,b\n1,2\n1\n", vec![]),
        "line 3: 1 fields where the header has 2"
    );
    assert!(
        refused(MergePlan::union(b','), "a,b\n", vec![added("b", "x")])
            .contains("already has column `b`")
    );
    assert_eq!(
        refused(MergePlan::choosing(b',', vec!["x".into()]), "a,b\n", vec![]),
        "line 1: none of the columns `x` is there; the header has `a`, `b`"
    );
    let mut fixed = MergePlan::union(b',');
    fixed.fix(vec!["a".into()]);
    assert!(
        refused(fixed, "a,b\n", vec![])
            .starts_with("line 1: column `b` is not in the output, which has `a`")
    );
}

proptest! {
    #[test]
    fn merging_any_split_of_a_table_gives_the_table_back(
        rows in prop::collection::vec(("[a-z,\"\n]{0,5}", "[0-9]{1,4}"), 1..30),
        cuts in prop::collection::vec(0usize..30, 0..4),
    ) {
        let line = |row: &(String, String)| {
            let mut text = Vec::new();
            write_field(&mut text, &row.0, b',').expect("memory");
            format!("{},{}\n", String::from_utf8(text).expect("text"), row.1)
        };
        let whole: String = rows.iter().map(line).collect();
        let mut bounds: Vec<usize> = cuts.iter().map(|cut| cut % (rows.len() + 1)).collect();
        bounds.extend([0, rows.len()]);
        bounds.sort_unstable();
        let parts: Vec<String> = bounds
            .windows(2)
            .map(|pair| format!("name,count\n{}", rows[pair[0]..pair[1]].iter().map(line).collect::<String>()))
            .collect();
        let sources: Vec<(&str, Vec<Added>)> = parts.iter().map(|part| (part.as_str(), vec![])).collect();
        let (text, account) = merged(MergePlan::union(b','), &sources).expect("a merge");
        prop_assert_eq!(text, format!("name,count\n{whole}"));
        prop_assert_eq!(account.rows, rows.len() as u64);
    }
}
