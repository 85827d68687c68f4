//! Where projects publish their files, and the checksums beside them: a row for each.

use std::collections::BTreeMap;

use super::Platform;

/// What all addresses of published files begin with.
pub const WEB: &str = "https://";
/// A list of checksums is smaller than this, in bytes.
pub const SUMS_LIMIT: usize = 1 << 20;

/// Where the checksum of a published file stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Sums {
    /// In a file of its own: the bare sum, or `SUM  FILE`.
    Beside(String),
    /// In a list of several: lines of `SUM  FILE`.
    List(String),
}

impl Sums {
    /// The address of the file with the checksum.
    pub fn address(&self) -> &str {
        match self {
            Self::Beside(address) | Self::List(address) => address,
        }
    }
}

/// A file that a project publishes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Published {
    /// Its component.
    pub component: &'static str,
    /// Its version.
    pub version: String,
    /// For which machines.
    pub platform: Platform,
    /// Where it is published.
    pub address: String,
    /// Where its checksum is.
    pub sums: Sums,
    /// What of it goes where below the components folder: the name inside an archive (empty where it is the file
    /// itself), and the place.
    pub gives: Vec<(String, String)>,
}

impl Published {
    /// The last part of its address.
    pub fn file(&self) -> &str {
        self.address.rsplit('/').next().unwrap_or_default()
    }

    /// Whether it is a compressed archive of several files.
    pub fn is_archive(&self) -> bool {
        self.gives.iter().any(|(member, _)| !member.is_empty())
    }
}

/// A component as its project publishes it. In templates `{v}` is the version, `{os}` and `{arch}` the platform and
/// `{program}` each program in turn, where they are published one by one.
struct Row {
    component: &'static str,
    /// Folder below the components folder.
    folder: &'static str,
    base: &'static str,
    file: &'static str,
    sums: &'static str,
    /// Whether the checksums are a list of several files.
    list: bool,
    /// Folder inside an archive that the programs stand in; `None` where each is published by itself.
    inside: Option<&'static str>,
    programs: &'static [&'static str],
    /// Those for hosts that run Windows; none where it has none for them.
    windows: &'static [&'static str],
}

const ROWS: &[Row] = &[
    Row {
        component: "kubernetes",
        folder: "kubernetes",
        base: "https://dl.k8s.io",
        file: "v{v}/bin/{os}/{arch}/{program}",
        sums: "v{v}/bin/{os}/{arch}/{program}.sha256",
        list: false,
        inside: None,
        programs: &[
            "kube-apiserver",
            "kube-controller-manager",
            "kube-scheduler",
            "kubelet",
            "kube-proxy",
            "kubectl",
        ],
        windows: &["kubelet.exe", "kube-proxy.exe", "kube-log-runner.exe"],
    },
    Row {
        component: "etcd",
        folder: "etcd",
        base: "https://github.com/etcd-io/etcd/releases/download",
        file: "v{v}/etcd-v{v}-{os}-{arch}.tar.gz",
        sums: "v{v}/SHA256SUMS",
        list: true,
        inside: Some("etcd-v{v}-{os}-{arch}/"),
        programs: &["etcd", "etcdctl", "etcdutl"],
        windows: &[],
    },
    Row {
        component: "runtime",
        folder: "containerd",
        base: "https://github.com/containerd/containerd/releases/download",
        file: "v{v}/containerd-{v}-{os}-{arch}.tar.gz",
        sums: "v{v}/containerd-{v}-{os}-{arch}.tar.gz.sha256sum",
        list: false,
        inside: Some("bin/"),
        programs: &["containerd", "containerd-shim-runc-v2", "ctr"],
        windows: &["containerd.exe", "containerd-shim-runhcs-v1.exe", "ctr.exe"],
    },
    Row {
        component: "runc",
        folder: "runc",
        base: "https://github.com/opencontainers/runc/releases/download",
        file: "v{v}/runc.{arch}",
        sums: "v{v}/runc.sha256sum",
        list: true,
        inside: None,
        programs: &["runc"],
        windows: &[],
    },
    Row {
        component: "network-plugins",
        folder: "network-plugins",
        base: "https://github.com/containernetworking/plugins/releases/download",
        file: "v{v}/cni-plugins-{os}-{arch}-v{v}.tgz",
        sums: "v{v}/cni-plugins-{os}-{arch}-v{v}.tgz.sha256",
        list: false,
        inside: Some(""),
        programs: &["bridge", "host-local", "loopback", "portmap"],
        windows: &["win-overlay.exe", "host-local.exe"],
    },
    Row {
        component: "registry",
        folder: "registry",
        base: "https://github.com/distribution/distribution/releases/download",
        file: "v{v}/registry_{v}_{os}_{arch}.tar.gz",
        sums: "v{v}/registry_{v}_{os}_{arch}.tar.gz.sha256",
        list: false,
        inside: Some(""),
        programs: &["registry"],
        windows: &[],
    },
];

/// What is published of a component; `bases` are addresses that the cluster file says in place of the projects' own.
pub(super) fn of(
    component: &'static str,
    version: &str,
    platform: &Platform,
    bases: &BTreeMap<String, String>,
) -> Vec<Published> {
    // The client is one of Kubernetes' programs, for other machines than hosts.
    let client = component == "client";
    let named = if client { "kubernetes" } else { component };
    let Some(row) = ROWS.iter().find(|row| row.component == named) else { return Vec::new() };
    let programs = match (client, platform.os.as_str()) {
        (true, _) => &["kubectl"],
        (false, Platform::WINDOWS) => row.windows,
        (false, _) => row.programs,
    };
    if programs.is_empty() {
        return Vec::new();
    }
    let base = bases.get(named).map_or(row.base, String::as_str).trim_end_matches('/');
    let filled = |template: &str, program: &str| {
        let text = template.replace("{v}", version).replace("{os}", &platform.os);
        text.replace("{arch}", &platform.arch).replace("{program}", program)
    };
    let one = |program: &str, gives: Vec<(String, String)>| {
        let sums = format!("{base}/{}", filled(row.sums, program));
        Published {
            component,
            version: version.to_owned(),
            platform: platform.clone(),
            address: format!("{base}/{}", filled(row.file, program)),
            sums: if row.list { Sums::List(sums) } else { Sums::Beside(sums) },
            gives,
        }
    };
    let place = |program: &str| format!("{}/{version}/{platform}/{program}", row.folder);
    match row.inside {
        Some(inside) => {
            let inside = filled(inside, "");
            let give = |program: &&str| (format!("{inside}{program}"), place(program));
            vec![one("", programs.iter().map(give).collect())]
        }
        None => {
            let alone = |program: &&str| one(program, vec![(String::new(), place(program))]);
            programs.iter().map(alone).collect()
        }
    }
}

/// The checksum of `file` in a file of checksums: a bare one, or the line that names it. Lower-case hexadecimal.
///
/// # Errors
/// What stands there instead.
pub fn sum_in(text: &str, file: &str, sums: &Sums) -> Result<String, String> {
    let is_sum = |word: &str| word.len() == 64 && word.bytes().all(|b| b.is_ascii_hexdigit());
    let trimmed = text.trim();
    if matches!(sums, Sums::Beside(_)) && is_sum(trimmed) {
        return Ok(trimmed.to_ascii_lowercase());
    }
    let named = trimmed.lines().filter_map(|line| {
        let (sum, name) = line.trim().split_once(char::is_whitespace)?;
        let name = name.trim_start().trim_start_matches(['*']).trim_start_matches("./");
        (is_sum(sum) && name.rsplit('/').next() == Some(file)).then(|| sum.to_ascii_lowercase())
    });
    let mut found: Vec<String> = named.collect();
    found.dedup();
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] if trimmed.starts_with('<') => Err("it is a web page, not a list of checksums".into()),
        [] => Err(format!("it has no checksum of {file}")),
        _ => Err(format!("it has several checksums of {file}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn checksums_are_found_in_the_forms_that_projects_use() {
        let (a, b) = ("ab".repeat(32), "CD".repeat(32));
        let beside = Sums::Beside(String::new());
        let list = Sums::List(String::new());
        assert_eq!(sum_in(&format!("{b}\n"), "x", &beside), Ok(b.to_lowercase()));
        assert_eq!(sum_in(&format!("{a}  x.tgz\n"), "x.tgz", &beside), Ok(a.clone()));
        let text = format!("{a}  runc.amd64\n{b} *./runc.arm64\n");
        assert_eq!(sum_in(&text, "runc.arm64", &list), Ok(b.to_lowercase()));
        // A bare sum is nobody's in a list of several.
        assert!(sum_in(&a, "x", &list).is_err());
        assert!(sum_in(&text, "runc", &list).unwrap_err().contains("no checksum of runc"));
        let twice = format!("{a}  x\n{b}  x\n");
        assert!(sum_in(&twice, "x", &list).unwrap_err().contains("several"));
        assert!(sum_in("<!doctype html>", "x", &beside).unwrap_err().contains("web page"));
    }

    #[test]
    fn every_component_can_come_from_elsewhere() {
        let rows = ROWS.iter().map(|row| row.component);
        assert_eq!(rows.collect::<Vec<_>>(), crate::cluster::COMPONENT_SOURCES);
    }

    #[test]
    fn each_row_says_where_its_files_are() {
        let arm = Platform::host("arm64");
        let all = of("network-plugins", "1.6.2", &arm, &BTreeMap::new());
        assert_eq!(all.len(), 1);
        assert_eq!(all[0].file(), "cni-plugins-linux-arm64-v1.6.2.tgz");
        assert!(all[0].is_archive());
        let give = ("bridge".to_owned(), "network-plugins/1.6.2/linux-arm64/bridge".to_owned());
        assert_eq!(all[0].gives[0], give);
        let registry = of("registry", "3.1.2", &arm, &BTreeMap::new());
        assert_eq!(registry[0].file(), "registry_3.1.2_linux_arm64.tar.gz");
        assert_eq!(registry[0].gives[0].0, "registry");
        let own =
            BTreeMap::from([("kubernetes".to_owned(), "https://mirror.example/k/".to_owned())]);
        let client = of("client", "1.36.3", &Platform::named("macos", "aarch64"), &own);
        assert_eq!(client[0].address, "https://mirror.example/k/v1.36.3/bin/darwin/arm64/kubectl");
        assert_eq!(client[0].gives[0].1, "kubernetes/1.36.3/darwin-arm64/kubectl");
        assert!(!client[0].is_archive());
    }
}
