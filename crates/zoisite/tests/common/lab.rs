//! Real systemd hosts on this machine, by the scripts in `lab/`. One lab at a time.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::{Done, Place};

pub const MEMBERS: [&str; 3] = ["heron", "egret", "ibis"];

/// A look takes a second of the processor that it waits for.
const BETWEEN_LOOKS: Duration = Duration::from_secs(2);

pub fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// Runs one of the lab's scripts; what it prints.
pub fn lab(script: &str, args: &[&str]) -> String {
    lab_given(script, args, &[])
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

/// Three hosts that have just been set up, and a cluster file for them. One lab at a time.
pub struct Lab {
    pub place: Place,
    pub folder: PathBuf,
    /// Only this part of the cluster is raised and looked at.
    part: Option<&'static str>,
    hosts: usize,
    _one: MutexGuard<'static, ()>,
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

    /// Hosts of which those were never booted and wait for what they are told at their first boot.
    pub fn of_seeded(cluster: &str, hosts: usize, seeded: &str) -> Self {
        Self::given(cluster, None, hosts, &[("ZOISITE_LAB_SEEDED", seeded)])
    }

    fn given(
        cluster: &str,
        part: Option<&'static str>,
        hosts: usize,
        variables: &[(&str, &str)],
    ) -> Self {
        static ONE: Mutex<()> = Mutex::new(());
        let one = ONE.lock().unwrap_or_else(PoisonError::into_inner);
        lab("down", &[]);
        let file = project().join(format!("lab/clusters/{cluster}.toml"));
        lab_given("up", &[file.to_str().unwrap()], variables);
        let place = Place::new();
        place.write("zoisite.toml", std::fs::read(&file).unwrap());
        let components = lab("components/build", &[]);
        std::os::unix::fs::symlink(components, place.path("components")).unwrap();
        Self { place, folder: lab("where", &[]).into(), part, hosts, _one: one }
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

    /// Begins a command for each of these times, in milliseconds, and kills it then; how many still ran.
    pub fn killed_after(&self, words: &[&str], times: impl IntoIterator<Item = u64>) -> usize {
        let mut killed = 0;
        for milliseconds in times {
            let mut command = self.command(words);
            let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
            std::thread::sleep(Duration::from_millis(milliseconds));
            if child.try_wait().unwrap().is_none() {
                child.kill().unwrap();
                killed += 1;
            }
            child.wait().unwrap();
        }
        killed
    }

    /// The same of a raise.
    pub fn raises_killed_after(&self, times: impl IntoIterator<Item = u64>) -> usize {
        self.killed_after(&["raise"], times)
    }

    /// This machine has an address of the other family too, where hosts are given one.
    pub fn speaks_both_families(&self) {
        let words = ["address", "replace", "fd77::fe/64", "dev", "zlab0", "nodad"];
        let _ = Done::of(Command::new("ip").args(words)).ended(0);
    }

    /// Runs a command on a host, as root.
    pub fn on(&self, host: &str, command: &str) -> Done {
        self.on_given(host, command, Stdio::null())
    }

    /// Runs a command on a host, as root, with an input: sudo writes commands into the journal.
    pub fn on_given(&self, host: &str, command: &str, input: impl Into<Stdio>) -> Done {
        let mut ssh = Command::new("ssh");
        ssh.arg("-F")
            .arg(self.folder.join("ssh_config"))
            .args([host, "sudo", "sh", "-c"])
            .arg(format!("'{}'", command.replace('\'', r"'\''")));
        Done::of_given(&mut ssh, input)
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

    /// A kubeconfig with every right, in the lab's own folder, through the balancer or API server `server`.
    pub fn glass(&self) -> PathBuf {
        let path = self.place.path("glass.yaml");
        if !path.exists() {
            let out = path.to_str().unwrap();
            let _ = self
                .zoisite(&["access", "ada", "--break-glass", "--ends", "8h", "--out", out])
                .ended(0)
                .complains("everything, unrestricted");
        }
        path
    }

    /// Runs kubectl with every right.
    pub fn admin(&self, words: &[&str]) -> Done {
        self.kubectl(&self.glass(), &self.api(), words)
    }

    /// Runs kubectl with a kubeconfig; the stable name is the hosts' to resolve, not this machine's.
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
    pub fn until_well(&self) {
        let end = Instant::now() + Duration::from_secs(300);
        loop {
            let done = self.zoisite(&["status"]);
            if done.status == 0 {
                return;
            }
            assert!(Instant::now() < end, "never well again: {done:?}");
            std::thread::sleep(BETWEEN_LOOKS);
        }
    }

    /// Waits until every member, API server and node of so many serves, whatever else there is to do.
    pub fn until_all_serve(&self, hosts: usize) {
        let end = Instant::now() + Duration::from_secs(300);
        let all =
            [format!("healthy ({hosts} of {hosts}"), format!("all Ready ({hosts} of {hosts})")];
        loop {
            let done = self.zoisite(&["status"]);
            let ready = done.stdout.contains("control plane: ready");
            if ready && all.iter().all(|says| done.stdout.contains(says.as_str())) {
                return;
            }
            assert!(Instant::now() < end, "never all again: {done:?}");
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
        if !std::thread::panicking() {
            lab("down", &[]);
        }
    }
}
