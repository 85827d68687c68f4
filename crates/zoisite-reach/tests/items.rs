//! The scripts that put items on hosts, look at them and take them back: they really run here, under dash and
//! under busybox with its own tools, in a scratch folder, as whoever runs the tests. What belongs to the whole
//! machine (users, units, the container runtime) has a small stand-in each.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::BTreeMap;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use sha2::{Digest as _, Sha256};
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::HostHoldings;
use zoisite_core::item::{
    Absent, Component, ComponentSums, Content, Differs, Directory, File, Image, Item, KeyText,
    Pair, Pinned, Routes, Sysctl, Unit, User,
};
use zoisite_core::layout::RUNTIME_UNIT;
use zoisite_core::pki::{Secret, SecretRef};
use zoisite_core::script::{
    Depth, Observed, Operation, Stretch, observe, take_back_script, upload_script,
};

const SHELLS: [&str; 2] = ["dash", "busybox"];
const UNIT: &str = "zoisite-heron.service";
const ARCHIVE: &[u8] = b"an archive of some length";

/// A host that is a folder of its own, gone with the test.
struct Host {
    folder: tempfile::TempDir,
    shell: &'static str,
    me: &'static str,
}

/// What is said of the machine's own programs; each stands in the host's `bin`.
const STAND_INS: [(&str, &str); 9] = [
    ("id", "grep -qxF \"$1\" $H/users"),
    ("useradd", "for last; do :; done; echo \"$last\" >>$H/users"),
    ("userdel", "grep -vxF \"$1\" $H/users >$H/users.new; mv $H/users.new $H/users"),
    // Nobody but root gives files away; every item here belongs to who runs the tests.
    ("chown", ":"),
    ("flock", "exit 0"),
    // One gateway is nowhere near.
    (
        "ip",
        "case $* in
  *'-4 route show'*) grep -v : $H/routed; exit 0 ;;
  *'-6 route show'*) grep : $H/routed; exit 0 ;;
  *flush*) : >$H/routed ;;
  *-batch*) for last; do :; done
    while read -r _ _ net _ gate _; do
      case $gate in 192.0.2.*) echo 'Nexthop has invalid gateway'; bad=1 ;;
        *) echo \"$net via $gate dev eth0\" >>$H/routed ;; esac
    done <\"$last\"; exit ${bad:-0} ;;
esac",
    ),
    ("journalctl", "echo 'no such bird'"),
    (
        "ctr",
        "case $* in
  *'ls -q labels'*) cat $H/pinned ;;
  *'ls -q') cat $H/images ;;
  *'images import '*) echo zoisite.local/probe:1 >>$H/images ;;
  *pinned=pinned) echo zoisite.local/probe:1 >>$H/pinned ;;
  *pinned=) : >$H/pinned ;;
  *'images rm '*) : >$H/images; : >$H/pinned ;;
esac",
    ),
    (
        "systemctl",
        "echo \"$*\" >>$H/asked
# Who is asked in another language answers in it.
case ${LC_ALL:-} in C) yes=active no=inactive ;; *) yes=aktiv no=untätig ;; esac
state() { cat $H/systemd/$1.state 2>/dev/null || echo $no; }
boot() { cat $H/systemd/$1.boot 2>/dev/null || echo disabled; }
command=$1; shift
case $command in
  is-enabled) [ \"$1\" != -q ] || shift; boot $1; [ \"$(boot $1)\" != disabled ] ;;
  is-active) [ \"$1\" != -q ] || shift; state $1; [ \"$(state $1)\" = active ] ;;
  enable) echo enabled >$H/systemd/$2.boot ;;
  disable) rm -f $H/systemd/$2.boot ;;
  start | restart)
    for unit; do case $unit in -*) ;; *)
      if [ -e $H/systemd/$unit.fails ]; then echo failed >$H/systemd/$unit.state; exit 1; fi
      echo $yes >$H/systemd/$unit.state ;; esac; done ;;
  stop) rm -f $H/systemd/$1.state ;;
  show)
    case $* in *--value) unit=$1; shift 2
      case $1 in ActiveState) state $unit ;; NRestarts) cat $H/systemd/$unit.restarts 2>/dev/null || echo 0 ;; Type) cat $H/systemd/$unit.type 2>/dev/null || echo notify ;; LoadState) echo loaded ;; SubState) echo dead ;; Result) echo exit-code ;; esac
      exit ;;
    esac
    for unit; do case $unit in -p) break ;; esac
      echo LoadState=loaded; echo ActiveState=$(state $unit); echo UnitFileState=$(boot $unit); echo
    done ;;
esac",
    ),
];

impl Host {
    fn new(shell: &'static str) -> Self {
        let me = Command::new("id").arg("-un").output().unwrap().stdout;
        let me = String::from_utf8(me).unwrap().trim().to_owned().leak();
        let host = Self { folder: tempfile::tempdir().unwrap(), shell, me };
        for folder in ["bin", "applets", "systemd", "proc/sys/net/ipv4", "var/lib", "etc"] {
            std::fs::create_dir_all(host.path(folder)).unwrap();
        }
        for folder in ["etc", "var", "var/lib"] {
            host.mode(folder, 0o755);
        }
        for file in ["users", "images", "pinned", "asked", "routed"] {
            host.write(file, "");
        }
        for (name, body) in STAND_INS {
            host.program(name, body);
        }
        if shell == "busybox" {
            let listed = Command::new("busybox").arg("--list").output().unwrap().stdout;
            for applet in String::from_utf8(listed).unwrap().lines() {
                symlink("/bin/busybox", host.path("applets").join(applet)).unwrap();
            }
        }
        host
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn at(&self, name: &str) -> String {
        self.path(name).to_str().unwrap().to_owned()
    }

    fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), text).unwrap();
    }

    fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap_or_default()
    }

    fn mode(&self, name: &str, mode: u32) {
        std::fs::set_permissions(self.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    }

    fn program(&self, name: &str, body: &str) {
        let body = format!("#!/bin/sh\numask 022\nH={}\n{body}\n", self.at(""));
        self.write(&format!("bin/{name}"), body);
        self.mode(&format!("bin/{name}"), 0o755);
    }

    /// Runs a script as a host would, asked in a language of its own; what it said, and whether it came to its
    /// end.
    fn run(&self, script: &str, input: &[u8], before: &str) -> (String, bool) {
        let script = script.replacen("\nroot=\n", &format!("\nroot={}\n", self.at("")), 1);
        assert!(script.contains(&self.at("")), "nothing of the machine's own may be touched");
        let tools = match self.shell {
            "busybox" => self.at("applets"),
            _ => "/usr/bin:/bin".into(),
        };
        let mut command = Command::new(format!("/bin/{}", self.shell));
        if self.shell == "busybox" {
            command.arg("sh");
        }
        let mut child = command
            .arg("-c")
            .arg(format!("{before}\n{script}"))
            .env_clear()
            .env("PATH", format!("{}:{tools}", self.at("bin")))
            .env("LC_ALL", "de_DE.UTF-8")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let _ = child.stdin.take().unwrap().write_all(input);
        let done = child.wait_with_output().unwrap();
        let mut said = String::from_utf8_lossy(&done.stdout).into_owned();
        let over = said.lines().any(|line| line == "@\tend");
        said.push_str(&String::from_utf8_lossy(&done.stderr));
        (said, over)
    }

    fn script(&self, operations: Vec<Operation>) -> String {
        let host = HostName::new("heron").unwrap();
        let key = |secret: &SecretRef| match secret {
            SecretRef::Certificate(serial) => Some(Secret::new(format!("key of {serial}\n"))),
            _ => None,
        };
        Stretch { host, operations }.script(7, KeyText::Opened(&key)).unwrap().expose().to_owned()
    }

    /// Carries out operations, which must come to their end.
    fn act(&self, operations: Vec<Operation>) -> String {
        let (said, over) = self.run(&self.script(operations), b"", "");
        assert!(over, "{}: {said}", self.shell);
        said
    }

    /// Puts items as a run would; how many changed something.
    fn put(&self, items: &[Item]) -> usize {
        self.try_to_put(items, "").unwrap_or_else(|said| panic!("{}: {said}", self.shell))
    }

    fn try_to_put(&self, items: &[Item], before: &str) -> Result<usize, String> {
        let mut changed = 0;
        for item in items {
            let (script, input): (String, &[u8]) = match item {
                Item::Component(component) => {
                    let host = HostName::new("heron").unwrap();
                    let what = (sum(ARCHIVE), ARCHIVE.len() as u64);
                    (
                        upload_script(&host, component, (&what.0, what.1), 7, None),
                        self.rest_of(component),
                    )
                }
                Item::Unit(unit) => {
                    let operations =
                        vec![Operation::Enable(unit.name), Operation::Start(unit.name)];
                    (self.script(operations), b"")
                }
                item => (self.script(vec![Operation::Put(item.clone())]), b""),
            };
            let (said, over) = self.run(&script, input, before);
            if !over {
                return Err(said);
            }
            changed += said.lines().filter(|line| line.starts_with("@\tchanged")).count();
        }
        Ok(changed)
    }

    /// What is still to be sent: as much as the host says that it has is left out.
    fn rest_of(&self, component: &Component) -> &'static [u8] {
        let path = Path::new(&component.path);
        let name = format!("{}.zoisite-", path.file_name().unwrap().to_str().unwrap());
        let parts = path.parent().unwrap().read_dir().into_iter().flatten().flatten();
        let parts = parts.filter(|part| part.file_name().to_str().unwrap().starts_with(&name));
        let have = parts.map(|part| part.metadata().unwrap().len()).max().unwrap_or(0);
        &ARCHIVE[usize::try_from(have).unwrap()..]
    }

    fn look(&self, items: &[Item]) -> Observed {
        let mut all = HostHoldings::new(&HostName::new("heron").unwrap());
        all.items = items.to_vec();
        let (said, over) = self.run(&observe(&all, Depth::Deep), b"", "");
        assert!(over, "{}: {said}", self.shell);
        Observed::read(&said).unwrap()
    }

    /// In which ways items are not as they must be.
    fn differs(&self, items: &[Item]) -> Vec<(String, Differs)> {
        let seen = self.look(items);
        let mut sums = ComponentSums::default();
        for component in items.iter().filter_map(|item| match item {
            Item::Component(component) => Some(component),
            _ => None,
        }) {
            sums.insert(component.pinned.path(&seen.arch), sum(ARCHIVE));
        }
        let seen = seen.seen(&sums);
        items
            .iter()
            .flat_map(|item| item.differs(seen).into_iter().map(|how| (item.title(), how)))
            .collect()
    }

    fn take_back(&self) -> String {
        let host = HostName::new("heron").unwrap();
        let (said, over) = self.run(&take_back_script(&host, 7), b"", "");
        assert!(over, "{}: {said}", self.shell);
        said
    }

    /// Everything that stands on the host, but for Zoisite's own notes and the stand-ins.
    fn tree(&self) -> BTreeMap<PathBuf, String> {
        let mut out = BTreeMap::new();
        let mut folders = vec![self.folder.path().to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                let name = path.strip_prefix(self.folder.path()).unwrap().to_owned();
                let own = ["bin", "applets", "asked", "var/lib/zoisite"];
                if own.iter().any(|own| Path::new(own) == name) {
                    continue;
                }
                let facts = path.symlink_metadata().unwrap();
                let what = if facts.is_dir() {
                    folders.push(path);
                    "directory".to_owned()
                } else if facts.is_symlink() {
                    std::fs::read_link(path).unwrap().display().to_string()
                } else {
                    sum(&std::fs::read(path).unwrap())
                };
                let mode = if facts.is_symlink() { 0 } else { facts.mode() & 0o7777 };
                out.insert(name, format!("{what} {mode:o} {}", facts.uid()));
            }
        }
        out
    }

    /// The tree is what it was.
    fn is_as(&self, before: &BTreeMap<PathBuf, String>, what: &str) {
        let now = self.tree();
        let only = |one: &BTreeMap<PathBuf, String>, other: &BTreeMap<PathBuf, String>| {
            let differs = one.iter().filter(|(path, what)| other.get(*path) != Some(*what));
            differs.map(|(path, what)| format!("{} {what}", path.display())).collect::<Vec<_>>()
        };
        let (came, went) = (only(&now, before), only(before, &now));
        assert!(now == *before, "{}: {came:#?} in the place of {went:#?}: {what}", self.shell);
    }

    fn pending(&self) -> bool {
        self.path(&format!("var/lib/zoisite/pending/{UNIT}")).exists()
    }

    fn systemd(&self, what: &str, says: &str) {
        self.write(&format!("systemd/{UNIT}.{what}"), format!("{says}\n"));
    }

    fn started(&self) -> usize {
        self.read("asked").lines().filter(|line| line.starts_with("start ")).count()
    }

    fn file(&self, name: &str, text: &str) -> File {
        let (path, owner) = (self.at(name), self.me);
        File { path, owner, mode: 0o640, content: Content::text(text), restarts: Some(UNIT) }
    }

    fn pair(&self, serial: &str) -> Pair {
        Pair {
            path: self.at("etc/peer"),
            owner: self.me,
            serial: serial.into(),
            label: "the peer certificate of heron".into(),
            certificate: format!("certificate {serial}\n").into(),
            key_sha256: sum(format!("key of {serial}\n").as_bytes()),
        }
    }

    fn directory(&self, name: &str) -> Item {
        Item::Directory(Directory { path: self.at(name), owner: self.me, mode: 0o750 })
    }

    /// Items of every kind, some where something stands already.
    fn items(&self) -> Vec<Item> {
        self.write("etc/site.conf", "the site's own\n");
        self.mode("etc/site.conf", 0o600);
        self.write("elsewhere", "what a link leads to\n");
        symlink(self.path("elsewhere"), self.path("etc/link.conf")).unwrap();
        std::fs::create_dir(self.path("etc/shared")).unwrap();
        self.mode("etc/shared", 0o2775);
        self.write("etc/forbidden.conf", "it would stand before ours\n");
        self.write("proc/sys/net/ipv4/ip_forward", "0\n");
        // The runtime is the distribution's own, and runs.
        self.write(&format!("systemd/{RUNTIME_UNIT}.boot"), "enabled\n");
        self.write(&format!("systemd/{RUNTIME_UNIT}.state"), "active\n");
        let archive = self.at("usr/lib/probe.tar");
        vec![
            Item::User(User { name: "zoisite-heron", home: "/var/lib/heron".into() }),
            self.directory("etc/shared"),
            self.directory("etc/new/deep/folder"),
            self.file("etc/shared/odd name's $file.conf", "of ours\n").into(),
            self.file("etc/site.conf", "of ours\n").into(),
            self.file("etc/link.conf", "of ours\n").into(),
            self.pair("a1").into(),
            Item::Absent(Absent { path: self.at("etc/forbidden.conf") }),
            Item::Sysctl(Sysctl { key: "net.ipv4.ip_forward", value: "1" }),
            Item::from(self.file("etc/routes", "route replace 10.90.1.0/24 via 10.77.0.102 proto 90\nroute replace fd90:1::/64 via fd77::102 proto 90\n")),
            Item::Routes(Routes { path: self.at("etc/routes") }),
            Item::Component(Component {
                path: archive.clone(),
                pinned: Pinned { name: "images", version: "1".into(), file: "probe.tar" },
                restarts: None,
            }),
            Item::Image(Image { name: "zoisite.local/probe:1".into(), archive }),
            Item::Unit(Unit { name: UNIT, port: None }),
            Item::Unit(Unit { name: RUNTIME_UNIT, port: None }),
        ]
    }

    /// Somebody changes what an item of this kind put.
    fn drift(&self, item: &Item) {
        match item {
            Item::User(_) => self.write("users", ""),
            Item::Directory(directory) => {
                std::fs::set_permissions(&directory.path, std::fs::Permissions::from_mode(0o700))
                    .unwrap();
            }
            Item::File(file) => std::fs::write(&file.path, "somebody's\n").unwrap(),
            Item::Pair(pair) => std::fs::write(pair.key_path(), "another's\n").unwrap(),
            Item::Component(component) => std::fs::write(&component.path, "torn").unwrap(),
            Item::Absent(absent) => std::fs::write(&absent.path, "it is back\n").unwrap(),
            Item::Image(_) => self.write("pinned", ""),
            Item::Routes(_) => self.write("routed", "10.90.1.0/24 via 10.77.0.102 dev eth0\n"),
            Item::Sysctl(_) => self.write("proc/sys/net/ipv4/ip_forward", "0\n"),
            Item::Unit(_) => {
                std::fs::remove_file(self.path(&format!("systemd/{UNIT}.state"))).unwrap();
            }
        }
    }
}

fn sum(octets: &[u8]) -> String {
    Sha256::digest(octets).iter().map(|byte| format!("{byte:02x}")).collect()
}

#[test]
fn every_kind_is_put_drifts_is_put_again_and_taken_back() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let items = host.items();
        let kinds: std::collections::BTreeSet<_> =
            items.iter().map(|item| format!("{:?}", std::mem::discriminant(item))).collect();
        assert_eq!(kinds.len(), Item::KINDS.len(), "one of every kind: {:?}", Item::KINDS);
        let before = host.tree();
        // The unit differs in two ways; the runtime does not, nor routes of a file that is not there.
        assert_eq!(host.differs(&items).len(), items.len() - 1);
        assert_eq!(host.put(&items), items.len());
        assert_eq!(host.differs(&items), [], "{shell}");
        // (A component is brought only where it differs.)
        let again: Vec<Item> =
            items.iter().filter(|item| !matches!(item, Item::Component(_))).cloned().collect();
        assert_eq!(host.put(&again), 0, "{shell}: put again, nothing changes");
        for item in &items[..items.len() - 1] {
            host.drift(item);
            let differs = host.differs(&items);
            assert_eq!(differs.len(), 1, "{shell}: {}: {differs:?}", item.title());
            assert_eq!(differs[0].0, item.title());
            assert_eq!(host.put(std::slice::from_ref(item)), 1, "{shell}: {}", item.title());
            if host.pending() {
                assert_eq!(item.restarts(), Some(UNIT), "{shell}");
                host.act(vec![Operation::Restart(UNIT)]);
            }
            assert_eq!(host.differs(&items), [], "{shell}: {}", item.title());
        }
        assert_ne!(host.tree(), before);
        let said = host.take_back();
        host.is_as(&before, &said);
        assert!(!host.take_back().contains("changed"), "{shell}: nothing is left to take back");
        host.is_as(&before, "once more");
    }
}

#[test]
fn killed_at_any_write_it_goes_on_and_is_taken_back_whole() {
    for shell in SHELLS {
        // Every step ends with a sync: the shell is killed at one of them, an earlier one each time.
        for at in [23, 17, 13, 10, 8, 7, 6, 5, 4, 3, 2, 1] {
            let host = Host::new(shell);
            let items = host.items();
            let before = host.tree();
            host.program(
                "sync",
                &format!("echo >>$H/syncs; [ $(wc -l <$H/syncs) -ne {at} ] || kill -9 $PPID"),
            );
            let killed = host.try_to_put(&items, "");
            assert!(killed.is_err() || at > 20, "{shell}: it was killed at {at}");
            std::fs::remove_file(host.path("bin/sync")).unwrap();
            host.put(&items);
            assert_eq!(host.differs(&items), [], "{shell}, killed at {at}");
            // And in the midst of taking back.
            host.program(
                "sync",
                &format!("echo >>$H/syncs; [ $(wc -l <$H/syncs) -ne {} ] || kill -9 $PPID", at + 3),
            );
            host.write("syncs", "");
            let name = HostName::new("heron").unwrap();
            let _ = host.run(&take_back_script(&name, 7), b"", "");
            std::fs::remove_file(host.path("bin/sync")).unwrap();
            host.take_back();
            std::fs::remove_file(host.path("syncs")).unwrap();
            host.is_as(&before, &format!("killed at {at}"));
        }
    }
}

#[test]
fn a_full_disk_changes_nothing_and_is_told() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("etc/site.conf", "the site's own\n");
        let text = "a long line of text\n".repeat(500);
        let before = host.tree();
        let item = Item::from(host.file("etc/site.conf", &text));
        let said = host.try_to_put(std::slice::from_ref(&item), "ulimit -f 2").unwrap_err();
        assert!(said.contains("@\tfailed\t1\twriting"), "{shell}: {said}");
        host.is_as(&before, &said);
        host.put(&[item]);
        assert_eq!(host.read("etc/site.conf"), text);
    }
}

#[test]
fn a_planted_link_is_not_followed_and_a_folder_is_not_filled() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("victim", "of somebody\n");
        symlink(host.path("victim"), host.path("etc/site.conf.zoisite-new")).unwrap();
        std::fs::create_dir(host.path("folder")).unwrap();
        symlink(host.path("folder"), host.path("etc/led.conf")).unwrap();
        host.put(&[
            host.file("etc/site.conf", "of ours\n").into(),
            host.file("etc/led.conf", "of ours\n").into(),
        ]);
        assert_eq!(host.read("victim"), "of somebody\n", "{shell}");
        assert!(host.path("folder").read_dir().unwrap().next().is_none(), "{shell}");
        assert_eq!(host.read("etc/led.conf"), "of ours\n", "{shell}");
        let said = host.try_to_put(&[host.file("folder", "of ours\n").into()], "").unwrap_err();
        assert!(said.contains("a directory stands there"), "{shell}: {said}");
    }
}

#[test]
fn owner_and_mode_alone_leave_no_mark_and_content_leaves_one() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let file = host.file("etc/site.conf", "of ours\n");
        host.put(&[file.clone().into()]);
        assert!(host.pending(), "{shell}");
        std::fs::remove_file(host.path(&format!("var/lib/zoisite/pending/{UNIT}"))).unwrap();
        host.mode("etc/site.conf", 0o600);
        assert_eq!(host.put(&[file.clone().into()]), 1, "{shell}");
        assert_eq!(host.path("etc/site.conf").metadata().unwrap().mode() & 0o777, 0o640);
        assert!(!host.pending(), "{shell}: nothing has to restart for it");
    }
}

#[test]
fn a_mark_outlives_every_start_that_does_not_bring_the_new_files_in() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let start = || host.act(vec![Operation::Start(UNIT)]);
        // It runs by now, with older files: only a restart, when its turn comes, brings them in.
        host.systemd("state", "active");
        host.put(&[host.file("etc/site.conf", "of ours\n").into()]);
        let _ = start();
        assert!(host.pending(), "{shell}");
        // systemd starts it over and over, and calls it active each time for a moment.
        host.systemd("type", "simple");
        host.systemd("restarts", "4");
        let _ = start();
        assert!(!host.pending(), "{shell}");
        host.systemd("type", "notify");
        host.put(&[host.file("etc/site.conf", "of ours again\n").into()]);
        let _ = start();
        assert!(host.pending(), "{shell}: this one is ready when it is called so");
        // It is on its way with older files: nobody depends on it yet.
        host.systemd("state", "activating");
        let _ = start();
        assert!(host.read("asked").contains("restart zoisite-heron.service"), "{shell}");
        assert!(!host.pending(), "{shell}");
    }
}

#[test]
fn what_fails_at_once_is_not_started_over_and_over() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.systemd("fails", "");
        let wait = vec![Operation::Settle { unit: UNIT, port: None, seconds: 60 }];
        let (said, over) = host.run(&host.script(wait), b"", "");
        assert!(!over && said.contains("it failed 3 times"), "{shell}: {said}");
        assert!(said.contains("no such bird"), "{shell}: its log is evidence: {said}");
        assert_eq!(host.started(), 3, "{shell}");
    }
}

#[test]
fn links_set_group_id_and_units_without_a_say_converge() {
    for shell in SHELLS {
        let host = Host::new(shell);
        // A site keeps its data elsewhere: root's own link, below a folder that hands its group on.
        std::fs::create_dir_all(host.path("disk/kubelet")).unwrap();
        symlink(host.path("disk/kubelet"), host.path("var/lib/kubelet")).unwrap();
        std::fs::create_dir(host.path("etc/handed")).unwrap();
        host.mode("etc/handed", 0o2755);
        host.program(
            "stat",
            "case $1$2 in -c%U) echo root ;; *) PATH=${PATH#*:} exec stat \"$@\" ;; esac",
        );
        host.systemd("boot", "static");
        let items = [
            host.directory("var/lib/kubelet"),
            host.directory("etc/handed/on"),
            Item::Unit(Unit { name: UNIT, port: None }),
        ];
        host.put(&items);
        assert_eq!(host.differs(&items), [], "{shell}");
        assert_eq!(host.put(&items), 0, "{shell}");
        assert!(host.path("var/lib/kubelet").is_symlink(), "{shell}");
        assert!(!host.read("asked").contains("\nenable"), "{shell}: it has no say in it");
    }
}

#[test]
fn the_list_of_earlier_versions_is_read() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let (site, own) = (host.at("etc/site.conf"), host.at("etc/own.conf"));
        host.write("etc/site.conf", "of ours\n");
        host.write("etc/own.conf", "of ours\n");
        let state = "var/lib/zoisite";
        std::fs::create_dir_all(host.path(&format!("{state}/replaced"))).unwrap();
        host.write(&format!("{state}/replaced/{}", site.replace('/', "_")), "the site's own\n");
        host.write(&format!("{state}/manifest"), format!("file {site}\nfile {own}\n"));
        host.act(Vec::new());
        assert!(!host.path(&format!("{state}/manifest")).exists(), "{shell}");
        host.take_back();
        assert_eq!(host.read("etc/site.conf"), "the site's own\n", "{shell}");
        assert!(!host.path("etc/own.conf").exists(), "{shell}");
    }
}

#[test]
fn a_unit_that_systemd_calls_active_at_once_is_waited_for_at_its_port() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.systemd("state", "active");
        std::fs::create_dir_all(host.path("proc/net")).unwrap();
        let listed = |state: &str| format!("  0: 00000000:2811 00000000:0000 {state} 0\n");
        let wait = |seconds| {
            let settle = Operation::Settle { unit: UNIT, port: Some(0x2811), seconds };
            host.run(&host.script(vec![settle]), b"", "")
        };
        // Nothing listens; another's connection from that port is no listener.
        host.write("proc/net/tcp", listed("01"));
        let (said, over) = wait(1);
        assert!(!over && said.contains("not ready after 1 seconds"), "{shell}: {said}");
        host.write("proc/net/tcp6", listed("0A"));
        let (said, over) = wait(60);
        assert!(over, "{shell}: {said}");
    }
}

#[test]
fn a_pair_goes_in_as_one_and_halves_that_do_not_match_are_a_difference() {
    for shell in SHELLS {
        let host = Host::new(shell);
        // Carried there by hand: a folder, of which nobody wrote down who put it.
        std::fs::create_dir(host.path("etc/peer")).unwrap();
        host.write("etc/peer/tls.crt", "certificate a0\n");
        host.write("etc/peer/tls.key", "key of a0\n");
        let (old, new) = (Item::from(host.pair("a1")), Item::from(host.pair("a2")));
        host.put(std::slice::from_ref(&old));
        assert_eq!(host.differs(std::slice::from_ref(&old)), [], "{shell}");
        // Whoever reads while it is replaced reads two halves of one pair.
        host.program(
            "mv",
            "PATH=${PATH#*:} mv \"$@\"; cat $H/etc/peer/tls.crt $H/etc/peer/tls.key >>$H/read 2>/dev/null || :",
        );
        host.put(std::slice::from_ref(&new));
        let read = host.read("read");
        let lines: Vec<&str> = read.lines().collect();
        assert!(lines.len() >= 4, "{shell}: {read}");
        for halves in lines.chunks(2) {
            let serial = halves[0].strip_prefix("certificate ").unwrap();
            assert_eq!(halves[1], format!("key of {serial}"), "{shell}: {read}");
        }
        assert_eq!(host.differs(std::slice::from_ref(&new)), [], "{shell}");
        assert!(!host.path("etc/peer-a1").exists(), "{shell}: no old key is left");
        std::fs::copy(host.path("etc/peer/tls.crt"), host.path("etc/peer/tls.key")).unwrap();
        let differs = host.differs(std::slice::from_ref(&new));
        assert_eq!(differs, [(new.title(), Differs::Content)], "{shell}");
        assert_eq!(host.put(std::slice::from_ref(&new)), 1);
        assert_eq!(host.differs(&[new]), [], "{shell}");
    }
}

#[test]
fn a_node_out_of_reach_takes_no_route_to_another_away() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let lines = "route replace 10.90.7.0/24 via 192.0.2.7 proto 90\nroute replace 10.90.8.0/24 via 10.77.0.108 proto 90\n";
        let (file, routes) =
            (host.file("etc/routes", lines).into(), Routes { path: host.at("etc/routes") }.into());
        host.put(&[file]);
        let said = host.try_to_put(std::slice::from_ref(&routes), "").unwrap_err();
        assert!(said.contains("Nexthop has invalid gateway"), "{shell}: {said}");
        assert!(host.read("routed").contains("10.90.8.0/24"), "{shell}: the other one is set");
        let lacks = Differs::NotSet("10.90.7.0/24 via 192.0.2.7".into());
        assert_eq!(host.differs(std::slice::from_ref(&routes)), [(routes.title(), lacks)]);
    }
}

#[test]
fn each_file_that_is_kept_has_a_number_of_its_own() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("etc/one.conf", "the first\n");
        host.write("etc/two.conf", "the second\n");
        let items = ["etc/one.conf", "etc/two.conf"].map(|name| host.file(name, "ours\n").into());
        host.put(&items);
        host.take_back();
        assert_eq!(host.read("etc/one.conf"), "the first\n", "{shell}");
        assert_eq!(host.read("etc/two.conf"), "the second\n", "{shell}");
    }
}
