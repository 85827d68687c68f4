//! From evidence to the likely cause and the fix.
//!
//! A [`Trouble`] is one failure as a person needs it: what was attempted, on which host, what came
//! back, what it likely means and what to do next. [`likely`] knows the words with which ssh, sudo,
//! etcd and the kernel say that something is wrong.

use serde::Serialize;

use crate::cluster::HostName;

/// One failure in full.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, thiserror::Error)]
#[error("{}{attempted}: {answer}", .host.as_ref().map_or(String::new(), |h| format!("{h}: ")))]
pub struct Trouble {
    /// On which host.
    pub host: Option<HostName>,
    /// What was attempted.
    pub attempted: String,
    /// What came back.
    pub answer: String,
    /// What it likely means.
    pub cause: Option<String>,
    /// What to do next.
    pub fix: String,
    /// Unit states and log lines.
    pub evidence: Vec<String>,
}

impl Trouble {
    /// A trouble whose cause and fix are looked up from `answer` and `evidence`.
    pub fn new(
        host: Option<HostName>,
        attempted: impl Into<String>,
        answer: impl Into<String>,
        evidence: Vec<String>,
    ) -> Self {
        let answer = crate::text::plain(&answer.into()).into_owned();
        let evidence: Vec<String> =
            evidence.iter().map(|line| crate::text::plain(line).into_owned()).collect();
        let found = evidence
            .iter()
            .rev()
            .map(String::as_str)
            .chain([answer.as_str()])
            .find_map(likely)
            .map(|cause| (Some(cause.0.to_owned()), cause.1.to_owned()));
        let (cause, fix) = found.unwrap_or((None, GENERAL_FIX.to_owned()));
        let fix = match &host {
            Some(host) => fix.replace("HOST", host.as_str()),
            None => fix,
        };
        Self { host, attempted: attempted.into(), answer, cause, fix, evidence }
    }

    /// Replaces the fix.
    pub fn fix(mut self, fix: impl Into<String>) -> Self {
        self.fix = fix.into();
        self
    }
}

const GENERAL_FIX: &str =
    "look at the evidence, fix it, and run the same command again: it goes on from here";

/// Words that are found in an answer, what they likely mean, and the fix. The first match counts, so
/// the more telling ones stand first. `HOST` stands for the host's name.
const CAUSES: &[(&[&str], &str, &str)] = &[
    // OpenSSH
    (
        &["REMOTE HOST IDENTIFICATION HAS CHANGED"],
        "the host shows another SSH key than your known_hosts has for it",
        "if the machine was set up again on purpose, take its old key out: ssh-keygen -R HOST",
    ),
    (
        &["Host key verification failed", "No ED25519 host key is known", "host key is known for"],
        "the host's SSH key is not in your known_hosts",
        "log in once by hand and accept its key, or run this on a terminal: you will be asked",
    ),
    (
        &["Permission denied (", "Too many authentication failures"],
        "the host refused your SSH key",
        "check the user under [login] and that your key is in its authorized_keys: ssh -v HOST",
    ),
    (
        &["Could not resolve hostname", "Name or service not known"],
        "the name does not resolve",
        "use an address under [hosts] or login, or a Host entry in your SSH configuration",
    ),
    (
        &["Connection refused"],
        "nothing listens there",
        "check that the service runs and the port is right; for SSH: systemctl status ssh on HOST",
    ),
    (
        &["No route to host", "Network is unreachable", "Host is down"],
        "no route leads to the host",
        "check that HOST is switched on, its address, and the network between",
    ),
    (
        &["Connection timed out", "Operation timed out", "timed out during banner"],
        "the host did not answer",
        "check that HOST is switched on, and that no firewall drops port 22",
    ),
    // sudo
    (
        &["a password is required", "a terminal is required to read the password"],
        "sudo asks for a password",
        "run it again with --ask-sudo, or give the user passwordless sudo: a line \
         'USER ALL=(ALL) NOPASSWD: ALL' that comes after every group rule in sudoers, since the last match wins",
    ),
    (
        &["is not in the sudoers file", "may not run sudo", "not allowed to execute"],
        "sudo refuses the user",
        "add a file under /etc/sudoers.d that allows it everything without a password",
    ),
    (
        &["sudo: not found", "sudo: command not found"],
        "sudo is not installed",
        "install sudo on HOST",
    ),
    // nodes
    (
        &["running with swap on is not supported", "swap is enabled"],
        "the host swaps, and the kubelet does not start there",
        "on HOST: swapoff -a, and take its line out of /etc/fstab",
    ),
    (
        // A kubelet without a certificate is 'Unauthorized' at everything else it tries: that says nothing.
        &[
            "cannot create certificate signing request: Unauthorized",
            "cannot create certificate signing request: the server has asked for",
        ],
        "the join token was not accepted: it had expired, or was revoked",
        "run the same command again: every run makes a new one; if it happens again, compare the clocks of HOST and the control plane",
    ),
    (
        &["cni plugin not initialized", "no networks found in /etc/cni/net.d"],
        "there is no pod network on the node yet",
        "zoisite sequence shows whether its configuration differs; with pod-network = \"manifests\", whether those manifests run",
    ),
    (
        &["container runtime is down", "containerd.sock: connect", "containerd.sock: no such file"],
        "the container runtime does not run",
        "on HOST: systemctl status containerd; the same command again starts it",
    ),
    (
        &["ErrImageNeverPull", "ImagePullBackOff", "ErrImagePull", "failed to pull image"],
        "an image is not on the node",
        "the same command again imports the images of the components folder; your own must be on a registry that HOST reaches",
    ),
    (
        &["systemd cgroup driver", "cgroup driver", "cgroup v1 support is unsupported"],
        "kubelet, runtime and host do not agree on cgroups",
        "take own settings of cgroups out of workers.kubelet: what the host has is looked at",
    ),
    (
        &["invalid peer certificate: Expired", "invalid peer certificate: NotValidYet"],
        "a certificate is not valid at this machine's time",
        "compare the clocks: date on HOST and here; then time synchronisation",
    ),
    (
        &["invalid peer certificate"],
        "what answers there has a certificate of another authority or for another name: it is another cluster, or another server",
        "put right where the name leads (the site's DNS, or /etc/hosts on HOST): to the load balancers of this cluster, or to its control-plane hosts",
    ),
    (
        &[
            "handshake eof",
            "unexpected end of file",
            "tls handshake eof",
            "connection closed before message completed",
        ],
        "what answers there forwards to no API server that is ready",
        "zoisite status shows which API servers are ready; where they are, something keeps HOST from reaching them (a firewall?): journalctl -u zoisite-load-balancer on it",
    ),
    (
        &["Name does not resolve", "no such host", "Temporary failure in name resolution"],
        "the name does not resolve on the host",
        "add it to the site's DNS, or to /etc/hosts on HOST",
    ),
    // files and disks
    (
        &["No space left on device", "no space left on device"],
        "the disk is full",
        "make room on HOST: df -h shows where",
    ),
    (
        &["Read-only file system", "read-only file system"],
        "the file system is read-only",
        "look at dmesg on HOST: a disk may be failing",
    ),
    // etcd
    (
        &["cluster ID mismatch", "cluster-id-mismatch", "request cluster ID mismatch"],
        "members do not agree on which cluster they form",
        "a member was started with other first-start facts; compare etcd.yaml on the members",
    ),
    (
        &["couldn't find local name", "has different advertised URLs"],
        "the member's name or peer URL in etcd.yaml does not match the initial cluster",
        "put etcd.yaml right: zoisite sequence shows what differs",
    ),
    (
        &["address already in use"],
        "another process holds the port",
        "find it on HOST with: ss -ltnp; stop it or choose other ports under [etcd]",
    ),
    (
        &["cannot assign requested address"],
        "the host does not have the address that the cluster file gives it",
        "compare the address under [hosts] with: ip address on HOST",
    ),
    (
        &["certificate has expired or is not yet valid", "certificate is not yet valid"],
        "a certificate is not valid at the host's time",
        "compare the clocks: date on HOST and here; then time synchronisation",
    ),
    (
        &["remote error: tls: bad certificate", "x509: ", "tls: failed to verify"],
        "a certificate was refused",
        "run: zoisite pki prove; then zoisite sequence shows whether files on HOST differ",
    ),
    (
        &["permission denied", "Permission denied"],
        "the service may not read or write a file",
        "zoisite sequence shows owners and modes that differ on HOST",
    ),
    (
        &["failed to parse config", "error verifying flags", "error unmarshaling", "unknown flag"],
        "a setting is wrong",
        "check [etcd.settings] in the cluster file against etcd's documentation",
    ),
    (
        &["dial tcp", "i/o timeout", "lost leader", "no leader", "context deadline exceeded"],
        "the member does not reach its peers",
        "check that the members reach one another on the peer port, and that no firewall drops it",
    ),
];

/// The likely cause and its fix, if the words are known.
pub fn likely(text: &str) -> Option<(&'static str, &'static str)> {
    CAUSES
        .iter()
        .find(|(words, _, _)| words.iter().any(|word| text.contains(word)))
        .map(|(_, cause, fix)| (*cause, *fix))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_words_lead_to_a_cause_and_a_fix_that_names_the_host() {
        let host = HostName::new("heron").unwrap();
        let cases = [
            ("warden@10.77.0.11: Permission denied (publickey).", "refused your SSH key"),
            ("ssh: connect to host 10.77.0.11 port 22: No route to host", "no route"),
            ("sudo: a password is required", "sudo asks"),
            ("cat: write error: No space left on device", "disk is full"),
            ("listen tcp 10.77.0.11:2380: bind: address already in use", "holds the port"),
            ("dial tcp 10.77.0.12:2380: i/o timeout", "does not reach its peers"),
            ("failed to run Kubelet: running with swap on is not supported", "the host swaps"),
            ("cannot create certificate signing request: Unauthorized", "token was not accepted"),
            ("container runtime network not ready: cni plugin not initialized", "no pod network"),
            ("invalid peer certificate: UnknownIssuer", "another cluster"),
            ("invalid peer certificate: Expired", "not valid at this machine's time"),
            ("tls handshake eof", "forwards to no API server"),
            ("lookup api.saltmarsh.example: no such host", "does not resolve"),
            ("Error: ErrImageNeverPull", "not on the node"),
        ];
        for (answer, cause) in cases {
            let trouble = Trouble::new(Some(host.clone()), "trying", answer, Vec::new());
            assert!(trouble.cause.as_deref().unwrap_or("").contains(cause), "{answer}");
            assert!(!trouble.fix.contains("HOST"), "{}", trouble.fix);
        }
    }

    #[test]
    fn evidence_counts_before_the_answer_and_the_last_line_first() {
        let evidence = vec!["dial tcp: i/o timeout".into(), "bind: address already in use".into()];
        let trouble = Trouble::new(None, "waiting", "not ready after 300 seconds", evidence);
        assert_eq!(trouble.cause.as_deref(), Some("another process holds the port"));
    }

    #[test]
    fn unknown_words_still_get_a_fix() {
        let trouble = Trouble::new(None, "trying", "it went pear-shaped", Vec::new());
        assert_eq!(trouble.cause, None);
        assert_eq!(trouble.fix, GENERAL_FIX);
    }
}
