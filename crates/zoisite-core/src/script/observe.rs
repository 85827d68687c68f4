//! The script that looks at a host: one round trip, changing nothing.

use std::fmt::Write as _;

use super::{quote, wrapped};
use crate::blueprint::{FIRST_START, HostBlueprint, Item, TOKEN_PATH};

pub(super) const OBSERVE: &str = include_str!("observe.sh");

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
    let mut body = String::from("now 'the host itself'\nhost_facts\n");
    let depth = match depth {
        Depth::Quick => "quick",
        Depth::Deep => "deep",
    };
    let mut paths = Vec::new();
    let mut plain = Vec::new();
    let mut wholes = Vec::new();
    let mut components = Vec::new();
    let mut units = Vec::new();
    for item in &blueprint.items {
        match item {
            Item::User(user) => {
                let _ = writeln!(body, "user {}", quote(user.name));
            }
            Item::Directory(directory) => paths.push(quote(&directory.path)),
            Item::Absent(path) => paths.push(quote(path)),
            Item::File(file) => {
                paths.push(quote(&file.path));
                match file.content.first_start() {
                    Some(_) => {
                        let mark = quote(FIRST_START);
                        let _ = writeln!(body, "sum_before {mark} {}", quote(&file.path));
                        wholes.push(quote(&file.path));
                    }
                    None => plain.push(quote(&file.path)),
                }
            }
            Item::Component(component) => components.push(quote(&component.path)),
            // All images are listed at once, below.
            Item::Image(_) => {}
            Item::Unit(unit) => units.push(quote(unit.name)),
        }
    }
    for (what, words) in [
        ("paths".to_owned(), paths),
        ("sums".into(), plain),
        ("wholes".into(), wholes),
        (format!("components {depth}"), components),
        ("units".into(), units),
    ] {
        if !words.is_empty() {
            let title = what.split(' ').next().unwrap_or_default();
            let _ = writeln!(body, "now {title}\n{what} \\\n  {}", words.join(" \\\n  "));
        }
    }
    if !blueprint.programs.is_empty() {
        let words: Vec<String> = blueprint.programs.iter().map(|program| quote(program)).collect();
        let _ = writeln!(body, "programs {}", words.join(" "));
    }
    if let Some(node) = &blueprint.node {
        let name = quote(node.stable_name.as_deref().unwrap_or_default());
        let _ = writeln!(body, "now 'the node'\nnode_facts");
        let (client, images) = (quote(&node.client), quote(&node.images));
        let _ = writeln!(body, "node_state {client} {images} {name} {}", quote(TOKEN_PATH));
    }
    if let Some(etcd) = &blueprint.etcd {
        let _ = writeln!(body, "now etcd\nroom {}", quote(&etcd.folder));
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
            quote(&etcd.endpoint),
            quote(&etcd.authority),
            quote(&etcd.certificate),
            quote(&etcd.key),
            quote(etcd.unit)
        );
    }
    wrapped(&format!("zoisite: look at {}", blueprint.host), &[OBSERVE], &body)
}
