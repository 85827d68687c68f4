//! The script that looks at a host: one round trip, changing nothing.

use std::fmt::Write as _;

use super::{quote, wrapped};
use crate::blueprint::{FIRST_START, HostBlueprint, Item};

const OBSERVE: &str = include_str!("observe.sh");

/// How hard to look at large files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// A large file is known by size, inode and time once its checksum was verified.
    Quick,
    /// Every checksum is computed anew.
    Deep,
}

/// The script that observes everything that `blueprint` names.
pub fn observe(blueprint: &HostBlueprint, depth: Depth) -> String {
    let mut body = String::from("host_facts\n");
    let depth = match depth {
        Depth::Quick => "quick",
        Depth::Deep => "deep",
    };
    for item in &blueprint.items {
        let _ = match item {
            Item::User(user) => writeln!(body, "user {}", quote(user.name)),
            Item::Directory(directory) => writeln!(body, "directory {}", quote(&directory.path)),
            Item::File(file) => match file.content.first_start() {
                Some(_) => writeln!(body, "file {} {}", quote(&file.path), quote(FIRST_START)),
                None => writeln!(body, "file {}", quote(&file.path)),
            },
            Item::Component(component) => {
                writeln!(body, "component {} {depth}", quote(&component.path))
            }
            Item::Unit(unit) => writeln!(body, "unit {}", quote(unit.name)),
        };
    }
    if let Some(etcd) = &blueprint.etcd {
        let _ = writeln!(body, "room {}", quote(&etcd.folder));
        let _ = writeln!(
            body,
            "etcd_data {} {} {} {}",
            quote(&etcd.folder),
            quote(&etcd.data),
            quote(&etcd.owner_mark),
            quote(&etcd.formed_mark)
        );
        let _ = writeln!(
            body,
            "etcd_status {} {} {} {} {}",
            quote(&etcd.etcdctl),
            quote(&etcd.endpoint),
            quote(&etcd.authority),
            quote(&etcd.certificate),
            quote(&etcd.key)
        );
    }
    wrapped(&format!("zoisite: look at {}", blueprint.host), &[OBSERVE], &body)
}
