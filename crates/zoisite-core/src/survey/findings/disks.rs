//! Room, mounts and speed of the disks where something of the cluster will live.

use std::collections::BTreeSet;

use super::super::facts::PlaceFacts;
use super::{Case, SiteFinding};
use crate::cluster::size_of;

/// Less free space than that, in MiB, and nothing is begun there.
const NEARLY_FULL: u64 = 512;
/// Fewer free inodes than that.
const FEW_INODES: u64 = 2_000;

pub(super) fn rooms(case: &Case<'_>) -> Vec<SiteFinding> {
    let facts = case.facts;
    let mut out = Vec::new();
    let mut seen = BTreeSet::new();
    // What several things live on is told of once.
    for place in facts.places.iter().filter(|place| place.purpose != "temporary files") {
        if !seen.insert(&place.mount) {
            continue;
        }
        let there: Vec<&str> = facts
            .places
            .iter()
            .filter(|other| other.mount == place.mount && other.purpose != "temporary files")
            .map(|other| other.purpose.as_str())
            .collect();
        let there = there.join(", ");
        let need = needed(case, &place.mount);
        if place.free < NEARLY_FULL {
            out.push(
                case.blocks("disk-full", format!("the file system of {there} is nearly full"))
                    .seen(format!("{}: {} MiB of {} free", place.mount, place.free, place.size))
                    .fix(format!(
                        "make room: du -xh --max-depth 2 {} | sort -h shows what takes it",
                        place.mount
                    )),
            );
        } else if place.free < need && !case.is_ours() {
            out.push(
                case.warns("disk-small", format!("{there} need {need} MiB at least, and {} are free", place.free))
                    .seen(format!("{} ({}), {} MiB in all", place.mount, place.device, place.size))
                    .fix("give it a larger disk before pods fill this one; zoisite design sizes tells what needs how much"),
            );
        }
        if place.inodes > 0 && place.inodes_free < FEW_INODES {
            out.push(
                case.blocks("inodes-few", format!("the file system of {there} has hardly any inodes left: no file can be made there, however much room there is"))
                    .seen(format!("{}: {} of {} free", place.mount, place.inodes_free, place.inodes))
                    .fix(format!("remove what has many small files: du -x --inodes --max-depth 2 {} | sort -n shows it", place.mount)),
            );
        }
    }
    out
}

/// What lives on a file system needs so much at least, in MiB.
fn needed(case: &Case<'_>, mount: &str) -> u64 {
    let size = size_of(case.cluster, &case.host.name);
    let lives = |purpose: &str| case.facts.place(purpose).is_some_and(|place| place.mount == mount);
    let of = |part: &str| {
        let mut parts = size.parts.iter().filter(|(name, _)| *name == part);
        parts.next().map_or(0, |(_, need)| need.disk_mib)
    };
    let places = [
        ("etcd", "etcd"),
        ("images", "the node"),
        ("registry", "the registry"),
        ("logs", "the API server"),
    ];
    places.iter().filter(|(purpose, _)| lives(purpose)).map(|(_, part)| of(part)).sum()
}

pub(super) fn mounts(case: &Case<'_>) -> Vec<SiteFinding> {
    let has = |place: &PlaceFacts, option: &str| place.options.iter().any(|known| known == option);
    let mut out = Vec::new();
    for place in &case.facts.places {
        let (purpose, mount) = (place.purpose.as_str(), place.mount.as_str());
        let temporary = purpose == "temporary files";
        if has(place, "ro") && !temporary {
            out.push(
                case.blocks(
                    "mount-read-only",
                    format!("the file system of {purpose} is mounted read-only"),
                )
                .seen(format!("{mount}: {}", place.options.join(",")))
                .fix(format!(
                    "dmesg tells whether its disk fails; else mount -o remount,rw {mount}"
                )),
            );
        }
        if has(place, "noexec") && ["programs", "images", "pods"].contains(&purpose) {
            out.push(
                case.blocks(
                    "mount-noexec",
                    format!("programs cannot be started from the file system of {purpose}"),
                )
                .seen(format!("{mount}: {}", place.options.join(",")))
                .fix(format!(
                    "mount -o remount,exec {mount}, and take noexec out of its line in /etc/fstab"
                )),
            );
        }
        if has(place, "noexec") && temporary {
            out.push(
                case.warns("mount-noexec", "programs that unpack themselves under /tmp fail: it is mounted noexec")
                    .seen(format!("{mount}: {}", place.options.join(",")))
                    .fix(format!("mount -o remount,exec {mount}, where such programs run on the host itself; Zoisite starts none there")),
            );
        }
        if ["nfs", "nfs4", "cifs", "fuse.sshfs", "9p", "tmpfs", "ramfs"]
            .contains(&place.kind.as_str())
            && ["etcd", "images"].contains(&purpose)
        {
            let message = match place.kind.as_str() {
                "tmpfs" | "ramfs" => {
                    format!("{purpose} would live in memory, and be gone after a restart")
                }
                kind => format!("{purpose} would live on {kind}, over the network"),
            };
            let found = match purpose {
                "etcd" => case.blocks("disk-unfit", message),
                _ => case.warns("disk-unfit", message),
            };
            out.push(
                found
                    .seen(format!("{mount} ({})", place.device))
                    .fix(format!("mount a disk of the host's own at {}", place.path)),
            );
        }
    }
    out
}

/// A write that takes longer, in milliseconds, is what etcd warns of (etcd's documentation, "Hardware").
const SLOW_WRITE: f64 = 10.0;

pub(super) fn disk_speed(case: &Case<'_>) -> Vec<SiteFinding> {
    let Some(written) = &case.facts.written else { return Vec::new() };
    let mount = case.facts.place("etcd").map_or("", |place| place.mount.as_str());
    if let Some(fault) = &written.fault
        && written.writes == 0
    {
        return vec![
            case.blocks("disk-fails", "nothing can be written where etcd's data will live")
                .seen(format!("{mount}: {fault}"))
                .fix("dmesg tells whether the disk fails; df -h and df -i whether it is full"),
        ];
    }
    if written.milliseconds <= SLOW_WRITE {
        return Vec::new();
    }
    vec![
        case.warns("disk-slow", "its disk is slow for etcd: each write waits until it lies there")
            .seen(format!(
                "{} small writes, {} ms each on the average; etcd wants less than {SLOW_WRITE}",
                written.writes, written.milliseconds
            ))
            .fix("give etcd a solid-state disk of its own, or longer election-timeout and heartbeat-interval under [etcd.settings]"),
    ]
}
