//! The command line is sound, and every command that is told anywhere is one.

use clap::CommandFactory;

use super::*;

#[test]
fn the_command_line_is_sound_and_every_command_has_help() {
    let mut command = Args::command();
    command.build();
    command.clone().debug_assert();
    // What is hidden is for the program itself.
    let shown = command.get_subcommands().filter(|sub| !sub.is_hide_set());
    for sub in shown.filter(|sub| sub.get_name() != "help") {
        assert!(sub.get_about().is_some(), "{} says nothing", sub.get_name());
        let help = sub.get_after_help().map(ToString::to_string).unwrap_or_default();
        assert!(help.contains("xample"), "{} has no example", sub.get_name());
        for arg in sub.get_arguments() {
            assert!(arg.get_help().is_some(), "{} {}", sub.get_name(), arg.get_id());
        }
    }
}

/// The words of a line as a shell parts them, up to what it does with the output.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote) = (Vec::new(), None::<String>, None);
    for c in line.chars().chain([' ']) {
        match (quote, c) {
            (Some(open), _) if c == open => quote = None,
            (None, '\'' | '"') => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (None, ' ') => words.extend(word.take()),
            (None, '#' | '>' | '|' | '&') if word.is_none() => break,
            _ => word.get_or_insert_default().push(c),
        }
    }
    words
}

/// The commands of a page, each as one line.
fn commands(page: &str) -> Vec<String> {
    let page = page.replace("\\\n", " ");
    let lines = page.lines().map(|line| line.trim().trim_start_matches("$ "));
    lines.filter(|line| line.starts_with("vadegate ")).map(str::to_owned).collect()
}

fn parse_all(of: &str, commands: &[String]) {
    for line in commands {
        // What is told of it behind, or stands for more, is nothing that is typed.
        let (line, _) = line.split_once("  (").unwrap_or((line, ""));
        let typed = line.replace(" …", "").replace('…', "");
        if let Err(error) = Args::try_parse_from(words(&typed)) {
            panic!("{of}: {line}: {error}");
        }
    }
}

#[test]
fn every_command_of_the_pages_is_one() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let docs = std::fs::read_dir(root.join("docs")).unwrap().map(|one| one.unwrap().path());
    let pages = docs.filter(|path| path.extension().is_some_and(|ending| ending == "md"));
    let mut seen = 0;
    for path in pages.chain([root.join("README.md")]) {
        let commands = commands(&std::fs::read_to_string(&path).unwrap());
        parse_all(&path.display().to_string(), &commands);
        seen += commands.len();
    }
    assert!(seen > 60, "{seen} commands");
}

#[test]
fn every_example_of_the_help_is_a_command() {
    let mut command = Args::command();
    command.build();
    let mut seen = 0;
    let mut waiting = vec![command];
    while let Some(command) = waiting.pop() {
        let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
        let commands = commands(&help);
        parse_all(command.get_name(), &commands);
        seen += commands.len();
        waiting.extend(command.get_subcommands().filter(|sub| !sub.is_hide_set()).cloned());
    }
    assert!(seen > 40, "{seen} examples");
}
