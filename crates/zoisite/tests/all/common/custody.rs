//! Whether anything secret can be found where it must not be: in logs, arguments, environments, files that others read.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::Command;

use base64::Engine as _;
use base64::prelude::{BASE64_STANDARD, BASE64_URL_SAFE};

use super::Done;
use super::lab::Lab;

/// How a secret may be written, shortened to what tells it apart: in the octets 40 to 64 of a private key in PKCS #8
/// stand those of the number itself, whatever the algorithm.
fn forms(secret: &[u8]) -> Vec<Vec<u8>> {
    // Of a key in PEM the frame is no secret: the octets inside are.
    let text = String::from_utf8_lossy(secret);
    let inside: String = text.lines().filter(|line| !line.starts_with("-----")).collect();
    let octets = match text.contains("PRIVATE KEY") {
        true => BASE64_STANDARD.decode(&inside).unwrap(),
        false => secret.to_vec(),
    };
    let part = |whole: &[u8], begins: usize, length: usize| {
        let begins = begins.min(whole.len().saturating_sub(length));
        whole[begins..whole.len().min(begins + length)].to_vec()
    };
    let mut out = Vec::new();
    // In base64 it looks another way for each of three positions; and each of those once more inside another one. A
    // line of PEM has 64 characters.
    for skipped in 0..3 {
        for (octets, begins) in [(&octets[skipped..], 64), (&secret[skipped..], 120)] {
            out.push(part(BASE64_STANDARD.encode(octets).as_bytes(), begins, 28));
            out.push(part(BASE64_URL_SAFE.encode(octets).as_bytes(), begins, 28));
        }
    }
    let hex: String = octets.iter().map(|octet| format!("{octet:02x}")).collect();
    out.push(part(hex.as_bytes(), 80, 40));
    out.push(part(hex.to_uppercase().as_bytes(), 80, 40));
    // As they are: a pattern of grep's has neither an end of a line nor a zero.
    let plain = part(&octets, 40, 24);
    let plain = plain.split(|octet| matches!(octet, b'\n' | 0)).max_by_key(|part| part.len());
    out.extend(plain.filter(|part| part.len() >= 12).map(<[u8]>::to_vec));
    out
}

/// What is searched for: secrets by where each was found, and the file of patterns.
pub struct Secrets {
    found: BTreeMap<String, Vec<u8>>,
    patterns: tempfile::NamedTempFile,
}

impl Secrets {
    /// Every secret that hosts keep: private keys, the keys for secrets in etcd, tokens.
    pub fn of(lab: &Lab, hosts: &[&str]) -> Self {
        let mut found = BTreeMap::new();
        for host in hosts {
            let shown = lab.on(
                host,
                "find /etc/zoisite /var/lib/kubelet/pki /etc/zoisite/join -type f 2>/dev/null | \
                 xargs grep -l -e \"PRIVATE KEY\" -e \"secret:\" -e \"token:\" | \
                 while read -r file; do echo \"@ $file\"; cat \"$file\"; done",
            );
            let (mut key, mut file) = (None::<String>, String::new());
            for line in shown.ended(0).stdout.lines() {
                if let Some(path) = line.strip_prefix("@ ") {
                    file = format!("{host}:{path}");
                } else if line.contains("BEGIN") && line.contains("PRIVATE KEY") {
                    key = Some(format!("{line}\n"));
                } else if let Some(mut text) = key.take() {
                    text += &format!("{line}\n");
                    if line.contains("END") {
                        found.insert(file.clone(), text.into_bytes());
                    } else {
                        key = Some(text);
                    }
                } else if let Some((name, value)) = line.trim().split_once(": ")
                    && ["secret", "- secret", "token"].contains(&name)
                {
                    let value = value.trim_matches('"');
                    let octets = BASE64_STANDARD.decode(value).unwrap_or(value.into());
                    found.insert(format!("{file} {value}"), octets);
                }
            }
        }
        Self { found, patterns: tempfile::NamedTempFile::new().unwrap() }
    }

    /// The same, and those of before: they may have been left somewhere. What is at the same place now is another one.
    fn and(&self, before: &Self) -> Self {
        let mut found = self.found.clone();
        let before = before.found.iter();
        found.extend(before.map(|(at, secret)| (format!("{at} before"), secret.clone())));
        Self { found, patterns: tempfile::NamedTempFile::new().unwrap() }
    }

    /// Where each of them was found, as `HOST:PATH`.
    fn places(&self) -> BTreeSet<&str> {
        self.found.keys().filter_map(|at| at.split(' ').next()).collect()
    }

    fn write_patterns(&self) {
        let patterns: BTreeSet<Vec<u8>> =
            self.found.values().flat_map(|secret| forms(secret)).collect();
        let patterns: Vec<Vec<u8>> = patterns.into_iter().collect();
        std::fs::write(self.patterns.path(), patterns.join(&b'\n')).unwrap();
    }

    /// Files below a folder in which one of them stands.
    fn files_with(&self, folders: &[PathBuf]) -> Vec<PathBuf> {
        self.write_patterns();
        let mut grep = Command::new("grep");
        grep.env("LC_ALL", "C").args(["-rlaF", "-f"]);
        grep.arg(self.patterns.path()).arg("--").args(folders);
        let output = grep.output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        text.lines().map(PathBuf::from).collect()
    }
}

/// Nothing of what is secret now, or was before, stands in what was said, in what this machine keeps, in any process's arguments or environment, in
/// any host's journal, or in a file on a host that others read.
pub fn must_be_kept(before: &Secrets, lab: &Lab, hosts: &[&str], said: &[Done]) {
    let found = found(before, lab, hosts, said);
    assert!(found.is_empty(), "secrets stand where none may: {found:?}");
}

/// Where a secret stands and none may.
pub fn found(before: &Secrets, lab: &Lab, hosts: &[&str], said: &[Done]) -> Vec<String> {
    let now = Secrets::of(lab, hosts);
    assert!(now.places().len() > 20, "{:?}", now.places());
    let secrets = now.and(before);
    let scratch = tempfile::tempdir().unwrap();
    let put = |name: &str, octets: &[u8]| {
        std::fs::write(scratch.path().join(name), octets).unwrap();
    };
    for (number, done) in said.iter().enumerate() {
        put(&format!("said-{number}"), format!("{}{}", done.stdout, done.stderr).as_bytes());
    }
    for process in std::fs::read_dir("/proc").unwrap().flatten() {
        let id = process.file_name().to_string_lossy().into_owned();
        for what in ["cmdline", "environ"] {
            let octets = std::fs::read(process.path().join(what)).unwrap_or_default();
            if id.parse::<u32>().is_ok() {
                put(&format!("process-{id}-{what}"), &octets);
            }
        }
    }
    for host in hosts {
        let mut ssh = Command::new("ssh");
        ssh.arg("-F").arg(lab.folder.join("ssh_config")).arg(host);
        let journal = ssh.args(["sudo", "journalctl", "--output", "export"]).output().unwrap();
        assert!(journal.status.success() && journal.stdout.len() > 100_000, "{host}: {journal:?}");
        put(&format!("journal-{host}"), &journal.stdout);
    }
    // What lies here is sealed, but for the kubeconfigs that a person asked for.
    let places = [scratch.path().to_owned(), lab.place.path(".zoisite"), lab.place.path("home")];
    let mut out: Vec<String> =
        secrets.files_with(&places).iter().map(|path| path.display().to_string()).collect();

    // On the hosts themselves: some of what they have is in memory alone.
    let search = "LC_ALL=C grep -rlaF -f - /etc /var/lib/zoisite /var/lib/kubelet /var/log /run /tmp /var/tmp /home /root \
        2>/dev/null | while read -r file; do \
        if runuser -u nobody -- test -r \"$file\"; then echo \"open $file\"; else echo \"kept $file\"; fi; done";
    let mut kept = BTreeSet::new();
    for host in hosts {
        secrets.write_patterns();
        let patterns = std::fs::read(secrets.patterns.path()).unwrap();
        let there = lab.on_with(host, search, patterns).ended(0).stdout;
        let open = there.lines().filter_map(|line| line.strip_prefix("open "));
        out.extend(open.map(|path| format!("{host}:{path}, which others read")));
        let there: Vec<_> = there.lines().filter_map(|line| line.strip_prefix("kept ")).collect();
        let known = ["/etc/zoisite/", "/var/lib/kubelet/"];
        let strange = there.iter().filter(|path| !known.iter().any(|at| path.starts_with(at)));
        out.extend(strange.map(|path| format!("{host}:{path}, where nobody looks for one")));
        kept.extend(there.iter().map(|path| format!("{host}:{path}")));
    }
    // The search finds what it is known to be able to find.
    let missed: Vec<_> = now.places().into_iter().filter(|at| !kept.contains(*at)).collect();
    assert!(missed.is_empty(), "the search does not find {missed:?}");
    out
}

/// Nothing of ours that holds keys leaves a core behind when it crashes. Pods have of the runtime what they have.
pub fn no_core_is_left(lab: &Lab, hosts: &[&str]) {
    let limits = "for unit in /etc/systemd/system/zoisite-*.service; do unit=${unit##*/}; \
        pid=$(systemctl show \"$unit\" -p MainPID --value); if [ \"$pid\" != 0 ]; then \
        printf \"%s \" \"$unit\"; grep \"Max core file size\" \"/proc/$pid/limits\"; fi; done";
    for host in hosts {
        let shown = lab.on(host, limits).ended(0);
        let units: Vec<(&str, &str)> = shown
            .stdout
            .lines()
            .filter_map(|line| line.split_once(" Max core file size"))
            .map(|(unit, limit)| (unit, limit.split_whitespace().next().unwrap()))
            .collect();
        assert!(units.len() > 5, "{host}: {shown:?}");
        for (unit, limit) in units {
            assert!(limit == "0" || unit.contains("containerd"), "{host}: {unit} {limit}");
        }
    }
}
