//! A host that is a folder, with small stand-ins for what belongs to the whole machine, and an item of every kind.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use sha2::{Digest as _, Sha256};
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::HostHoldings;
use zoisite_core::item::{
    Absent, Block, Component, ComponentSums, Content, Differs, Directory, File, Image, Item,
    KeyText, Link, Module, NoSwap, OwnName, Package, Pair, Pinned, Pods, Routes, Rules, Sysctl,
    Unit, User, Workspace,
};
use zoisite_core::layout::RUNTIME_UNIT;
use zoisite_core::paths::Firewall;
use zoisite_core::pki::{KeyKind, KeyRequest, OwnKey, Profile, Secret, SecretRef};
use zoisite_core::script::{
    Depth, Observed, Operation, Reply, Stretch, keep_rules_script, observe, uninstall_script,
    upload_script,
};

pub const SHELLS: [&str; 2] = ["dash", "busybox"];
pub const UNIT: &str = "zoisite-heron.service";
pub const ARCHIVE: &[u8] = b"an archive of some length";

/// A host that is a folder of its own, gone with the test.
pub struct Host {
    pub folder: tempfile::TempDir,
    pub shell: &'static str,
    pub me: &'static str,
}

/// What is said of the machine's own programs; each stands in the host's `bin`.
pub const STAND_INS: [(&str, &str); 22] = [
    ("restorecon", "echo \"restorecon $*\" >>$H/asked"),
    ("chcon", "echo \"chcon $*\" >>$H/asked"),
    (
        "nft",
        "case $* in
  'list table inet gulls_hosts' | '-s list table inet gulls_hosts') cat $H/table 2>/dev/null ;;
  '-c -f '*) grep -q '^table' $3 ;;
  '-f '*) cp $2 $H/table ;;
  'delete table inet gulls_hosts') rm $H/table ;;
  *) exit 1 ;;
esac",
    ),
    // It says when, and does nothing by itself.
    ("systemd-run", "echo \"systemd-run $*\" >>$H/asked"),
    (
        "modprobe",
        "case $1 in
  --show-depends) echo \"insmod /lib/modules/x/$2.ko\" ;;
  -r) rmdir $H/sys/module/$2 ;;
  *) mkdir -p $H/sys/module/$1 ;;
esac",
    ),
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
    // Packages: a line each, of name, want and status. One brings another with it.
    (
        "dpkg-query",
        "case $3 in
  *held-package*) shift 3; for name; do
    while read -r known want status; do
      [ $known != $name ] || printf '@\\theld-package\\t%s\\t%s\\t%s\\t1.0\\n' $known $want $status
    done <$H/packages; done ;;
  *Package*) while read -r known want status; do echo $known $status; done <$H/packages ;;
  *) while read -r known want status; do [ $known != $4 ] || printf '%s %s' $want $status; done <$H/packages
    grep -q \"^$4 \" $H/packages ;;
esac",
    ),
    (
        "apt-get",
        "echo \"apt-get $*\" >>$H/asked
case $* in
  *update) touch $H/lists; exit 0 ;;
  '-s '*install*) [ -e $H/lists ] || { echo 'E: Unable to locate package'; exit 100; }
    cat $H/planned 2>/dev/null || printf 'Inst gull-libs (1.0 Debian)\\nInst gulls (1.0 Debian)\\n' ;;
  *install*) cp $H/cut $H/packages 2>/dev/null && exit 100
    printf 'gull-libs install installed\\ngulls install installed\\n' >>$H/packages ;;
esac",
    ),
    (
        "apt-mark",
        "case $1 in hold) was=install now=hold ;; *) was=hold now=install ;; esac
sed \"s/^$2 $was /$2 $now /\" $H/packages >$H/packages.new; mv $H/packages.new $H/packages",
    ),
    (
        "dpkg",
        "case $* in
  *configure*) printf 'gull-libs install installed\\ngulls install installed\\n' >$H/packages ;;
  *--purge*) [ ! -e $H/stands ] || [ $2 != gull-libs ] || { echo 'dpkg: dependency problems prevent removal'; exit 1; }
    grep -v \"^$2 \" $H/packages >$H/packages.new; mv $H/packages.new $H/packages ;;
esac",
    ),
    ("swapoff", "grep -v \"^$1 \" $H/proc/swaps >$H/swaps.new; cat $H/swaps.new >$H/proc/swaps; rm $H/swaps.new"),
    ("swapon", "echo \"$3 file 8 0 $2\" >>$H/proc/swaps"),
    ("umount", "exit 1"),
    ("hostname", "echo \"$1\" >$H/proc/sys/kernel/hostname"),
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
  enable) for unit in \"$@\"; do :; done; echo enabled >$H/systemd/$unit.boot ;;
  disable) rm -f $H/systemd/$2.boot ;;
  start | restart)
    for unit; do case $unit in -*) ;; *)
      if [ -e $H/systemd/$unit.fails ]; then echo failed >$H/systemd/$unit.state; exit 1; fi
      echo $yes >$H/systemd/$unit.state ;; esac; done ;;
  stop) [ \"$1\" != --no-block ] || shift; rm -f $H/systemd/$1.state ;;
  reload) [ ! -e $H/systemd/$1.bad ] || { echo 'Job failed'; exit 1; } ;;
  show)
    case $* in *--value) unit=$1; shift 2
      case $1 in ActiveState) state $unit ;; NRestarts) cat $H/systemd/$unit.restarts 2>/dev/null || echo 0 ;; Type) cat $H/systemd/$unit.type 2>/dev/null || echo notify ;; CanReload) cat $H/systemd/$unit.reloads 2>/dev/null || echo no ;; NeedDaemonReload) echo no ;; LoadState) echo loaded ;; SubState) echo dead ;; Result) echo exit-code ;; esac
      exit ;;
    esac
    for unit; do case $unit in -p) break ;; esac
      echo LoadState=loaded; echo ActiveState=$(state $unit); echo UnitFileState=$(boot $unit); echo
    done ;;
esac",
    ),
];

impl Host {
    pub fn new(shell: &'static str) -> Self {
        let me = Command::new("id").arg("-un").output().unwrap().stdout;
        let me = String::from_utf8(me).unwrap().trim().to_owned().leak();
        let host = Self { folder: tempfile::tempdir().unwrap(), shell, me };
        for folder in
            ["bin", "applets", "systemd", "proc/sys/net/ipv4", "proc/sys/kernel", "var/lib", "etc"]
        {
            std::fs::create_dir_all(host.path(folder)).unwrap();
        }
        for folder in ["etc", "var", "var/lib"] {
            host.mode(folder, 0o755);
        }
        for file in ["users", "images", "pinned", "asked", "routed", "packages"] {
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

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn at(&self, name: &str) -> String {
        self.path(name).to_str().unwrap().to_owned()
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap_or_default()
    }

    pub fn mode(&self, name: &str, mode: u32) {
        std::fs::set_permissions(self.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    }

    pub fn program(&self, name: &str, body: &str) {
        let body = format!("#!/bin/sh\numask 022\nH={}\n{body}\n", self.at(""));
        self.write(&format!("bin/{name}"), body);
        self.mode(&format!("bin/{name}"), 0o755);
    }

    /// Runs a script as a host would, asked in a language of its own; what it said, and whether it came to its
    /// end.
    pub fn run(&self, script: &str, input: &[u8], before: &str) -> (String, bool) {
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

    pub fn script(&self, operations: Vec<Operation>) -> String {
        let host = HostName::new("heron").unwrap();
        let key = |secret: &SecretRef| match secret {
            SecretRef::Certificate(serial) => Some(Secret::new(format!("key of {serial}\n"))),
            _ => None,
        };
        Stretch { host, operations }.script(7, KeyText::Opened(&key)).unwrap().expose().to_owned()
    }

    /// Carries out operations, which must come to their end.
    pub fn act(&self, operations: Vec<Operation>) -> String {
        let (said, over) = self.run(&self.script(operations), b"", "");
        assert!(over, "{}: {said}", self.shell);
        said
    }

    /// Puts items as a run would; how many changed something.
    pub fn put(&self, items: &[Item]) -> usize {
        self.try_to_put(items, "").unwrap_or_else(|said| panic!("{}: {said}", self.shell))
    }

    pub fn try_to_put(&self, items: &[Item], before: &str) -> Result<usize, String> {
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
            if matches!(item, Item::Rules(_)) {
                let script = keep_rules_script(&HostName::new("heron").unwrap(), 7);
                let (said, over) = self.run(&script, b"", before);
                if !over {
                    return Err(said);
                }
            }
            changed += said.lines().filter(|line| line.starts_with("@\tchanged")).count();
        }
        Ok(changed)
    }

    /// What is still to be sent: as much as the host says that it has is left out.
    pub fn rest_of(&self, component: &Component) -> &'static [u8] {
        let path = Path::new(&component.path);
        let name = format!("{}.zoisite-", path.file_name().unwrap().to_str().unwrap());
        let parts = path.parent().unwrap().read_dir().into_iter().flatten().flatten();
        let parts = parts.filter(|part| part.file_name().to_str().unwrap().starts_with(&name));
        let have = parts.map(|part| part.metadata().unwrap().len()).max().unwrap_or(0);
        &ARCHIVE[usize::try_from(have).unwrap()..]
    }

    pub fn look(&self, items: &[Item]) -> Observed {
        let mut all = HostHoldings::new(&HostName::new("heron").unwrap());
        all.items = items.to_vec();
        let (said, over) = self.run(&observe(&all, Depth::Deep), b"", "");
        assert!(over, "{}: {said}", self.shell);
        Observed::read(&said).unwrap()
    }

    /// In which ways items are not as wanted.
    pub fn differs(&self, items: &[Item]) -> Vec<(String, Differs)> {
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

    pub fn uninstall(&self) -> String {
        let host = HostName::new("heron").unwrap();
        let (said, over) = self.run(&uninstall_script(&host, 7), b"", "");
        assert!(over, "{}: {said}", self.shell);
        said
    }

    /// Everything that stands on the host, but for Zoisite's own notes and the stand-ins.
    pub fn tree(&self) -> BTreeMap<PathBuf, String> {
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
    pub fn is_as(&self, before: &BTreeMap<PathBuf, String>, what: &str) {
        let now = self.tree();
        let only = |one: &BTreeMap<PathBuf, String>, other: &BTreeMap<PathBuf, String>| {
            let differs = one.iter().filter(|(path, what)| other.get(*path) != Some(*what));
            differs.map(|(path, what)| format!("{} {what}", path.display())).collect::<Vec<_>>()
        };
        let (came, went) = (only(&now, before), only(before, &now));
        assert!(now == *before, "{}: {came:#?} in the place of {went:#?}: {what}", self.shell);
    }

    pub fn pending(&self) -> bool {
        self.path(&format!("var/lib/zoisite/pending/{UNIT}")).exists()
    }

    pub fn systemd(&self, what: &str, says: &str) {
        self.write(&format!("systemd/{UNIT}.{what}"), format!("{says}\n"));
    }

    pub fn started(&self) -> usize {
        self.read("asked").lines().filter(|line| line.starts_with("start ")).count()
    }

    pub fn file(&self, name: &str, text: &str) -> File {
        let (path, owner) = (self.at(name), self.me);
        File {
            path,
            owner,
            mode: 0o640,
            content: Content::text(text),
            restarts: Some(UNIT),
            reloads: false,
        }
    }

    pub fn pair(&self, serial: &str) -> Pair {
        Pair {
            path: self.at("etc/peer"),
            owner: self.me,
            serial: serial.into(),
            label: "the peer certificate of heron".into(),
            certificate: format!("certificate {serial}\n").into(),
            key_sha256: sum(format!("key of {serial}\n").as_bytes()),
            own_key: None,
            read_by: None,
        }
    }

    /// A pair whose key the host makes, of no certificate yet.
    pub fn own_pair(&self, kind: KeyKind) -> Pair {
        let own = OwnKey {
            profile: Profile::KubeletServing,
            kind,
            common_name: "system:node:tern-1".into(),
            organization: Some("system:nodes".into()),
            openssl: "/usr/bin/openssl".into(),
        };
        Pair { key_sha256: String::new(), own_key: Some(own), ..self.pair("none") }
    }

    /// What the host asks for keys that it makes; nothing where it has all of them.
    pub fn asks(&self, pair: &Pair) -> Vec<KeyRequest> {
        let operations = vec![Operation::Put(pair.clone().into())];
        let stretch = Stretch { host: HostName::new("heron").unwrap(), operations };
        let (said, over) = self.run(&stretch.key_script(7).unwrap(), b"", "");
        assert!(over, "{}: {said}", self.shell);
        let place = Profile::KubeletServing.place().unwrap().path();
        let mut reply = Reply::default();
        for line in said.replace(&pair.path, &place).lines() {
            reply.line(line);
        }
        reply.requests().to_vec()
    }

    pub fn directory(&self, name: &str) -> Item {
        Item::Directory(Directory { path: self.at(name), owner: self.me, mode: 0o750 })
    }

    /// Items of every kind, some where something stands already.
    pub fn items(&self) -> Vec<Item> {
        self.write("etc/site.conf", "the site's own\n");
        self.mode("etc/site.conf", 0o600);
        self.write("elsewhere", "what a link leads to\n");
        symlink(self.path("elsewhere"), self.path("etc/link.conf")).unwrap();
        std::fs::create_dir(self.path("etc/shared")).unwrap();
        self.mode("etc/shared", 0o2775);
        self.write("etc/forbidden.conf", "it would stand before ours\n");
        self.write("proc/sys/net/ipv4/ip_forward", "0\n");
        std::fs::create_dir_all(self.path("sys/module")).unwrap();
        std::fs::create_dir_all(self.path("etc/systemd/system")).unwrap();
        // The runtime is the distribution's own, and runs.
        self.write(&format!("systemd/{RUNTIME_UNIT}.boot"), "enabled\n");
        self.write(&format!("systemd/{RUNTIME_UNIT}.state"), "active\n");
        self.write("etc/hosts", "127.0.0.1 localhost\n10.0.0.1 gate # no end");
        self.write("etc/hostname", "debian\n");
        self.write("proc/sys/kernel/hostname", "debian\n");
        self.write("etc/fstab", "/dev/vda1 / ext4 defaults 0 1\n/dev/vda2 none swap sw 0 0\n");
        self.write("proc/swaps", "Filename Type Size Used Priority\n/dev/vda2 file 8 0 -2\n");
        self.write("lists", "");
        let archive = self.at("usr/lib/probe.tar");
        let still = |name: &str| -> &'static str { self.at(name).leak() };
        vec![
            Item::OwnName(OwnName { name: HostName::new("heron").unwrap() }),
            Item::Block(Block { path: still("etc/hosts"), text: "10.77.0.11 heron\n".into() }),
            Item::Link(Link { path: self.at("etc/localtime"), to: "/dev/null".into() }),
            Item::Package(Package { name: "gulls" }),
            Item::NoSwap(NoSwap),
            Item::Workspace(Workspace { path: still("var/lib/nests") }),
            Item::Pods(Pods),
            Item::User(User { name: "zoisite-heron", home: "/var/lib/heron".into() }),
            self.directory("etc/shared"),
            self.directory("etc/new/deep/folder"),
            self.file("etc/shared/odd name's $file.conf", "of ours\n").into(),
            self.file("etc/site.conf", "of ours\n").into(),
            self.file("etc/link.conf", "of ours\n").into(),
            self.pair("a1").into(),
            Item::Absent(Absent { path: self.at("etc/forbidden.conf") }),
            Item::Module(Module { name: "br_gull" }),
            Item::Sysctl(Sysctl { key: "net.ipv4.ip_forward", value: "1", optional: false }),
            Item::from(self.file("etc/routes", "route replace 10.90.1.0/24 via 10.77.0.102 proto 90\nroute replace fd90:1::/64 via fd77::102 proto 90\n")),
            Item::Routes(Routes { path: self.at("etc/routes") }),
            Item::Rules(Rules {
                words: Firewall::Nftables,
                table: "gulls_hosts".into(),
                text: "table inet gulls_hosts {\n}\n".into(),
            }),
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

    /// A note is lost.
    pub fn forget(&self, kind: &str) {
        let notes = self.read("var/lib/zoisite/notes");
        let left = notes.lines().filter(|line| !line.starts_with(&format!("{kind}\t")));
        self.write(
            "var/lib/zoisite/notes",
            left.map(|line| format!("{line}\n")).collect::<String>(),
        );
    }

    /// Somebody changes what an item of this kind put.
    pub fn drift(&self, item: &Item) {
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
            Item::Rules(_) => std::fs::remove_file(self.path("table")).unwrap(),
            Item::Module(_) => std::fs::remove_dir(self.path("sys/module/br_gull")).unwrap(),
            Item::Sysctl(_) => self.write("proc/sys/net/ipv4/ip_forward", "0\n"),
            Item::OwnName(_) => self.write("etc/hostname", "debian\n"),
            Item::Block(_) => {
                let text = self.read("etc/hosts").replace("10.77.0.11", "10.77.0.12");
                self.write("etc/hosts", text);
            }
            Item::Link(link) => std::fs::remove_file(&link.path).unwrap(),
            Item::Package(_) => {
                let text = self.read("packages").replace("gulls hold", "gulls install");
                self.write("packages", text);
            }
            Item::NoSwap(_) => self
                .write("proc/swaps", "Filename Type Size Used Priority\n/dev/vda2 file 8 0 -2\n"),
            // That they were noted is all there is to them.
            Item::Workspace(_) => self.forget("workspace"),
            Item::Pods(_) => self.forget("pods"),
            Item::Unit(_) => {
                std::fs::remove_file(self.path(&format!("systemd/{UNIT}.state"))).unwrap();
            }
        }
    }
}

pub fn sum(octets: &[u8]) -> String {
    Sha256::digest(octets).iter().map(|byte| format!("{byte:02x}")).collect()
}
