//! What people type who know what they want and not yet what it is called here.

use clap::error::{ContextKind, ContextValue, ErrorKind};

use crate::failure::{Failure, Kind};

/// What is typed, and what does it: a command as it is typed, and in a few words why, where that is not plain.
const GUESSES: [(&[&str], &str, &str); 24] = [
    (&["apply", "install", "deploy", "up", "run", "converge"], "raise", ""),
    (&["init", "create", "generate", "config"], "new", "it writes a cluster file to begin with"),
    (&["bootstrap", "start"], "raise", "from bare machines on, as often as you like"),
    (&["plan", "diff", "preview"], "sequence", "it shows what raise would do, and changes nothing"),
    (&["validate", "lint", "verify-config"], "check", ""),
    (&["doctor", "preflight", "inspect"], "survey", "and zoisite status, once the cluster stands"),
    (
        &["upgrade", "update", "patch"],
        "raise",
        "set another patch version in the cluster file first; another minor version is not possible yet",
    ),
    (&["add", "join", "scale"], "raise", "add the host to the cluster file first"),
    (&["remove", "delete", "drain"], "retire HOST", "take the host out of the cluster file first"),
    (
        &["cordon", "uncordon"],
        "access NAME",
        "it writes a kubeconfig; kubectl cordon NODE does that",
    ),
    (&["reset", "destroy", "clean", "down"], "uninstall", ""),
    (
        &["save"],
        "snapshot take",
        "it saves etcd; zoisite backup write saves the state that is kept here",
    ),
    (
        &["restore", "recover"],
        "snapshot restore NAME",
        "it restores etcd; zoisite backup restore restores the state that is kept here",
    ),
    (
        &["kubeconfig", "credentials", "user"],
        "access NAME",
        "it writes a kubeconfig for a named person",
    ),
    (
        &["renew", "rotate", "certs", "certificates", "cert"],
        "pki",
        "a raise renews what is due by itself",
    ),
    (&["version"], "--version", ""),
    (&["token"], "tokens", ""),
    (&["ssh", "hosts", "ping"], "login", ""),
    (&["open", "keys"], "login setup", ""),
    (&["etcd", "defrag", "compact"], "defragment", ""),
    (&["encrypt", "secrets"], "encryption", ""),
    (&["logs", "log", "events"], "history", "and --events, for what a command does at the moment"),
    (&["test", "conformance"], "verify", ""),
    (&["download", "images", "mirror"], "components fetch", ""),
];

/// The answer to a command that is none, where what it means is known.
pub fn answer(error: &clap::Error) -> Option<Failure> {
    if error.kind() != ErrorKind::InvalidSubcommand {
        return None;
    }
    let Some(ContextValue::String(typed)) = error.get(ContextKind::InvalidSubcommand) else {
        return None;
    };
    let (_, command, why) = GUESSES.iter().find(|(all, ..)| all.contains(&typed.as_str()))?;
    let fix = match why.is_empty() {
        true => format!("zoisite {command}"),
        false => format!("zoisite {command}: {why}"),
    };
    Some(Failure::new(Kind::Usage, format!("there is no command '{typed}'"), fix))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_answer_is_a_command_and_no_guess_is_one() {
        let program = crate::cli::program();
        for (guesses, answer, _) in GUESSES {
            let words: Vec<&str> = answer.split(' ').collect();
            let mut at = &program;
            for word in words.iter().filter(|word| !word.starts_with('-')) {
                if word.chars().all(|c| c.is_ascii_uppercase()) {
                    continue;
                }
                at = at.find_subcommand(word).unwrap_or_else(|| panic!("zoisite {answer}"));
            }
            for guess in guesses {
                assert!(program.find_subcommand(guess).is_none(), "{guess} is a command");
                let error = program.clone().try_get_matches_from(["zoisite", guess]).unwrap_err();
                assert!(super::answer(&error).is_some(), "{guess}");
            }
        }
    }
}
