//! Every command that a message, a help text or a page names exists, with its options: what is printed can be typed.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use crate::common::Place;

/// By the name of a command (`pki rotate`), its options.
type Commands = BTreeMap<String, BTreeSet<String>>;

/// The commands that exist, as the manual pages have them.
fn commands() -> Commands {
    let place = Place::new();
    let _ = place.run(&["manual", "--out", "man"]).ended(0);
    let pages = place.files().into_iter().filter_map(|(file, _)| {
        let name = file.strip_prefix("man/zoisite")?.strip_suffix(".1")?.trim_start_matches('-');
        let text = place.read(&file).replace("\\-", "-");
        let words = text.split(|c: char| c != '-' && !c.is_ascii_lowercase());
        let options = words.filter(|word| word.starts_with("--")).map(ToOwned::to_owned);
        Some((name.to_owned(), options.collect()))
    });
    let mut commands: Commands = pages.collect();
    // `pki-rotate` is the command rotate below pki; `first-boot` is one word.
    let names: Vec<String> = commands.keys().cloned().collect();
    for name in names {
        let above = name
            .match_indices('-')
            .map(|(at, _)| at)
            .find(|at| commands.contains_key(&name[..*at]));
        if let Some(at) = above {
            let options = commands.remove(&name).unwrap();
            commands.insert(format!("{} {}", &name[..at], &name[at + 1..]), options);
        }
    }
    commands
}

/// What is wrong with the words that follow `zoisite` somewhere.
fn wrong(commands: &Commands, said: &str) -> Option<String> {
    let ends = |c: char| "`\"';,)(…|→\n".contains(c);
    let said = said.split(ends).next().unwrap_or_default();
    let said = said.split("\\n").next().unwrap_or_default();
    let mut words =
        said.split_whitespace().map(|word| word.trim_end_matches(['.', ':', '?', '\\']));
    let first = words.next()?;
    let plain = |word: &str| word.chars().all(|c| c == '-' || c.is_ascii_lowercase());
    // The program itself, not a command of it.
    const PROSE: [&str; 7] = ["at", "end", "for", "from", "pads", "report", "that"];
    if !plain(first) || first.is_empty() || first.starts_with('-') || PROSE.contains(&first) {
        return None;
    }
    if !commands.contains_key(first) {
        return Some(format!("no command {first}"));
    }
    let rest: Vec<&str> = words.collect();
    let below = rest.first().map(|second| format!("{first} {second}"));
    let below = below.filter(|name| commands.contains_key(name));
    let known = |option: &str| {
        let of = [Some(first), below.as_deref(), Some("")].into_iter().flatten();
        of.filter_map(|name| commands.get(name)).any(|options| options.contains(option))
    };
    // What follows another command in the same line is that one's.
    let own = rest.iter().take_while(|word| !["&&", "|", "--"].contains(word));
    let mut options = own.filter(|word| word.starts_with("--") && plain(word));
    options.find(|option| !known(option)).map(|option| format!("zoisite {said}: no {option}"))
}

fn texts(folder: &Path, of: &str, out: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            texts(&path, of, out);
        } else if path.extension().is_some_and(|kind| kind == of) {
            out.push((path.display().to_string(), std::fs::read_to_string(&path).unwrap()));
        }
    }
}

#[test]
fn every_command_that_is_printed_or_written_down_exists_with_its_options() {
    let commands = commands();
    assert!(commands.contains_key("pki rotate") && commands.contains_key("first-boot write"));
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().parent().unwrap();
    let mut all = Vec::new();
    texts(&root.join("docs"), "md", &mut all);
    all.push(("README.md".into(), std::fs::read_to_string(root.join("README.md")).unwrap()));
    for name in ["zoisite", "zoisite-core", "zoisite-reach", "zoisite-store", "zoisite-supply"] {
        texts(&root.join("crates").join(name).join("src"), "rs", &mut all);
    }
    let mut found = Vec::new();
    let mut named = 0;
    for (file, text) in all {
        // A text that goes on in the next line of the source.
        let whole = text.split("\\\n").map(str::trim_start).collect::<String>();
        for (at, _) in whole.match_indices("zoisite ") {
            let before = whole[..at].chars().next_back().unwrap_or(' ');
            if before.is_alphanumeric() || "-_/.".contains(before) {
                continue;
            }
            named += 1;
            let said = &whole[at + "zoisite ".len()..];
            found.extend(wrong(&commands, said).map(|why| format!("{file}: {why}")));
        }
    }
    assert!(named > 300, "{named}");
    found.sort();
    found.dedup();
    assert_eq!(found, [""; 0], "{found:#?}");
}
