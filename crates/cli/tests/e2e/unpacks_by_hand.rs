//! Archives that are unpacked by hand.

use std::fs;

use crate::made_archives::zip_of;
use crate::support::TestHome;
use crate::unpacks::TWO;

#[test]
fn archives_are_unpacked_by_hand_each_whole_or_not_at_all() {
    let home = TestHome::new("");
    home.drop("in/a.zip", zip_of(&[("a.csv", TWO), ("notes.txt", "x")]));
    home.drop("in/climbs.zip", zip_of(&[("fine.csv", TWO), ("../climbed.csv", TWO)]));
    home.drop("in/table.csv", TWO);
    let unpack = |args: &str| home.run(&format!("unpack {args}"));
    let rehearsed = unpack("in -o out/<stem> --rehearse");
    assert_eq!(rehearsed.code, 1);
    assert!(rehearsed.out.contains("nothing was written"), "{}", rehearsed.out);
    assert!(home.files("out").is_empty());
    let ran = unpack("in/ -o out/<stem>/ --take *.csv");
    assert_eq!(ran.code, 1, "{}", ran.out);
    assert!(ran.err.contains("climbs out of the folder"), "{}", ran.err);
    assert_eq!(home.files("out"), ["out/a/a.csv"]);
    // Again: the same bytes are there. Others in their place are not written over.
    assert_eq!(unpack("in/a.zip -o out/<stem> --take *.csv").code, 0);
    fs::write(home.path("out/a/a.csv"), "mine").unwrap();
    let again = unpack("in/a.zip -o out/<stem>");
    assert!(again.code == 1 && again.err.contains("--exists replace"), "{}", again.err);
    assert_eq!((home.files("out").len(), home.read("out/a/a.csv")), (1, "mine".to_owned()));
    assert_eq!(unpack("in/a.zip -o out/<stem> --exists number").code, 0);
    assert_eq!(home.files("out"), ["out/a/a-2.csv", "out/a/a.csv", "out/a/notes.txt"]);
    let none = unpack("in/table.csv -o out");
    assert!(none.err.contains("no archive that is known"));
}
