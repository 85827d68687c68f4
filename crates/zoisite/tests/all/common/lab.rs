//! Real systemd hosts on this machine, by the scripts in `lab/`. One lab at a time.

use std::io::{BufRead as _, Seek as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use super::served::sha256;
use super::waits::{BETWEEN_LOOKS, late, within};
use super::{Done, Place};

pub const MEMBERS: [&str; 3] = ["heron", "egret", "ibis"];

pub fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// Runs one of the lab's scripts; what it prints.
pub fn lab(script: &str, args: &[&str]) -> String {
    lab_given(script, args, &[])
}

/// Where the lab's scripts keep what is built once, and kept labs.
fn cache() -> PathBuf {
    std::env::var_os("ZOISITE_CACHE").map_or("/var/cache/zoisite-lab".into(), PathBuf::from)
}

fn one_at_a_time() -> MutexGuard<'static, ()> {
    static ONE: Mutex<()> = Mutex::new(());
    ONE.lock().unwrap_or_else(PoisonError::into_inner)
}

pub fn lab_given(script: &str, args: &[&str], variables: &[(&str, &str)]) -> String {
    let done = Done::of(
        Command::new(project().join("lab").join(script))
            .args(args)
            .envs(variables.iter().copied())
            .env("ZOISITE", env!("CARGO_BIN_EXE_zoisite")),
    )
    .ended(0);
    done.stdout.trim().to_owned()
}

/// Hosts of a cluster file of the lab, and the file.
pub struct Lab {
    pub place: Place,
    pub folder: PathBuf,
    /// Only this part of the cluster is raised and looked at.
    part: Option<&'static str>,
    hosts: usize,
    after: After,
    _one: Option<MutexGuard<'static, ()>>,
}

/// What becomes of the hosts when the test has passed.
enum After {
    /// They are taken away.
    Down,
    /// The next scene goes on with them.
    GiveBack(Shared),
    /// Whoever made them looks after them.
    Nothing,
}

/// A cluster that is raised once, and on which scenes run one after another.
pub struct Standing {
    /// Its name, which is that of its file.
    pub cluster: &'static str,
    pub hosts: usize,
    /// Whether it is kept, and each test that does not get it from another one gets a clone. Where most tests give it back
    /// and it is large, raising it again is cheaper.
    pub kept: bool,
    /// How it is raised; nothing is left to do afterwards.
    pub raise: fn(&Lab),
}

/// What a scene gives back of a cluster that others run on.
struct Shared {
    /// Says that the cluster is as it was, and which one it is.
    mark: PathBuf,
    kept: String,
    file: String,
}

/// What raises a cluster: the program, the cluster files and scripts of the lab. A kept cluster is of one of them alone.
fn checksum_of_what_raises() -> String {
    let mut files = vec![PathBuf::from(env!("CARGO_BIN_EXE_zoisite"))];
    for folder in ["lab", "lab/clusters"] {
        let entries = std::fs::read_dir(project().join(folder)).unwrap();
        files.extend(entries.map(|entry| entry.unwrap().path()).filter(|path| path.is_file()));
    }
    files.sort();
    let sums = Done::of(Command::new("sha256sum").args(files)).ended(0).stdout;
    sha256(sums.as_bytes())[..16].to_owned()
}

fn file_of(cluster: &str) -> PathBuf {
    project().join(format!("lab/clusters/{cluster}.toml"))
}

/// How etcdctl is called on a host, with its health client's certificate.
pub fn etcdctl_on(host: &str) -> String {
    let address = format!("10.77.0.{}", 11 + MEMBERS.iter().position(|m| *m == host).unwrap());
    format!(
        "/usr/local/lib/zoisite/etcd-*/etcdctl --endpoints https://{address}:2379 \
         --cacert /etc/zoisite/etcd/client-authority.crt --cert /etc/zoisite/etcd/probe/tls.crt \
         --key /etc/zoisite/etcd/probe/tls.key --command-timeout 20s"
    )
}

impl Lab {
    /// Three hosts, and of the cluster only the quorum.
    pub fn fresh() -> Self {
        Self::of("compact", Some("etcd"), 3)
    }

    /// The hosts of a cluster file of the lab, switched on and bare.
    pub fn of(cluster: &str, part: Option<&'static str>, hosts: usize) -> Self {
        Self::of_suites(cluster, part, hosts, "")
    }

    /// The same, on which a cluster's programs lie already: where bringing them is not what is looked at.
    pub fn with_programs(cluster: &str, hosts: usize) -> Self {
        Self::given(cluster, None, hosts, &[("ZOISITE_LAB_PROGRAMS", "yes")])
    }

    /// The same, some of them with another release of Debian: `tern-3=bookworm`.
    pub fn of_suites(
        cluster: &str,
        part: Option<&'static str>,
        hosts: usize,
        suites: &str,
    ) -> Self {
        Self::given(cluster, part, hosts, &[("ZOISITE_LAB_SUITES", suites)])
    }

    /// Hosts on which nothing is installed yet, and a server of packages that they can reach.
    pub fn of_bare(cluster: &str, hosts: usize, suites: &str) -> Self {
        let variables = [("ZOISITE_LAB_SUITES", suites), ("ZOISITE_LAB_BARE", "*")];
        let made = Self::given(cluster, None, hosts, &variables);
        lab("mirror", &["start"]);
        made
    }

    /// Hosts of which those were never booted and wait for their first-boot data.
    pub fn of_seeded(cluster: &str, hosts: usize, seeded: &str) -> Self {
        Self::given(cluster, None, hosts, &[("ZOISITE_LAB_SEEDED", seeded)])
    }

    fn given(
        cluster: &str,
        part: Option<&'static str>,
        hosts: usize,
        variables: &[(&str, &str)],
    ) -> Self {
        let one = one_at_a_time();
        lab("down", &[]);
        let file = file_of(cluster);
        lab_given("up", &[file.to_str().unwrap()], variables);
        let place = Place::new();
        place.write("zoisite.toml", std::fs::read(&file).unwrap());
        Self::in_place(place, (part, hosts), After::Down, Some(one))
    }

    fn in_place(
        place: Place,
        (part, hosts): (Option<&'static str>, usize),
        after: After,
        one: Option<MutexGuard<'static, ()>>,
    ) -> Self {
        if !place.path("components").exists() {
            let components = lab("components/build", &[]);
            std::os::unix::fs::symlink(components, place.path("components")).unwrap();
        }
        Self { place, folder: lab("where", &[]).into(), part, hosts, after, _one: one }
    }

    /// A cluster that scenes share, with nothing to do: the one that the scene before gave back, else another one.
    pub fn standing(cluster: &'static Standing) -> Self {
        let one = one_at_a_time();
        let folder = PathBuf::from(lab("where", &[])).join("scene");
        let mark = folder.join("as-it-was");
        let kept = format!("{}-{}", cluster.cluster, checksum_of_what_raises());
        let given_back = std::fs::read_to_string(&mark).is_ok_and(|name| name == kept);
        // However this scene ends: only what it gives back is taken again.
        let _ = std::fs::remove_file(&mark);
        if !given_back {
            lab("down", &[]);
            match cluster.kept {
                true => Self::clone_of(cluster, &kept),
                false => Self::raise(cluster),
            }
        }
        let place = Place::at(folder.join("place"));
        let file = place.read("zoisite.toml");
        let shared = After::GiveBack(Shared { mark, kept, file });
        let lab = Self::in_place(place, (None, cluster.hosts), shared, Some(one));
        lab.until_well();
        lab
    }

    /// A clone of the kept one; where none is kept, it is raised and kept first.
    fn clone_of(cluster: &Standing, kept: &str) {
        {
            // Another lane may be raising the same one.
            let lock = std::fs::File::create(cache().join(format!(".{kept}.lock"))).unwrap();
            lock.lock().unwrap();
            if !cache().join("kept").join(kept).exists() {
                Self::raise(cluster);
                let file = file_of(cluster.cluster);
                let place = PathBuf::from(lab("where", &[])).join("scene/place");
                lab("keep", &[kept, file.to_str().unwrap(), place.to_str().unwrap()]);
            }
        }
        lab("up", &["--from", kept]);
    }

    fn raise(cluster: &Standing) {
        let file = file_of(cluster.cluster);
        lab_given("up", &[file.to_str().unwrap()], &[("ZOISITE_LAB_PROGRAMS", "yes")]);
        let place = Place::at(PathBuf::from(lab("where", &[])).join("scene/place"));
        place.write("zoisite.toml", std::fs::read(&file).unwrap());
        let raised = Self::in_place(place, (None, cluster.hosts), After::Nothing, None);
        (cluster.raise)(&raised);
    }

    /// The next scene gets the cluster as this one got it.
    fn give_back(&self, shared: &Shared) {
        assert_eq!(self.place.read("zoisite.toml"), shared.file, "the file is as it was");
        self.until_well();
        let _ = self.zoisite(&["sequence"]).ended(0).says("nothing differs");
        std::fs::write(&shared.mark, &shared.kept).unwrap();
    }

    pub fn raised() -> Self {
        let lab = Self::fresh();
        let _ = lab.zoisite(&["raise"]).ended(0);
        lab
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = self.place.command();
        command.args(args);
        if let (Some(part), ["raise" | "status" | "sequence", ..]) = (self.part, args) {
            command.args(["--part", part]);
        }
        command.env("ZOISITE_SSH_CONFIG", self.folder.join("ssh_config"));
        command
    }

    pub fn zoisite(&self, args: &[&str]) -> Done {
        Done::of(&mut self.command(args))
    }

    /// The same at another time: the clock of the program alone is so far off, as faketime(1) reads it.
    pub fn faked(&self, offset: &str, args: &[&str]) -> Done {
        let mut faketime = Command::new("faketime");
        faketime.args(["-f", offset]).arg(env!("CARGO_BIN_EXE_zoisite")).args(args);
        let command = self.command(args);
        for (name, value) in command.get_envs() {
            faketime.env(name, value.unwrap_or_default());
        }
        Done::of(faketime.current_dir(self.place.folder()))
    }

    /// The cluster that others share is spoilt on purpose: the next scene gets another clone.
    pub fn used_up(&mut self) {
        self.after = After::Down;
    }

    /// Begins a command that is watched by its events.
    pub fn begin(&self, words: &[&str]) -> Running {
        Running::of(self.command(words))
    }

    /// Begins a command for each of these texts, and kills it in the instant in which an event has it.
    #[track_caller]
    pub fn killed_at(&self, words: &[&str], events: &[&str]) {
        for event in events {
            let mut running = self.begin(words);
            running.until(event);
            running.kill();
        }
    }

    /// What was written on hosts' disks, besides their base system and the programs below: a clone's, and that of the host
    /// that was kept.
    pub fn disks(&self) -> Vec<String> {
        let mut out = Vec::new();
        for host in std::fs::read_dir(self.folder.join("hosts")).unwrap() {
            let host = host.unwrap().path();
            out.push(host.join("upper").to_str().unwrap().to_owned());
            let below = std::fs::read_to_string(host.join("base")).unwrap();
            let kept = below.trim().split(':').filter(|layer| layer.contains("/kept/"));
            out.extend(kept.map(str::to_owned));
        }
        out
    }

    /// This machine has an address of the other family too, where hosts are given one.
    pub fn speaks_both_families(&self) {
        let words = ["address", "replace", "fd77::fe/64", "dev", "zlab0", "nodad"];
        let _ = Done::of(Command::new("ip").args(words)).ended(0);
    }

    /// Runs a command on a host, as root. It is entered from this machine: a login costs more of the processor than most of
    /// what is asked there, and one that fails would be taken for an answer.
    #[track_caller]
    pub fn on(&self, host: &str, command: &str) -> Done {
        self.on_given(host, command, Stdio::null())
    }

    /// The same, with a text for its input.
    #[track_caller]
    pub fn on_with(&self, host: &str, command: &str, input: impl AsRef<[u8]>) -> Done {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(input.as_ref()).unwrap();
        file.rewind().unwrap();
        self.on_given(host, command, file)
    }

    #[track_caller]
    fn on_given(&self, host: &str, command: &str, input: impl Into<Stdio>) -> Done {
        let mut enter = Command::new("nsenter");
        enter.args(["-t", &self.leader(host), "-m", "-u", "-i", "-n", "-p", "--", "env", "-i"]);
        enter.args([
            "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
            "HOME=/root",
        ]);
        let done = Done::of_given(enter.args(["sh", "-c", command]), input);
        assert!(!done.stderr.starts_with("nsenter: "), "{host} is not entered: {done:?}");
        done
    }

    /// A host's first process, as this machine numbers it.
    #[track_caller]
    fn leader(&self, host: &str) -> String {
        let leader = self.first_process(host);
        leader.unwrap_or_else(|| panic!("{host} is off: nothing can be asked there"))
    }

    /// None while the host is off.
    #[track_caller]
    fn first_process(&self, host: &str) -> Option<String> {
        let pid = std::fs::read_to_string(self.folder.join("hosts").join(host).join("pid"));
        let pid = pid.unwrap_or_else(|error| panic!("there is no host {host}: {error}"));
        let pid = pid.trim();
        let children = std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children"));
        Some(children.ok()?.split_whitespace().next()?.to_owned())
    }

    /// Whether a host is on, so that something can be asked there.
    #[track_caller]
    pub fn is_on(&self, host: &str) -> bool {
        self.first_process(host).is_some()
    }

    /// Runs etcdctl on a host with its health client's certificate.
    pub fn etcdctl(&self, host: &str, words: &str) -> Done {
        self.on(host, &format!("{} {words}", etcdctl_on(host)))
    }

    /// Writes a key while a member goes. A write that was on its way through a leader that is lost is
    /// answered with an error (its outcome is unknown); once another leads, writing must work.
    pub fn write(&self, host: &str, key: &str, value: &str) {
        for attempt in 1..=6 {
            let done = self.etcdctl(host, &format!("put {key} {value}"));
            if done.status == 0 {
                return;
            }
            let lost = ["request timed out", "leader changed", "no leader", "deadline exceeded"];
            assert!(lost.iter().any(|why| done.stderr.contains(why)), "{done:?}");
            assert!(attempt < 6, "writing does not go on: {done:?}");
        }
    }

    /// A kubeconfig with every right, in the lab's own folder, through the load balancer or API server `server`.
    pub fn glass(&self) -> PathBuf {
        let path = self.place.path("glass.yaml");
        if !path.exists() {
            let out = path.to_str().unwrap();
            let _ = self
                .zoisite(&["access", "ada", "--break-glass", "--expires", "8h", "--out", out])
                .ended(0)
                .complains("everything, unrestricted");
        }
        path
    }

    /// Runs kubectl with every right.
    pub fn admin(&self, words: &[&str]) -> Done {
        self.kubectl(&self.glass(), &self.api(), words)
    }

    /// Runs kubectl with a kubeconfig; the API endpoint's name is the hosts' to resolve, not this machine's.
    pub fn kubectl(&self, config: &Path, server: &str, words: &[&str]) -> Done {
        Done::of(&mut self.kubectl_command(config, server, words))
    }

    /// The same, not run yet.
    pub fn kubectl_command(&self, config: &Path, server: &str, words: &[&str]) -> Command {
        let program = self.place.path("components/kubernetes/1.36.3");
        let arch = if cfg!(target_arch = "aarch64") { "linux-arm64" } else { "linux-amd64" };
        let mut command = Command::new(program.join(arch).join("kubectl"));
        command.arg("--kubeconfig").arg(config).args(["--server", server]).args(words);
        command
    }

    /// An address of the API that this machine can dial.
    pub fn api(&self) -> String {
        let status = self.zoisite(&["check", "--json"]).ended(0).json();
        format!("https://{}:6443", status["stable"]["addresses"][0].as_str().unwrap())
    }

    pub fn status(&self) -> serde_json::Value {
        self.zoisite(&["status", "--json"]).json()
    }

    /// Waits until `status` finds nothing wrong.
    #[track_caller]
    pub fn until_well(&self) {
        self.until_status("all to be well", |done| done.status == 0);
    }

    /// Waits until every member, API server and node of so many serves, whatever else there is to do.
    #[track_caller]
    pub fn until_all_serve(&self, hosts: usize) {
        let all =
            [format!("healthy ({hosts} of {hosts}"), format!("all Ready ({hosts} of {hosts})")];
        self.until_status("all to serve", |done| {
            let ready = done.stdout.contains("control plane: ready");
            ready && all.iter().all(|says| done.stdout.contains(says.as_str()))
        });
    }

    /// Waits until `status` says something.
    #[track_caller]
    pub fn until_told(&self, what: &str) {
        self.until_status(what, |done| format!("{}{}", done.stdout, done.stderr).contains(what));
    }

    #[track_caller]
    fn until_status(&self, what: &str, holds: impl Fn(&Done) -> bool) {
        let end = within(300);
        loop {
            let done = self.zoisite(&["status"]);
            if holds(&done) {
                return;
            }
            if Instant::now() > end {
                late(format!("waited for {what}: {done:?}"));
            }
            std::thread::sleep(BETWEEN_LOOKS);
        }
    }

    /// A raise goes through, and one more finds nothing to do.
    pub fn must_converge(&self) {
        let _ = self.zoisite(&["raise"]).ended(0);
        let _ = self
            .zoisite(&["raise"])
            .ended(0)
            .says(&format!("nothing differs on {} host", self.hosts));
        let status = self.status();
        let (healthy, wanted) = (&status["healthy"], &status["members_wanted"]);
        assert_eq!((healthy, &status["agree"]), (wanted, &true.into()), "{status:#}");
    }
}

/// A host's file system, as this machine sees it.
pub fn lab_root(lab: &Lab, host: &str) -> PathBuf {
    lab.folder.join("hosts").join(host).join("root")
}

impl Drop for Lab {
    fn drop(&mut self) {
        if std::thread::panicking() {
            // What hosts say now is gone when the next test begins.
            let mut evidence = Command::new(project().join("lab/evidence"));
            if let Ok(output) = evidence.stdin(Stdio::null()).output() {
                eprintln!("{}", String::from_utf8_lossy(&output.stdout));
            }
            return;
        }
        match &self.after {
            After::Down => drop(lab("down", &[])),
            After::GiveBack(shared) => self.give_back(shared),
            After::Nothing => {}
        }
    }
}

/// A command that runs, and tells its events.
pub struct Running {
    child: Child,
    events: std::io::Lines<std::io::BufReader<std::process::ChildStderr>>,
    said: String,
}

impl Running {
    pub fn of(mut command: Command) -> Self {
        command.arg("--events").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        let events = std::io::BufReader::new(child.stderr.take().unwrap()).lines();
        Self { child, events, said: format!("{command:?}\n") }
    }

    /// Waits for an event that has this text; for one after the other, where it is `ONE then OTHER`.
    #[track_caller]
    pub fn until(&mut self, text: &str) {
        for text in text.split(" then ") {
            loop {
                let Some(line) = self.events.next() else {
                    panic!("it ended without the event '{text}': {}", self.said);
                };
                let line = line.unwrap();
                self.said.push_str(&format!("{line}\n"));
                if line.contains(text) {
                    break;
                }
            }
        }
    }

    /// What it said so far.
    pub fn said(&self) -> &str {
        &self.said
    }

    /// Kills it: it is at work until then.
    #[track_caller]
    pub fn kill(mut self) {
        let ended = self.child.try_wait().unwrap();
        assert!(ended.is_none(), "it ended before it was killed: {ended:?} {}", self.said);
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// Asks it to stop, as Ctrl-C does.
    pub fn interrupt(&self) {
        let pid = self.child.id().to_string();
        let _ = Done::of(Command::new("kill").args(["-INT", &pid])).ended(0);
    }

    /// Waits for its end: its status, and all that it said.
    pub fn end(mut self) -> (i32, String) {
        for line in self.events.by_ref() {
            self.said.push_str(&format!("{}\n", line.unwrap()));
        }
        let status = self.child.wait().unwrap();
        (status.code().unwrap_or(-1), std::mem::take(&mut self.said))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
