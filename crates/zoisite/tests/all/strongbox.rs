//! Who can open the strongbox: people come with keys of age's and of SSH, and go again.

use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::common::terminal::{CTRL_C, Terminal};
use crate::common::{Done, Place};

/// A key pair in the place: `NAME` and `NAME.pub`.
fn ssh_key(place: &Place, name: &str, kind: &str, passphrase: &str) {
    let path = place.path(name);
    let words = ["-q", "-t", kind, "-N", passphrase, "-C", &format!("{name}@desk"), "-f"];
    let done = Command::new("ssh-keygen").args(words).arg(&path).status().unwrap();
    assert!(done.success(), "{name}");
    assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, 0o600);
}

/// Writes keys in the clear, which the strongbox must be opened for.
fn opens(place: &Place, identity: &str) -> Done {
    let folder = format!("opened-by-{}", identity.replace('/', "-"));
    place.run(&["--identity", identity, "files", "--with-keys", "--out", &folder])
}

#[test]
fn people_come_with_their_own_keys_and_go_and_all_is_sealed_again() {
    let place = Place::saltmarsh();
    let _ = place.run(&["strongbox"]).ended(0).says("The strongbox is empty");
    ssh_key(&place, "bea", "ed25519", "");
    ssh_key(&place, "cor", "rsa", "");
    let early = place.run(&["strongbox", "add", "--file", "bea.pub"]).ended(2);
    let _ = early.complains("nothing has been raised");
    assert!(!place.path(".zoisite").exists());

    let _ = place.run(&["pki", "issue"]).ended(0);
    let own = "home/.config/zoisite/identity.txt";
    for name in ["bea", "cor"] {
        let _ = opens(&place, name).ended(2).complains("cannot open this cluster's secrets");
        let file = format!("{name}.pub");
        let _ = place.run(&["strongbox", "add", "--file", &file]).ended(0).says("sealed again");
    }
    for identity in [own, "bea", "cor"] {
        let _ = opens(&place, identity).ended(0);
    }
    let key = |by: &str| place.read(&format!("opened-by-{by}/heron/etc/zoisite/etcd/peer/tls.key"));
    assert_eq!(key("bea"), key("cor"));
    let listed = place.run(&["strongbox"]).ended(0);
    let _ = listed.says("bea@desk").says("cor@desk").says("this identity").says("age1");
    let json = place.run(&["strongbox", "--json"]).ended(0).json();
    assert_eq!(json["people"].as_array().unwrap().len(), 3);
    assert_eq!(json["people"][1]["name"], "bea@desk");

    // What is made from now on is for all of them, whoever makes it.
    let by = ["--identity", "bea", "pki", "issue", "--reissue"];
    let _ = place.run(&by).ended(0);
    for identity in [own, "bea", "cor"] {
        let _ = opens(&place, identity).ended(0);
    }

    // One goes, by another one's word, and nobody by their own.
    let own_word = ["--identity", "bea", "strongbox", "remove", "bea@desk"];
    let _ = place.run(&own_word).ended(2).complains("opens it here");
    let _ = place
        .run(&["strongbox", "remove", "bea@desk"])
        .ended(0)
        .says("cannot open it any more")
        .says("open for them still");
    let _ = opens(&place, "bea").ended(2).complains("name the right file with --identity");
    let _ = opens(&place, "cor").ended(0);
    let _ = place
        .run(&["strongbox", "remove", "bea@desk"])
        .ended(2)
        .complains("no person of that name");
    let stranger = ["--identity", "bea", "strongbox", "add", "--file", "bea.pub"];
    let _ = place.run(&stranger).ended(2).complains("cannot open this cluster's secrets");
    let _ = place.run(&["history"]).ended(0).says("strongbox remove bea@desk").says("sealed again");
}

/// Runs it where no terminal is, not even the one that a person runs tests at.
fn without_a_terminal(place: &Place, words: &[&str]) -> Done {
    let command = place.command();
    let mut alone = Command::new("setsid");
    alone.arg("-w").arg(command.get_program()).args(words).current_dir(place.folder()).env_clear();
    alone.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
    Done::of(&mut alone)
}

/// Runs it at a terminal where these are answered, each to a question that ends so; the exit status, and what was shown.
fn at_a_terminal(place: &Place, words: &[&str], answers: &[(&str, &str)]) -> (i32, String) {
    let mut command = place.command();
    command.args(words);
    let mut terminal = Terminal::of(&command);
    for (question, answer) in answers {
        let before = answers.iter().take_while(|one| *one != &(*question, *answer));
        let times = before.filter(|(same, _)| same == question).count() + 1;
        terminal.until_times(question, times);
        terminal.press(&format!("{answer}\n"));
    }
    (terminal.status(), terminal.shown())
}

#[test]
fn an_identity_is_kept_under_a_passphrase_that_is_asked_for_once_a_run() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    ssh_key(&place, "eve", "ed25519", "reeds and mud");
    let _ = place.run(&["strongbox", "add", "--file", "eve.pub"]).ended(0);
    let (asked, new, again) = ("identity.txt: ", "new passphrase: ", "the same again: ");
    let set = ["strongbox", "passphrase"];
    for (first, second, says) in
        [("short", "", "fewer than 8"), ("mud and reeds", "mud and seeds", "two different")]
    {
        let mut answers = vec![(new, first)];
        answers.extend((!second.is_empty()).then_some((again, second)));
        let (status, shown) = at_a_terminal(&place, &set, &answers);
        assert!(status == 2 && shown.contains(says), "{shown}");
    }
    let (status, shown) =
        at_a_terminal(&place, &set, &[(new, "mud and reeds"), (again, "mud and reeds")]);
    assert!(status == 0 && !shown.contains("reeds"), "{shown}");
    let file = place.path("home/.config/zoisite/identity.txt");
    assert_eq!(file.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    assert!(!std::fs::read_to_string(&file).unwrap().contains("AGE-SECRET-KEY"));

    let open = |folder| ["files", "--with-keys", "--out", folder];
    let alone = without_a_terminal(&place, &open("alone")).ended(2);
    let _ = alone.complains("it cannot be asked for here");
    let (status, shown) = at_a_terminal(&place, &open("once"), &[(asked, "mud and reeds")]);
    assert_eq!((status, shown.matches(asked).count()), (0, 1), "{shown}");
    let wrong = [(asked, "mud"), (asked, "mud."), (asked, "mud!")];
    let (status, shown) = at_a_terminal(&place, &open("wrong"), &wrong);
    assert!(status == 2 && shown.contains("not the passphrase"), "{shown}");
    // What needs no secret asks nobody.
    let _ = without_a_terminal(&place, &["pki", "list"]).ended(0);
    let words = [&["--identity", "eve"][..], &open("by-eve")].concat();
    let (status, shown) = at_a_terminal(&place, &words, &[("of eve: ", "reeds and mud")]);
    assert_eq!(status, 0, "{shown}");
    let none = ["strongbox", "passphrase", "--none"];
    let (status, shown) = at_a_terminal(&place, &none, &[(asked, "mud and reeds")]);
    assert_eq!(status, 0, "{shown}");
    let _ = without_a_terminal(&place, &open("again")).ended(0);
}

/// Starts the program at a terminal that a shell tells the name of, once a line was entered there.
fn at_a_named_terminal(place: &Place, words: &str) -> (Terminal, String) {
    let program = place.command();
    let mut command = Command::new("sh");
    let program = program.get_program().to_str().unwrap();
    command.arg("-c").arg(format!("trap : INT; tty; read go; {program} {words}; stty -a"));
    command.current_dir(place.folder()).env_clear();
    for (name, value) in place.command().get_envs() {
        command.env(name, value.unwrap_or_default());
    }
    let terminal = Terminal::of(&command);
    terminal.until("/dev/pts/");
    terminal.until("\n");
    let name = terminal.shown().trim().to_owned();
    (terminal, name)
}

/// Whether stty tells of a terminal that shows what is typed, line by line, and knows Ctrl-C.
fn as_usual(stty: &str) -> bool {
    ["echo", "icanon", "isig"].iter().all(|set| stty.split_whitespace().any(|one| one == *set))
}

/// Waits until a terminal shows what is typed there, or does not.
fn until_shown_again(terminal: &str, echo: bool) {
    let end = Instant::now() + Duration::from_secs(120);
    loop {
        let set = Command::new("stty").args(["-F", terminal, "-a"]).output().unwrap();
        let set = String::from_utf8(set.stdout).unwrap();
        if set.split_whitespace().any(|one| one == ["-echo", "echo"][usize::from(echo)]) {
            return;
        }
        assert!(Instant::now() < end, "still: {set}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn what_is_typed_the_moment_a_question_is_shown_is_not_shown() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    let (mut terminal, name) = at_a_named_terminal(&place, "strongbox passphrase");
    // The screen is held (XOFF): the question cannot be written, and by then nothing may be shown any more.
    terminal.press("\u{13}");
    terminal.press("\n");
    until_shown_again(&name, false);
    terminal.press("\u{11}");
    terminal.until("new passphrase: ");
    terminal.press("reeds\n");
    assert_eq!(terminal.status(), 0);
    let shown = terminal.shown();
    assert!(shown.contains("fewer than 8") && !shown.contains("reeds"), "{shown}");
    assert!(as_usual(&shown), "{shown}");
}

#[test]
fn ctrl_c_at_a_question_leaves_the_terminal_as_it_was() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    let (mut terminal, _) = at_a_named_terminal(&place, "strongbox passphrase");
    terminal.press("\n");
    terminal.until("new passphrase: ");
    terminal.press(&format!("reeds{CTRL_C}"));
    assert_eq!(terminal.status(), 0);
    let shown = terminal.shown();
    assert!(as_usual(&shown) && !shown.contains("reeds"), "{shown}");
}

#[test]
fn keys_that_are_none_are_told_and_nothing_changes() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    ssh_key(&place, "dan", "ecdsa", "");
    ssh_key(&place, "eve", "ed25519", "reeds and mud");
    place.write("empty.pub", "\n");
    let before = place.run(&["strongbox", "--json"]).ended(0).stdout;
    for (words, says) in [
        (&["add", "heron"][..], "'heron' is no public key"),
        (&["add", "age1heron"], "'age1heron' is no public key"),
        (&["add", "--file", "empty.pub"], "is no public key"),
        (&["add", "--file", "gone.pub"], "gone.pub"),
        (&["add", "--file", "dan.pub"], "is no public key"),
        (&["remove", "nobody"], "no person of that name"),
    ] {
        let _ = place.run(&[&["strongbox"], words].concat()).ended(2).complains(says);
    }
    let own = serde_json::from_str::<serde_json::Value>(&before).unwrap();
    let own = own["people"][0]["key"].as_str().unwrap().to_owned();
    let _ = place.run(&["strongbox", "add", &own]).ended(2).complains("can open it already");
    assert_eq!(place.run(&["strongbox", "--json"]).ended(0).stdout, before);
    // Where nobody can be asked for a passphrase that is reported at once.
    let _ = place.run(&["strongbox", "add", "--file", "eve.pub"]).ended(0);
    let alone =
        without_a_terminal(&place, &["--identity", "eve", "files", "--with-keys", "--out", "o"]);
    let _ = alone.ended(2).complains("kept under a passphrase, and it cannot be asked");
    let _ = opens(&place, "dan").ended(2).complains("ed25519 and RSA do");
}
