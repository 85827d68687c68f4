//! The script that looks at a host: one round trip, changing nothing.

use std::fmt::Write as _;

use super::wrapped;
use crate::holdings::{ADDRESS_AWAY, ADDRESS_STATE, CAN_SERVE};
use crate::holdings::{EtcdPaths, HostHoldings, MESH_PUBLIC, Part, TOKEN_PATH};
use crate::item::{Item, Look};
use crate::text::quote;

pub(super) const OBSERVE: &str = include_str!("observe.sh");

/// How hard to look at large files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// A large file is known by size, inode and time once its checksum was verified.
    Quick,
    /// Every checksum is computed again.
    Deep,
}

/// Looks at a member's data and its marks.
pub(crate) fn etcd_data(etcd: &EtcdPaths) -> String {
    let all = [&etcd.folder, &etcd.data, &etcd.owner_mark, &etcd.formed_mark, &etcd.epoch_mark];
    format!("etcd_data {}\n", all.map(|path| quote(path)).join(" "))
}

/// The script that observes everything that `holdings` name.
pub fn observe(holdings: &HostHoldings, depth: Depth) -> String {
    let mut body = String::from("now 'the host itself'\nhost_facts\nnature\n");
    let depth = match depth {
        Depth::Quick => "quick",
        Depth::Deep => "deep",
    };
    let _ = writeln!(body, "depth={depth}");
    let mut look = Look::default();
    holdings.items.iter().for_each(|item| item.look(&mut look));
    body.push_str(&look.body());
    if !holdings.needs.is_empty() {
        let _ =
            writeln!(body, "now 'where packages come from'\nneeds {}", holdings.needs.join(" "));
    }
    if !holdings.names.is_empty() {
        let words: Vec<String> = holdings.names.iter().map(|name| quote(name)).collect();
        let _ = writeln!(body, "now names\nknows {}", words.join(" "));
    }
    if !holdings.programs.is_empty() {
        let words: Vec<String> = holdings.programs.iter().map(|program| quote(program)).collect();
        let _ = writeln!(body, "programs {}", words.join(" "));
    }
    if let Some(node) = &holdings.node {
        let name = quote(node.api_name.as_deref().unwrap_or_default());
        let _ = writeln!(body, "now 'the node'\nswaps\npods_disk");
        let client = quote(&node.client);
        let _ = writeln!(body, "node_state {client} {name} {}", quote(TOKEN_PATH));
    }
    if holdings.has(Part::Mesh) {
        let _ = writeln!(body, "mesh_facts {}", quote(MESH_PUBLIC));
    }
    if let Some(address) = &holdings.address {
        let _ = writeln!(
            body,
            "now 'the virtual IP'\nvirtual_ip {address} {CAN_SERVE} {ADDRESS_STATE} {ADDRESS_AWAY}"
        );
    }
    if let Some(etcd) = &holdings.etcd {
        let _ = writeln!(body, "now etcd\nroom {}", quote(&etcd.folder));
        body.push_str(&etcd_data(etcd));
        let _ = writeln!(
            body,
            "etcd_status {} {} {} {} {}",
            quote(&etcd.endpoint),
            quote(&etcd.authority),
            quote(&etcd.certificate),
            quote(&etcd.key),
            quote(etcd.unit)
        );
        if let Some(metrics) = &etcd.metrics {
            let (unit, ip, port) = (quote(etcd.unit), metrics.ip(), metrics.port());
            let _ = writeln!(body, "etcd_pace {unit} {ip} {port}");
        }
    }
    let helpers: Vec<&str> = std::iter::once(&OBSERVE).chain(Item::LOOK).copied().collect();
    wrapped(&format!("zoisite: look at {}", holdings.host), &helpers, &body)
}
