//! Tests through the real interface: the binary's commands, the service on
//! loopback, the page in a browser. Where a new test goes:
//!
//! * `passes`: from drop folder to archive by `vadegate pass`; repeats, merging,
//!   programs, filing.
//! * `arrivals`: the ways of being complete, and which files a gate takes.
//! * `faults`: bad input, missing folders, full disks, interrupted runs.
//! * `commands`: what the commands print, and their exit status.
//! * `rehearse`: what a pass would do, and that it touches nothing.
//! * `reload`: a changed configuration is taken while the service runs.
//! * `guarding`: nobody gets in, nothing gets out.
//! * `promises`: nothing lost, nothing twice, nothing stuck, nothing misleading.
//! * `hostile`: bombs, wide tables, files that are not what they say; `odd_names`.
//! * `archives`: archives that are compressed, originals that are not kept.
//! * `clears`: files that are removed by a rule.
//! * `crash_points`: killed, or failed by the system, at every point of the protocol.
//! * `works`: what every work must keep to (`fixtures` has one of each).
//! * `power`, `power_files`: the power is cut before anything was synced.
//! * `service`: the HTTP interface, live events, sign-in, starting and stopping.
//! * `console`: the page, in headless Chromium.
//! * `demo`: the demo as a newcomer meets it.
//! * `loads`: rows in tables of databases (`databases` makes these).
//! * `delivers`: copies in one place or several.
//! * `unpacks`: archives that are unpacked; `lineage`: into the folder of another gate.
//! * `delivers_far`: copies at places; `fetching`: files that are fetched from places (`vadegate-servers` has real servers).
//! * `sends`: files that go to a receiver (`receiver` is one).
//! * `hours`: when gates take files; `dues`: what is expected (`noon` is a coast at noon).
//! * `reports`: reports of a time, the board, what is usual, questions by field.
//! * `lookouts`: limits of folders and files.
//! * `tells`: who is told, by program, HTTP and mail (`post_office` is a mail server).
//! * `chaos`, `chaos_loads`, `chaos_afar`: kill -9 and other faults at random moments under load.
//! * `shots`: not a test; makes the pictures of `docs/screenshots` (ignored).
//!
//! Nothing uses a fixed port or folder, and everything ends with its test.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod accounts;
mod answers;
mod archives;
mod arrivals;
mod browser;
mod chaos;
mod chaos_afar;
mod chaos_loads;
mod clears;
mod commands;
mod configuring;
mod console;
mod console_people;
mod console_works;
mod crash_points;
mod databases;
mod delivers;
mod delivers_far;
mod demo;
mod door;
mod dues;
mod edits;
mod families;
mod faults;
mod fetching;
mod fetching_cut;
mod figures;
mod fixtures;
mod folders;
mod foreseen;
mod guarding;
mod hostile;
mod hours;
mod identity;
mod keeping;
mod lineage;
mod load_entries;
mod load_rules;
mod load_servers;
mod load_types;
mod loads;
mod long_lists;
mod lookouts;
mod made_archives;
mod model;
mod morning_questions;
mod network;
mod new_gates;
mod noon;
mod nothing_out;
mod odd_names;
mod odd_servers;
mod offers;
mod open_batches;
mod openpgp;
mod outputs;
mod page_figures;
mod passes;
mod people;
mod post_office;
mod power;
mod power_files;
mod programs;
mod promises;
mod reaching;
mod receiver;
mod rehearse;
mod reload;
mod reports;
mod searching;
mod sends;
mod service;
mod sevens;
mod shots;
mod support;
mod tables;
mod tells;
mod triage;
mod unpacks;
mod unpacks_by_hand;
mod walks;
mod works;
