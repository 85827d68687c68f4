//! Strength, programs, swap, kernel and time of a host.

use std::collections::BTreeSet;

use super::{Case, SiteFinding};
use crate::cluster::{TimeService, Version, size_of};
use crate::holdings::{Bringing, bringing, swaps};
use crate::layout::{Distribution, RUNTIME_UNIT};

pub(super) fn strength(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, host, facts, .. } = case;
    let size = size_of(cluster, &host.name);
    let parts: Vec<&str> = size.parts.iter().map(|(name, _)| *name).collect();
    let mut out = Vec::new();
    if facts.memory > 0 && facts.memory < size.need.memory_mib {
        out.push(
            case.warns(
                "memory-small",
                format!(
                    "it has {} MiB of memory, and what it is to hold needs {} at least",
                    facts.memory, size.need.memory_mib
                ),
            )
            .seen(format!("it holds {}", parts.join(", ")))
            .fix("give it more, or some of its roles to another host"),
        );
    }
    if facts.cores > 0 && u64::from(facts.cores) * 1_000 < size.need.millicores {
        out.push(
            case.warns(
                "cores-few",
                format!(
                    "it has {} processor cores, and what it is to hold needs {:.1} at least",
                    facts.cores,
                    size.need.millicores as f64 / 1_000.0
                ),
            )
            .seen(format!("it holds {}", parts.join(", ")))
            .fix("give it more, or some of its roles to another host"),
        );
    }
    out
}

pub(super) fn programs(case: &Case<'_>) -> Vec<SiteFinding> {
    let facts = case.facts;
    let Bringing { packages, pinned, by_hand } = bringing(case.cluster, case.host, &facts.nature);
    let silent: Vec<String> = facts
        .sources
        .iter()
        .filter(|(_, said)| *said != "answers")
        .map(|(host, said)| format!("{host}: {said}"))
        .collect();
    let mut out = Vec::new();
    if !by_hand.is_empty() {
        let lacks: Vec<&str> = by_hand.iter().map(|(path, _)| path.as_str()).collect();
        let names: BTreeSet<&str> = by_hand.iter().map(|(_, package)| *package).collect();
        let names: Vec<&str> = names.into_iter().collect();
        let install = match facts.packages.first().map(String::as_str) {
            Some("apt-get") | None => format!("apt-get install {}", names.join(" ")),
            Some(manager) => format!("{manager} install what brings {}", lacks.join(", ")),
        };
        let found = case.blocks("program-missing", format!("it lacks {}", lacks.join(", ")));
        out.push(found.fix(install));
    }
    if !packages.is_empty() && facts.nature.no_source {
        let fix = format!(
            "let it reach where its packages come from{}; or name runtime, runc and network-plugins under [components], and raise brings those",
            match silent.as_slice() {
                [] => String::new(),
                some => format!(" ({})", some.join("; ")),
            }
        );
        let message =
            format!("{} must be installed, and no source of packages answers", packages.join(", "));
        out.push(case.blocks("packages-offline", message).fix(fix));
    } else if !packages.is_empty() {
        let message = format!("it has no {} yet", packages.join(", no "));
        let found = case.warns("program-missing", message).by_raise();
        out.push(found.fix("nothing: raise installs them from its distribution's packages"));
    }
    if pinned {
        let message = "it has no container runtime, or no plugins for container networks, yet";
        let found = case.warns("program-missing", message).by_raise();
        out.push(found.fix("nothing: raise brings the pinned ones"));
    }
    out.extend(runtime_age(case));
    let wanted = |unit: &&String| {
        unit.starts_with("zoisite-") || (case.is_node() && unit.as_str() == RUNTIME_UNIT)
    };
    for unit in facts.masked.iter().filter(wanted) {
        out.push(
            case.blocks("unit-masked", format!("its unit {unit} is masked: it cannot be started"))
                .fix(format!("systemctl unmask {unit}")),
        );
    }
    out
}

/// The oldest runtime that a kubelet speaks with: it finds out by itself, from some version on, how the runtime
/// groups processes, which older ones do not tell.
fn oldest_runtime(kubernetes: Version) -> Version {
    match kubernetes.minor >= 37 {
        true => Version { major: 2, minor: 0, patch: 0 },
        false => Version { major: 1, minor: 6, patch: 0 },
    }
}

fn runtime_age(case: &Case<'_>) -> Option<SiteFinding> {
    if !case.is_node() {
        return None;
    }
    let runtime = case.facts.programs.iter().find(|(path, _)| path.ends_with("/containerd"));
    let version = runtime.and_then(|(_, version)| version.as_deref())?;
    let digits = version.trim_start_matches('v').split(['~', '+', '-', ' ']).next()?;
    let found = Version::new(digits).ok()?;
    let oldest = oldest_runtime(case.cluster.kubernetes);
    (found < oldest).then(|| {
        let message = format!(
            "its container runtime {version} is too old for Kubernetes {}",
            case.cluster.kubernetes
        );
        case.blocks("runtime-old", message).seen(format!("{oldest} at least")).fix(
            "name runtime, runc and network-plugins under [components], and programs = \"pinned\" under [preparation]: raise brings those",
        )
    })
}

pub(super) fn swap(case: &Case<'_>) -> Vec<SiteFinding> {
    if swaps(case.cluster) || !case.is_node() {
        return Vec::new();
    }
    let facts = case.facts;
    let boot: Vec<String> =
        facts.boot_swaps.iter().map(|(place, what)| format!("{place}: {what}")).collect();
    let swaps_ever = !facts.swaps.is_empty() || !boot.is_empty();
    if swaps_ever && !facts.container {
        let mut found = case
            .warns("swap", "it swaps, or will at its next start, and its kubelet would not start")
            .fix("nothing: raise turns it off, now and at every start")
            .by_raise();
        found.evidence = facts.swaps.iter().cloned().chain(boot).collect();
        return vec![found];
    }
    let mut ways: Vec<String> = Vec::new();
    for (place, what) in &facts.boot_swaps {
        ways.push(match place.as_str() {
            "/etc/fstab" => {
                "sed -i.before-zoisite 's/^[^#].*[[:space:]]swap[[:space:]].*/# &/' /etc/fstab"
                    .into()
            }
            "systemd" => format!("systemctl disable {what}"),
            file => format!("rm {file}"),
        });
    }
    ways.dedup();
    let mut out = Vec::new();
    if !facts.swaps.is_empty() {
        let all: Vec<&str> =
            std::iter::once("swapoff -a").chain(ways.iter().map(String::as_str)).collect();
        let mut found =
            case.blocks("swap", "it swaps, and a kubelet does not start there").fix(all.join("; "));
        found.evidence = facts.swaps.iter().cloned().chain(boot).collect();
        out.push(found);
    } else if !boot.is_empty() {
        let mut found = case
            .warns(
                "swap-at-boot",
                "it will swap from its next start on, and its kubelet will not come back",
            )
            .fix(ways.join("; "));
        found.evidence = boot;
        out.push(found);
    }
    out
}

pub(super) fn kernel(case: &Case<'_>) -> Vec<SiteFinding> {
    let facts = case.facts;
    let mut out = Vec::new();
    let known = Distribution::known(&facts.os);
    if let Some(why) = known.map_or(Some("it is in no row of what is known"), |row| row.unproven) {
        let name = if facts.release.is_empty() { &facts.os } else { &facts.release };
        out.push(
            case.blocks("system-unproven", format!("its system is not proven: {name}"))
                .seen(why)
                .fix("raise --untested-systems goes on; try one such host first, as a worker"),
        );
    }
    if !case.is_node() {
        return out;
    }
    if !facts.container && facts.modules.get("overlay").is_some_and(|state| state == "missing") {
        out.push(
            case.blocks("module-missing", "its kernel has no overlay file system, on which containers stand")
                .seen(format!("modprobe -n overlay fails on {}", facts.kernel))
                .fix("install the modules of the kernel that runs, or restart into the one whose modules are there"),
        );
    }
    // The command line of a container's kernel is that of the machine beneath.
    if facts.cgroups == 1 && !facts.container {
        out.push(
            case.warns("cgroups-old", "it has version 1 of control groups, which newer kubelets refuse")
                .fix("add systemd.unified_cgroup_hierarchy=1 to the kernel's command line, and restart it"),
        );
    }
    if !facts.forwarding {
        out.push(
            case.warns("forwarding-off", "IP forwarding is off: pods would reach no other host")
                .fix("nothing: raise turns it on, now and at every start")
                .by_raise(),
        );
    }
    if !facts.container && facts.modules.get("overlay").is_some_and(|state| state == "loadable") {
        out.push(
            case.warns("module-not-loaded", "the module overlay is not loaded")
                .fix("nothing: raise loads it, now and at every start")
                .by_raise(),
        );
    }
    out
}

pub(super) fn time_service(case: &Case<'_>) -> Vec<SiteFinding> {
    let facts = case.facts;
    // The clock of a container is kept by the machine beneath.
    if facts.container {
        return Vec::new();
    }
    if facts.time_services.is_empty() {
        let wanted = case.cluster.preparation.time == TimeService::WhereNeeded;
        if wanted && facts.nature.apt {
            let found = case.warns("time-unkept", "no time service keeps its clock").by_raise();
            return vec![found.fix("nothing: raise installs systemd-timesyncd")];
        }
        return vec![
            case.warns("time-unkept", "no time service keeps its clock")
                .fix("apt-get install systemd-timesyncd (or chrony), and name the site's time server in its settings"),
        ];
    }
    if facts.synchronized == Some(false) {
        return vec![
            case.warns("time-unkept", "its time service has found no time server yet")
                .seen(format!("{} runs; NTPSynchronized=no", facts.time_services.join(", ")))
                .fix("let it reach a time server (UDP 123), or name the site's own in its settings; timedatectl timesync-status tells more"),
        ];
    }
    Vec::new()
}

pub(super) fn restart(case: &Case<'_>) -> Vec<SiteFinding> {
    if case.facts.reboot.is_empty() {
        return Vec::new();
    }
    let mut found = case
        .warns("restart-due", "it waits for a restart, which is easier now than under a cluster")
        .fix("reboot");
    found.evidence = case.facts.reboot.clone();
    vec![found]
}
