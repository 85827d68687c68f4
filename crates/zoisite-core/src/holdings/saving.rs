//! A member's host saves what the member holds, by a timer of its own: also while this program does not run.

use super::etcd_paths::{EtcdPaths, etcd_folder};
use super::{UnitFile, Workshop, unit::HARDENED};
use crate::item::Item;
use crate::snapshot::{SAVE, SAVED_THERE};
use crate::text::quote;

/// The timer.
const SAVING_TIMER: &str = "zoisite-snapshot.timer";
/// What it starts.
const SAVING_UNIT: &str = "zoisite-snapshot.service";
const PROGRAM: &str = "/usr/local/lib/zoisite/save-snapshot";

pub(super) fn saving(shop: &Workshop<'_>, paths: &EtcdPaths) -> Vec<Item> {
    let keeps = &shop.cluster.snapshots;
    let program = match keeps.on_members {
        Some(_) => format!(
            "#!/bin/sh\n# Written by zoisite: edits are put right by the next raise.\nclient={}\nendpoint={}\nauthority={}\ncertificate={}\nkey={}\nat={SAVED_THERE}\nkeep={}\n{SAVE}",
            quote(&format!("{}/etcdctl", etcd_folder(shop.cluster))),
            quote(&paths.endpoint),
            quote(&paths.authority),
            quote(&paths.certificate),
            quote(&paths.key),
            keeps.on_members_keep,
        ),
        None => {
            "#!/bin/sh\n# Written by zoisite: the cluster file wants no snapshots here.\n".into()
        }
    };
    let every = keeps.on_members.unwrap_or(86_400);
    let service = UnitFile::default()
        .section("Unit", [("Description", "saves what the etcd member here holds")])
        .section(
            "Service",
            [
                ("Type", "oneshot"),
                ("ExecStart", PROGRAM),
                ("ReadWritePaths", SAVED_THERE),
                ("Nice", "10"),
                ("IOSchedulingClass", "idle"),
                ("TimeoutStartSec", "1h"),
            ]
            .into_iter()
            .chain(HARDENED),
        );
    // Not all at the same moment, nor right after a start.
    let when = vec![
        ("OnActiveSec", format!("{}s", every.min(1_800))),
        ("OnUnitActiveSec", format!("{every}s")),
        ("RandomizedDelaySec", format!("{}s", every / 10)),
    ];
    let what = "saves what the etcd member here holds, now and then".to_owned();
    let mut items =
        vec![Workshop::directory(SAVED_THERE, "root", 0o700), Workshop::program(PROGRAM, program)];
    items.extend(Workshop::timed((SAVING_UNIT, &service), (SAVING_TIMER, what, when)));
    items
}
