//! Databases, tables, sizes and ranges.

use super::*;

#[test]
fn databases_and_tables_are_read_or_refused() {
    let load = |keys: &str| {
        let text = format!("[gate.x]\ndrop = \"d\"\narchive = \"leave\"\n[gate.x.load]\n{keys}\n");
        match Config::parse(Path::new("/srv/vadegate.toml"), &text) {
            Ok(config) => {
                let work: &dyn Any = config.gates[0].work.as_deref().unwrap();
                let load = &work.downcast_ref::<Load>().unwrap().0;
                let (table, mode) = (load.table.source(), load.mode.word());
                format!("{} {mode} {:?}", load.to.output(table), load.entry_column())
            }
            Err(error) => error.to_string(),
        }
    };
    let sqlite = "to = \"sqlite:out/sound.db\"\n";
    let server = "to = \"postgres://keeper@db.sound.example/sound\"\ntable = \"waves\"\n";
    for (keys, words) in [
        (format!("{sqlite}table = \"waves\""), "sqlite:/srv/out/sound.db#waves add None"),
        (format!("{sqlite}table = \"w\"\nadd = {{ e = \"<entry>\" }}"), "#w add Some(\"e\")"),
        (format!("{sqlite}table = \"w\"\nadd = {{ e = \"n<entry>\" }}"), "#w add None"),
        (server.to_owned(), "postgres://db.sound.example:5432/sound#waves add None"),
        (format!("{server}mode = \"upsert\"\nkey = [\"a\"]"), "#waves upsert None"),
        (server.replace("keeper@", "keeper:s3cret@"), "has a password in it"),
        (server.replace("postgres:", "mail:"), "names no database"),
        (server.replace("/sound", "/sound?sslmode=perhaps"), "is no address"),
        (server.replace("\"waves\"", "\"a.b.c\""), "perhaps with its schema"),
        (server.replace("\"waves\"", "\"sea.\""), "perhaps with its schema"),
        (sqlite.to_owned(), "`table` is missing"),
        ("table = \"waves\"".to_owned(), "`to` is missing"),
        (format!("{server}mode = \"upsert\""), "needs `key`"),
        (format!("{server}key = \"a\""), "of no use without"),
        (format!("{server}misfits = \"set aside\""), "needs `rejects`"),
        (
            format!("{server}password = {{ env = \"A\", file = \"b\" }}"),
            "in a variable or in a file",
        ),
        (format!("{sqlite}table = \"w\"\npassword = {{ env = \"A\" }}"), "has no `password`"),
        (format!("{server}tabel = \"w\""), "did you mean `table`?"),
    ] {
        let found = load(&keys);
        assert!(found.contains(words), "{keys}: {found}");
        assert!(!found.contains("s3cret"), "{found}");
    }
}

#[test]
fn sizes_and_ranges_are_read_or_refused() {
    assert_eq!(parse_bytes("0B"), Ok(0));
    assert_eq!(parse_bytes("1.5 MB"), Ok(1_500_000));
    assert_eq!(parse_bytes("4MiB"), Ok(4 << 20));
    for bad in ["", "5", "B", "1PB", "-1B", "1..2B", "99999999TB"] {
        assert!(parse_bytes(bad).is_err(), "{bad}");
    }
    let gate =
        |line: &str| faults(&format!("[gate.x]\ndrop = \"d\"\narchive = \"leave\"\n{line}\n"));
    for good in ["bytes = \"1B..2GB\"", "bytes = \"..2GB\"", "age = \"1h..\"", "empty = \"take\""] {
        assert_eq!(gate(good), [""; 0], "{good}");
    }
    assert!(gate("bytes = \"2GB\"")[0].contains("expected a range"));
    assert!(gate("bytes = \"2GB..1B\"")[0].contains("backwards"));
    assert!(gate("age = \"..soon\"")[0].contains("is no duration"));
}
