//! One contract, kept by both: the scripts that run on hosts, in a scratch folder under two shells, and the simulated
//! hosts of a rehearsal. What a rehearsal says of an operation is only worth something where they agree.

use std::net::{IpAddr, Ipv4Addr};
use std::sync::{Arc, Mutex, OnceLock};

use crate::scratch::{Host, SHELLS, UNIT};
use crate::simulated::{Issued, TestContents, host, now, on_virtual_time};
use zoisite_core::holdings::HostHoldings;
use zoisite_core::item::{
    Absent, Block, ComponentSums, Content, Differs, Directory, File, Found, Item, Link, Module,
    Pair, Sysctl, Unit, User,
};
use zoisite_core::pki::SecretRef;
use zoisite_core::script::{Depth, Observed, Operation, Stretch};
use zoisite_core::sequence::StepOutcome;
use zoisite_reach::{Reach as _, Rehearsal, World};

/// What is asked of both.
trait Kept {
    /// What it is, for whoever reads a failure.
    fn name(&self) -> String;
    /// Carries operations out in a run of that generation: which of them changed something, or what kept it from it.
    fn act(&self, generation: u64, operations: Vec<Operation>) -> Result<usize, String>;
    fn look(&self, items: &[Item]) -> Observed;
    /// Somebody writes a file of ours again.
    fn edit(&self, path: &str, text: &str);
    fn text(&self, path: &str) -> Option<String>;
}

struct Scripts(Host);

impl Kept for Scripts {
    fn name(&self) -> String {
        format!("scripts under {}", self.0.shell)
    }

    fn act(&self, generation: u64, operations: Vec<Operation>) -> Result<usize, String> {
        let script =
            self.0.script(operations).replace("\nlock 7\n", &format!("\nlock {generation}\n"));
        let (said, over) = self.0.run(&script, b"", "");
        let changed = said.lines().filter(|line| line.starts_with("@\tchanged")).count();
        if over { Ok(changed) } else { Err(said) }
    }

    fn look(&self, items: &[Item]) -> Observed {
        self.0.look(items)
    }

    fn edit(&self, path: &str, text: &str) {
        std::fs::write(path, text).unwrap();
    }

    fn text(&self, path: &str) -> Option<String> {
        std::fs::read_to_string(path).ok()
    }
}

/// A simulated host, and what stands for the strongbox.
struct Simulated(Arc<Mutex<World>>);

impl Simulated {
    fn new() -> Self {
        let address = IpAddr::V4(Ipv4Addr::new(10, 77, 0, 11));
        Self(Arc::new(Mutex::new(World::new([(host("heron"), address)], now()))))
    }

    fn reach(&self, generation: u64) -> Rehearsal {
        Rehearsal::new(self.0.clone(), Arc::new(TestContents::of(keys())), generation)
    }
}

/// Keys as the scratch host's strongbox has them.
fn keys() -> &'static Issued {
    static KEYS: OnceLock<Issued> = OnceLock::new();
    KEYS.get_or_init(|| {
        let mut issued = Issued::of(crate::simulated::saltmarsh());
        for serial in ["a1", "b2"] {
            let key = zoisite_core::pki::Secret::new(format!("key of {serial}\n"));
            issued.keys.push((SecretRef::Certificate(serial.into()), key));
        }
        issued
    })
}

impl Kept for Simulated {
    fn name(&self) -> String {
        "a rehearsal".into()
    }

    fn act(&self, generation: u64, operations: Vec<Operation>) -> Result<usize, String> {
        let stretch = Stretch { host: host("heron"), operations };
        let done = on_virtual_time(async { self.reach(generation).act(&stretch, &|_| {}).await });
        match done {
            StepOutcome::Done { changed } => Ok(changed),
            other => Err(format!("{other:?}")),
        }
    }

    fn look(&self, items: &[Item]) -> Observed {
        let mut all = HostHoldings::new(&host("heron"));
        all.items = items.to_vec();
        on_virtual_time(async { self.reach(1).observe(&all, Depth::Deep).await }).unwrap()
    }

    fn edit(&self, path: &str, text: &str) {
        self.0.lock().unwrap().edit(&host("heron"), path, |_| text.to_owned());
    }

    fn text(&self, path: &str) -> Option<String> {
        self.0.lock().unwrap().text(&host("heron"), path).map(ToOwned::to_owned)
    }
}

fn differs(kept: &dyn Kept, items: &[Item]) -> Vec<(String, Differs)> {
    let seen = kept.look(items);
    let sums = ComponentSums::default();
    let seen = seen.seen(&sums);
    items
        .iter()
        .flat_map(|item| item.differs(seen).into_iter().map(|how| (item.title(), how)))
        .collect()
}

fn put(kept: &dyn Kept, items: &[Item]) -> usize {
    let puts = items.iter().cloned().map(Operation::Put).collect();
    kept.act(7, puts).unwrap_or_else(|why| panic!("{}: {why}", kept.name()))
}

/// Runs a claim against the scripts and against a rehearsal; each names its paths below the same scratch folder.
fn on_both(claim: impl Fn(&dyn Kept, &Host)) {
    for shell in SHELLS {
        let place = Host::new(shell);
        std::fs::create_dir_all(place.path("sys/module")).unwrap();
        std::fs::create_dir_all(place.path("etc/systemd/system")).unwrap();
        place.write("proc/sys/net/ipv4/ip_forward", "0\n");
        place.write("etc/hosts", "127.0.0.1 localhost\n");
        let simulated = Simulated::new();
        if place.me != "root" {
            let me = Item::User(User { name: place.me, home: "/".into() });
            simulated.act(1, vec![Operation::Put(me)]).unwrap();
        }
        claim(&simulated, &place);
        let scripts = Scripts(place);
        claim(&scripts, &scripts.0);
    }
}

/// One of each kind that is one operation, none of which stands there yet.
fn items(place: &Host) -> Vec<Item> {
    let still = |name: &str| -> &'static str { place.at(name).leak() };
    vec![
        Item::Block(Block { path: still("etc/hosts"), text: "10.77.0.11 heron\n".into() }),
        Item::Link(Link { path: place.at("etc/localtime"), to: "/dev/null".into() }),
        Item::User(User { name: "zoisite-heron", home: "/var/lib/heron".into() }),
        Item::Directory(Directory { path: place.at("etc/nest"), owner: place.me, mode: 0o750 }),
        place.file("etc/nest/one.conf", "of ours\n").into(),
        place.file("etc/two.conf", "of ours\n").into(),
        place.pair("a1").into(),
        Item::Module(Module { name: "br_gull" }),
        Item::Sysctl(Sysctl { key: "net.ipv4.ip_forward", value: "1", optional: false }),
    ]
}

#[test]
fn what_is_put_is_there_and_put_again_changes_nothing() {
    on_both(|kept, place| {
        let items = items(place);
        let missing: Vec<String> = items.iter().map(Item::title).collect();
        let found = differs(kept, &items);
        assert_eq!(
            found.iter().map(|(what, _)| what.clone()).collect::<Vec<_>>(),
            missing,
            "{}",
            kept.name()
        );
        assert_eq!(put(kept, &items), items.len(), "{}", kept.name());
        assert_eq!(differs(kept, &items), [], "{}", kept.name());
        assert_eq!(put(kept, &items), 0, "{}: again", kept.name());
    });
}

#[test]
fn what_somebody_changed_differs_and_nothing_else_does() {
    on_both(|kept, place| {
        let items = items(place);
        put(kept, &items);
        kept.edit(&place.at("etc/two.conf"), "somebody's\n");
        let found = differs(kept, &items);
        assert_eq!(found, [(items[5].title(), Differs::Content)], "{}", kept.name());
        assert_eq!(put(kept, &items[5..6]), 1, "{}", kept.name());
        assert_eq!(kept.text(&place.at("etc/two.conf")).as_deref(), Some("of ours\n"));
        // Half of a pair is no pair; another serial is another one.
        let Item::Pair(pair) = &items[6] else { panic!("a pair") };
        kept.edit(&pair.key_path(), "another's\n");
        assert_eq!(differs(kept, &items).len(), 1, "{}", kept.name());
        let next: Pair = place.pair("b2");
        assert_eq!(put(kept, &[next.clone().into()]), 1, "{}", kept.name());
        assert_eq!(kept.text(&next.key_path()).as_deref(), Some("key of b2\n"), "{}", kept.name());
    });
}

#[test]
fn what_must_not_be_there_goes() {
    on_both(|kept, place| {
        let path = place.at("etc/forbidden.conf");
        put(kept, &[place.file("etc/forbidden.conf", "it stands before ours\n").into()]);
        let absent = [Item::Absent(Absent { path: path.clone() })];
        assert_eq!(differs(kept, &absent).len(), 1, "{}", kept.name());
        assert_eq!(put(kept, &absent), 1, "{}", kept.name());
        assert_eq!((differs(kept, &absent).len(), kept.text(&path)), (0, None), "{}", kept.name());
        // The same as an operation of its own.
        put(kept, &[place.file("etc/token", "a token\n").into()]);
        let remove = || vec![Operation::Remove(place.at("etc/token"))];
        assert_eq!(
            (kept.act(7, remove()), kept.act(7, remove())),
            (Ok(1), Ok(0)),
            "{}",
            kept.name()
        );
    });
}

#[test]
fn a_mark_is_written_once() {
    on_both(|kept, place| {
        let mark = |text: &str| {
            let (path, text) = (place.at("etc/mark"), text.to_owned());
            vec![Operation::Mark { path, owner: place.me, text }]
        };
        assert_eq!(kept.act(7, mark("first")), Ok(1), "{}", kept.name());
        assert_eq!(kept.act(7, mark("second")), Ok(0), "{}", kept.name());
        assert_eq!(kept.text(&place.at("etc/mark")).unwrap().trim(), "first", "{}", kept.name());
    });
}

#[test]
fn what_a_unit_must_read_again_is_remembered_until_it_restarts() {
    on_both(|kept, place| {
        // A rehearsal's units have no folder before them.
        let root = if kept.name() == "a rehearsal" { String::new() } else { place.at("") };
        let path = format!("{}/etc/systemd/system/{UNIT}", root.trim_end_matches('/'));
        let unit_file = File {
            path,
            owner: place.me,
            mode: 0o644,
            content: Content::text("[Service]\nExecStart=/bin/true\n"),
            restarts: None,
            reloads: false,
        };
        put(kept, &[unit_file.into()]);
        let unit = [Item::Unit(Unit { name: UNIT, port: None })];
        let facts = |kept: &dyn Kept| kept.look(&unit).found.units[UNIT].clone();
        assert!(!facts(kept).enabled, "{}", kept.name());
        let start = || vec![Operation::Enable(UNIT), Operation::Start(UNIT)];
        assert_eq!(kept.act(7, start()), Ok(2), "{}", kept.name());
        assert!(facts(kept).enabled, "{}", kept.name());
        assert_eq!(kept.act(7, start()), Ok(0), "{}: it runs", kept.name());
        // A file that it reads at its start alone.
        put(kept, &[place.file("etc/two.conf", "newer\n").into()]);
        assert!(facts(kept).pending, "{}", kept.name());
        assert_eq!(kept.act(7, start()), Ok(0), "{}", kept.name());
        assert!(facts(kept).pending, "{}: a start of what runs reads nothing", kept.name());
        assert_eq!(kept.act(7, vec![Operation::Restart(UNIT)]), Ok(1), "{}", kept.name());
        assert!(!facts(kept).pending, "{}", kept.name());
    });
}

#[test]
fn s11_an_older_run_is_refused_and_changes_nothing() {
    on_both(|kept, place| {
        let path = place.at("etc/two.conf");
        let text = |text: &str| vec![Operation::Put(place.file("etc/two.conf", text).into())];
        assert_eq!(kept.act(8, text("of the eighth\n")), Ok(1), "{}", kept.name());
        assert!(kept.act(7, text("of the seventh\n")).is_err(), "{}", kept.name());
        assert_eq!(kept.text(&path).as_deref(), Some("of the eighth\n"), "{}", kept.name());
        assert_eq!(kept.act(9, text("of the ninth\n")), Ok(1), "{}", kept.name());
        assert_eq!(kept.look(&[]).generation, 9, "{}", kept.name());
    });
}

#[test]
fn nothing_that_was_never_put_is_said_to_be_there() {
    on_both(|kept, place| {
        let seen = kept.look(&items(place));
        let Found { files, directories, users, pairs, .. } = seen.found;
        assert!(files.is_empty() && directories.is_empty() && pairs.is_empty(), "{}", kept.name());
        assert!(users.values().all(|there| !there), "{}", kept.name());
        assert!(!seen.acting && seen.generation == 0, "{}", kept.name());
    });
}
