//! Every help text, in `snapshots/cli__help__help.snap`, to be read at a glance.

use crate::place::Place;

/// A level above others, or one or two words that need no example.
const WITHOUT_EXAMPLES: &[&str] = &["stave", "watch", "hold", "release", "reload", "stop", "sim", "completions"];

/// The help of a command and of all below it.
fn help_of(place: &Place, command: &[String], all: &mut Vec<(Vec<String>, String)>) {
    let args: Vec<&str> = command.iter().map(String::as_str).chain(["--help"]).collect();
    let out = place.command(&args).env("COLUMNS", "100").output().expect("runs");
    assert!(out.status.success(), "{command:?}");
    let text = String::from_utf8(out.stdout).expect("text");
    let listed = text.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    // A description that goes on stands further to the right.
    let words = listed.filter(|l| !l.starts_with("   ")).filter_map(|l| l.split_whitespace().next());
    let below: Vec<String> = words.filter(|w| *w != "help").map(str::to_owned).collect();
    all.push((command.to_vec(), text));
    for word in below {
        help_of(place, &[command, &[word]].concat(), all);
    }
}

#[test]
fn every_help_text_is_as_reviewed_and_needs_nothing() {
    let (place, mut all) = (Place::new(), Vec::new());
    help_of(&place, &[], &mut all);
    let text: String = all.iter().map(|(c, text)| format!("$ choir {} --help\n{text}\n", c.join(" "))).collect();
    let wide: Vec<&str> = text.lines().filter(|l| l.chars().count() > 100).collect();
    assert!(wide.is_empty(), "{wide:#?}");
    for (command, text) in all.iter().filter(|(c, _)| c.len() == 1 && !WITHOUT_EXAMPLES.contains(&&*c[0])) {
        assert!(text.contains("Example"), "{command:?}");
    }
    insta::assert_snapshot!("help", text);
}

#[test]
fn a_wrong_word_is_refused_and_completions_are_printed() {
    let place = Place::new();
    assert_eq!(place.run(&["nonsense"]).code, 2);
    assert!(place.run(&["completions", "bash"]).stdout.contains("_choir"));
}
