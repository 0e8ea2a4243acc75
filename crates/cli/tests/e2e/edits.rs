//! Cells of workbooks and words of texts that are set, in place and elsewhere.

use std::fs;
use std::io::{Cursor, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use serde_json::Value;
use vadegate_core::fault::COMPILED;
use zip::write::SimpleFileOptions;

use crate::passes::{pass, rest};
use crate::support::{TestHome, text};

/// A gate that edits.
fn editing(more: &str, section: &str) -> TestHome {
    settling("{ quiet = \"20ms\", give_up = \"1h\" }", more, section)
}

fn settling(settle: &str, more: &str, section: &str) -> TestHome {
    let coast = TestHome::new(&format!(
        "[gate.covers]\ndrop = \"drops\"\nsettle = {settle}\nsweep = \"300ms\"\norder = \"name\"\n{more}\n\
         [gate.covers.edit]\n{section}\n"
    ));
    coast.folder("drops");
    coast
}

const WORDS: &str = "replace = [{ find = \"bay\", with = \"Bay\" }]";

/// A small workbook: a sheet whose first row has a text and a formula, and a part that is
/// nobody's.
fn workbook() -> Vec<u8> {
    let relations = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    let main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
    let parts = [
        ("[Content_Types].xml", "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"rels\" ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"xml\" ContentType=\"application/xml\"/><Override PartName=\"/xl/workbook.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml\"/><Override PartName=\"/xl/worksheets/sheet1.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml\"/><Override PartName=\"/xl/styles.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.styles+xml\"/></Types>".to_owned()),
        ("_rels/.rels", format!("<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship Id=\"rId1\" Type=\"{relations}/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>")),
        ("xl/workbook.xml", format!("<workbook xmlns=\"{main}\" xmlns:r=\"{relations}\"><sheets><sheet name=\"Cover\" sheetId=\"1\" r:id=\"rId1\"/></sheets></workbook>")),
        ("xl/_rels/workbook.xml.rels", format!("<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"><Relationship Id=\"rId1\" Type=\"{relations}/worksheet\" Target=\"worksheets/sheet1.xml\"/><Relationship Id=\"rId2\" Type=\"{relations}/styles\" Target=\"styles.xml\"/></Relationships>")),
        ("xl/styles.xml", format!("<styleSheet xmlns=\"{main}\"><fonts count=\"1\"><font/></fonts><fills count=\"1\"><fill/></fills><borders count=\"1\"><border/></borders><cellXfs count=\"1\"><xf numFmtId=\"0\"/></cellXfs></styleSheet>")),
        ("xl/worksheets/sheet1.xml", format!("<worksheet xmlns=\"{main}\"><sheetData><row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>Ullin Bay</t></is></c><c r=\"B1\"><f>1+1</f></c></row></sheetData></worksheet>")),
        ("xl/vbaProject.bin", "as it is \u{1}".to_owned()),
    ];
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in parts {
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(content.as_bytes()).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

fn part(path: &Path, name: &str) -> String {
    let mut archive = zip::ZipArchive::new(fs::File::open(path).unwrap()).unwrap();
    let mut part = String::new();
    archive.by_name(name).unwrap().read_to_string(&mut part).unwrap();
    part
}

fn output(coast: &TestHome, file: &str) -> Value {
    coast.json(&format!("entry {}", coast.entry(file)["id"]))["worked_in"]["outputs"][0].clone()
}

#[test]
fn cells_are_set_and_what_was_done_is_told() {
    let coast = editing(
        "take = [\"<harbour>_cover.xlsm\"]\narchive = { into = \"archive\" }",
        "into = \"out/<name>\"\nset = [\n\
         { sheet = \"Cover\", cell = \"B2\", value = \"2026-11-<entry>\", type = \"text\" },\n\
         { sheet = 1, cell = \"B3\", value = 2026-11-27 },\n\
         { sheet = \"*\", cell = \"Z1\", value = \"<harbour> & co\" }]",
    );
    coast.drop("drops/ullin_cover.xlsm", workbook());
    rest(&coast);
    let rehearsed = coast.json("rehearse covers");
    assert!(rehearsed.to_string().contains("/out/ullin_cover.xlsm"), "{rehearsed:#}");
    assert!(!fs::exists(coast.path("out")).unwrap());
    assert_eq!(pass(&coast, "covers")["worked"], 1);
    let made = coast.path("out/ullin_cover.xlsm");
    let sheet = part(&made, "xl/worksheets/sheet1.xml");
    assert!(sheet.contains("<t>2026-11-1</t>"), "{sheet}");
    assert!(sheet.contains("<c r=\"B3\" s=\"1\"><v>46353</v></c>"), "{sheet}");
    assert!(sheet.contains("<t>ullin &amp; co</t>"), "{sheet}");
    assert!(part(&made, "xl/workbook.xml").contains("<calcPr fullCalcOnLoad=\"1\"/>"));
    assert_eq!(part(&made, "xl/vbaProject.bin"), "as it is \u{1}");
    assert_eq!(fs::read(coast.path("archive/ullin_cover.xlsm")).unwrap(), workbook());
    let output = output(&coast, "ullin_cover.xlsm");
    assert_eq!((&output["role"], &output["note"]), (&"edited".into(), &"3 cells set".into()));
    let cells = output["figures"]["cells"].as_array().unwrap();
    let cells: Vec<_> = cells.iter().map(|one| (text(one, "cell"), text(one, "value"))).collect();
    assert_eq!(cells, [("Z1", "ullin & co"), ("B2", "2026-11-1"), ("B3", "2026-11-27")]);
    assert_eq!(coast.run("verify --deep").code, 0);
}

#[test]
fn what_is_edited_in_place_is_known_and_no_new_arrival() {
    for (archive, original) in [
        ("{ into = \"archive\" }", "archive/a.txt"),
        ("{ into = \"archive\", compress = \"gzip\" }", "archive/a.txt.gz"),
        ("\"leave\"", ""),
        ("\"delete\"", ""),
    ] {
        let coast = editing(&format!("archive = {archive}"), WORDS);
        let dropped = coast.drop("drops/a.txt", "ullin bay\n");
        fs::set_permissions(&dropped, PermissionsExt::from_mode(0o640)).unwrap();
        assert_eq!(pass(&coast, "covers")["worked"], 1, "{archive}");
        assert_eq!(coast.read("drops/a.txt"), "ullin Bay\n");
        assert_eq!(fs::metadata(&dropped).unwrap().permissions().mode() & 0o777, 0o640);
        assert_eq!(coast.files("drops"), ["drops/a.txt"], "{archive}: nothing hidden is left");
        assert!(original.is_empty() || fs::exists(coast.path(original)).unwrap(), "{archive}");
        // Another process knows it too.
        for _ in 0..2 {
            let report = pass(&coast, "covers");
            assert_eq!((&report["entered"], &report["worked"]), (&0.into(), &0.into()));
        }
        let why = coast.run("why drops/a.txt").out;
        assert!(why.contains("an output of this gate"), "{archive}: {why}");
        assert_eq!(coast.run("verify --deep").code, 0, "{archive}");
        // What a person changes is another file.
        fs::write(&dropped, "ullin bay, and Bay\n").unwrap();
        rest(&coast);
        assert_eq!(pass(&coast, "covers")["worked"], 1, "{archive}");
        assert_eq!(coast.read("drops/a.txt"), "ullin Bay, and Bay\n");
        assert_eq!(coast.ledger().len(), 2, "{archive}");
    }
}

#[test]
fn a_service_edits_in_place_and_what_comes_meanwhile_is_not_overwritten() {
    let coast = editing("archive = { into = \"archive\" }", WORDS);
    let service = coast.serve();
    for round in 0..5 {
        coast.drop("drops/a.txt", format!("bay {round}\n"));
        let edited = format!("Bay {round}\n");
        coast.wait("it is edited", |coast| coast.read("drops/a.txt") == edited);
    }
    coast.wait("all are filed", |coast| {
        let all = coast.ledger();
        all.len() == 5 && all.iter().all(|entry| entry["state"] == "filed")
    });
    assert_eq!(service.stop(), Some(0));
    let originals = coast.files("archive");
    assert_eq!(originals.len(), 5, "{originals:?}");
}

/// Kills and faults at the points at which the two files change their names.
const EXCHANGES: [&str; 2] = ["publish.exchange", "publish.exchanged"];

#[test]
fn a_kill_while_names_are_changed_loses_nothing_and_what_came_then_stays() {
    if !COMPILED {
        return;
    }
    for point in EXCHANGES {
        for theirs in [false, true] {
            let coast = editing("archive = { into = \"archive\" }", WORDS);
            coast.drop("drops/a.txt", "ullin bay\n");
            rest(&coast);
            let mut killed = coast.command();
            killed.args(["pass", "covers"]).env("VADEGATE_FAULT", format!("{point}:1=kill"));
            assert!(!killed.output().unwrap().status.success());
            if theirs {
                fs::write(coast.path("drops/b"), "theirs\n").unwrap();
                fs::rename(coast.path("drops/b"), coast.path("drops/a.txt")).unwrap();
                rest(&coast);
            }
            pass(&coast, "covers");
            pass(&coast, "covers");
            let all = coast.files("drops").into_iter().map(|path| coast.read(&path));
            let all: Vec<String> = all.collect();
            match (theirs, point) {
                (false, _) => assert_eq!(all, ["ullin Bay\n"], "{point}"),
                // Before the exchange theirs stands in the way; behind it ours was replaced.
                (true, "publish.exchange") => assert_eq!(all, ["ullin Bay\n", "theirs\n"]),
                (true, _) => assert_eq!(all, ["theirs\n"], "{point}"),
            }
            let kept = fs::exists(coast.path("archive/a.txt")).unwrap();
            assert!(kept || theirs, "{point}: the original is archived");
            let states: Vec<_> = coast.ledger().iter().map(|one| one["state"].clone()).collect();
            assert!(states.iter().all(|state| state == "filed" || state == "gone"), "{states:?}");
        }
    }
}

#[test]
fn a_workbook_that_somebody_has_open_waits_and_is_held_in_the_end() {
    let coast = editing("archive = \"leave\"", "set = [{ sheet = 1, cell = \"C1\", value = 1 }]");
    coast.drop("drops/cover.xlsx", workbook());
    coast.drop("drops/~$cover.xlsx", "lock");
    rest(&coast);
    assert_eq!(coast.json("pass covers")[0]["arriving"], 1);
    let why = coast.run("why drops/cover.xlsx").out;
    assert!(why.contains("somebody has it open: `~$cover.xlsx` lies beside it"), "{why}");
    fs::remove_file(coast.path("drops/~$cover.xlsx")).unwrap();
    assert_eq!(pass(&coast, "covers")["worked"], 1);
    let coast = settling(
        "{ quiet = \"20ms\", give_up = \"30ms\" }",
        "archive = \"leave\"",
        "set = [{ sheet = 1, cell = \"C1\", value = 1 }]",
    );
    coast.drop("drops/cover.xlsx", workbook());
    coast.drop("drops/.~lock.cover.xlsx#", "lock");
    let service = coast.serve();
    coast.wait("it is held", |coast| {
        coast.ledger().first().is_some_and(|entry| entry["state"] == "held")
    });
    let held = coast.entry("cover.xlsx");
    assert!(text(&held, "reason").contains("somebody has it open"), "{held:#}");
    service.kill();
}

#[test]
fn what_cannot_be_edited_is_held_with_its_reason_and_stays_as_it_is() {
    let cells = "set = [{ sheet = \"Lid\", cell = \"A1\", value = \"x\" }]";
    let typed = "set = [{ sheet = 1, cell = \"A1\", value = \"<name>\", type = \"number\" }]";
    let missing = format!("{WORDS}\nmissing = \"hold\"");
    let other = b"PK\x03\x04 something".to_vec();
    for (section, content, words) in [
        (cells, workbook(), "no sheet `Lid`; there is `Cover`"),
        (cells, b"ullin bay".to_vec(), "it is no workbook"),
        (cells, other.clone(), "no workbook that can be edited, or damaged"),
        (typed, workbook(), "`a.xlsx` is no number"),
        (WORDS, other, "only texts are edited here"),
        (WORDS, b"bay\0".to_vec(), "zero bytes"),
        (WORDS, b"bay \xE6".to_vec(), "no text in utf-8; say its `encoding`"),
        (&missing, b"harbour".to_vec(), "`bay`, which is to be replaced, is not in it"),
    ] {
        let coast = editing("archive = { into = \"archive\" }", section);
        coast.drop("drops/a.xlsx", &content);
        rest(&coast);
        let rehearsed = coast.json("rehearse covers");
        assert!(rehearsed.to_string().contains(words), "{words}: {rehearsed:#}");
        assert_eq!(pass(&coast, "covers")["held"], 1, "{words}");
        let held = coast.entry("a.xlsx");
        assert!(text(&held, "reason").contains(words), "{held:#}");
        assert_eq!(fs::read(coast.path("drops/a.xlsx")).unwrap(), content);
        assert_eq!(
            coast.files(""),
            coast
                .files("")
                .into_iter()
                .filter(|path| !path.contains(".staged"))
                .collect::<Vec<_>>()
        );
    }
}

#[test]
fn what_lies_there_is_met_as_the_gate_says() {
    for (exists, there, state, after) in [
        ("fail", "other", "held", "other"),
        // What would come there lies there already.
        ("fail", "ullin Bay", "filed", "ullin Bay"),
        ("replace", "other", "filed", "ullin Bay"),
        ("number", "other", "filed", "other"),
        ("leave", "other", "filed", "other"),
    ] {
        let section = format!("into = \"out\"\nexists = \"{exists}\"\n{WORDS}");
        let coast = editing("archive = { into = \"archive\" }", &section);
        coast.folder("out");
        fs::write(coast.path("out/a.txt"), there).unwrap();
        coast.drop("drops/a.txt", "ullin bay");
        pass(&coast, "covers");
        assert_eq!(coast.entry("a.txt")["state"], state, "{exists}");
        assert_eq!(coast.read("out/a.txt"), after, "{exists}");
        if exists == "number" {
            assert_eq!(coast.read("out/a-2.txt"), "ullin Bay");
        }
    }
}

#[test]
fn what_is_worked_again_from_its_archive_comes_to_its_place_only_if_that_is_free() {
    let coast = editing("archive = { into = \"archive\" }", WORDS);
    coast.drop("drops/a.txt", "ullin bay");
    pass(&coast, "covers");
    let id = coast.entry("a.txt")["id"].clone();
    let again = || {
        let ran = coast.run(&format!("reopen {id} --yes --twice --why again"));
        assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
        pass(&coast, "covers");
    };
    again();
    let held = coast.entry("a.txt");
    assert!(text(&held, "reason").contains("is taken, and the file itself lies in"), "{held:#}");
    fs::remove_file(coast.path("drops/a.txt")).unwrap();
    let ran = coast.run(&format!("release {id} --how again --yes --why free"));
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    pass(&coast, "covers");
    assert_eq!(coast.entry("a.txt")["state"], "filed");
    assert_eq!(coast.read("drops/a.txt"), "ullin Bay");
    assert_eq!(coast.read("archive/a.txt"), "ullin bay");
    assert_eq!(pass(&coast, "covers")["entered"], 0);
}

#[test]
fn what_makes_no_sense_in_a_configuration_is_told() {
    for (section, words) in [
        ("", "nothing is edited"),
        (
            "exists = \"number\"\nreplace = [{ find = \"a\", with = \"b\" }]",
            "without `into` a file is edited in place",
        ),
        ("set = [{ sheet = 0, cell = \"A1\", value = 1 }]", "`sheet` counts from 1"),
        ("set = [{ sheet = 1, cell = \"AAAA1\", value = 1 }]", "expected a cell such as"),
        ("set = [{ sheet = 1, cell = \"A1\", value = \"x\", type = \"date\" }]", "`x` is no"),
        (
            "set = [{ sheet = 1, cell = \"A1\", value = \"<harbour>\" }]",
            "which no `take` pattern captures",
        ),
        ("set = \"A1\"", "`set` is a list of tables"),
        ("replace = [{ find = \"\", with = \"b\" }]", "would be found everywhere"),
        ("replace = [{ find = \"(\", with = \"b\", regex = true }]", "no regular expression"),
        ("encoding = \"klingon\"", "expected one such as"),
        ("missing = \"hold\"\nline_end = \"lf\"", "there is no `replace`"),
    ] {
        let coast = editing("archive = \"leave\"", section);
        let check = coast.run("check");
        assert_eq!(check.code, 2, "{section}: {}", check.out);
        assert!(
            format!("{}{}", check.out, check.err).contains(words),
            "{section}: {}{}",
            check.out,
            check.err
        );
    }
}

#[test]
fn files_are_edited_by_hand_without_a_service() {
    let coast = TestHome::new("");
    coast.drop("covers/a.xlsx", workbook());
    coast.drop("covers/note.txt", "ullin bay\nbay\n");
    let edit = |line: &[&str]| coast.run_args(&[&["edit"], line].concat());
    let set = ["covers", "-o", "out", "--set", "Cover!C1=checked", "--replace", "bay", "<stem>"];
    let rehearsed = edit(&[&set[..], &["--rehearse"]].concat());
    assert_eq!(rehearsed.code, 0, "{}", rehearsed.err);
    assert!(rehearsed.out.contains("rehearsed: 2 files; nothing was written"), "{}", rehearsed.out);
    assert!(!fs::exists(coast.path("out")).unwrap());
    let done = edit(&[&set[..], &["--json"]].concat());
    let done: Value = serde_json::from_str(&done.out).unwrap();
    assert_eq!(done["files"].as_array().unwrap().len(), 2, "{done:#}");
    assert_eq!(done["files"][0]["cells"][0]["cell"], "C1", "{done:#}");
    assert_eq!(coast.read("out/note.txt"), "ullin note\nnote\n");
    assert!(part(&coast.path("out/a.xlsx"), "xl/worksheets/sheet1.xml").contains("checked"));
    // Never over its own source, nor over what is there, and not in place without a word.
    let own = edit(&[
        "covers/note.txt",
        "-o",
        "covers/",
        "--replace",
        "bay",
        "Bay",
        "--exists",
        "replace",
    ]);
    assert_eq!((own.code, own.err.contains("would come over itself")), (1, true), "{}", own.err);
    let there = edit(&set);
    assert_eq!((there.code, there.err.contains("is there already")), (1, true), "{}", there.err);
    let asked = edit(&["covers/note.txt", "--replace", "bay", "Bay"]);
    assert_eq!((asked.code, asked.err.contains("--in-place")), (2, true), "{}", asked.err);
    assert_eq!(coast.read("covers/note.txt"), "ullin bay\nbay\n");
    let done = edit(&[
        "covers/note.txt",
        "--replace",
        "(?i)BAY$",
        "$0!",
        "--regex",
        "--line-end",
        "crlf",
        "--in-place",
    ]);
    assert_eq!(done.code, 0, "{}", done.err);
    assert_eq!(coast.read("covers/note.txt"), "ullin bay!\r\nbay!\r\n");
    assert_eq!(coast.files("covers"), ["covers/a.xlsx", "covers/note.txt"]);
    // One that cannot be edited does not keep the others.
    coast.drop("covers/b.xlsx", "no workbook");
    let some = edit(&["covers", "-o", "other", "--set", "1!C1=1", "--take", "*.xlsx"]);
    assert_eq!((some.code, some.err.contains("b.xlsx")), (1, true), "{}", some.err);
    assert_eq!(coast.files("other"), ["other/a.xlsx"]);
}
