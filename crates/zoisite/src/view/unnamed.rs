//! Machines that have no name yet.

use jiff::Timestamp;
use zoisite_core::cluster::HostName;
use zoisite_core::survey::{AddressFacts, Facts};

use super::{Style, count, minute, table::table};

/// What is known of one.
pub struct Unnamed {
    /// What it is called until it has a name.
    pub name: HostName,
    /// Its card.
    pub mac: String,
    /// When its first-boot data was written.
    pub seeded: Option<Timestamp>,
    /// When it reported in, and what it is like.
    pub reported: Option<(Timestamp, Facts)>,
}

impl Unnamed {
    /// The address that its card was given where it stands.
    fn address(&self) -> Option<&AddressFacts> {
        let (_, facts) = self.reported.as_ref()?;
        let card = facts.links.iter().find(|link| link.mac.eq_ignore_ascii_case(&self.mac))?;
        let own = facts.addresses.iter().filter(|address| address.link == card.name);
        // One of the older family first, and none that counts on one wire alone.
        let mut own: Vec<_> = own.filter(|address| !address.is_link_local()).collect();
        own.sort_by_key(|address| address.net.addr().is_ipv6());
        own.first().copied()
    }
}

/// The line for the cluster file, where it has reported in.
pub fn offer(one: &Unnamed) -> Option<String> {
    let address = one.address()?.net.addr();
    Some(format!("NAME = {{ address = \"{address}\", mac = \"{}\" }}", one.mac))
}

pub fn render(all: &[Unnamed], style: Style) -> String {
    let none = || "–".to_owned();
    let rows = all.iter().map(|one| {
        let sign = match (&one.reported, one.seeded) {
            (Some(_), _) => style.good("✓"),
            _ => style.dim("·"),
        };
        let facts = one.reported.as_ref().map(|(_, facts)| facts);
        let room = |facts: &Facts| {
            let room = facts.places.iter().map(|place| place.free).min()?;
            Some(format!("{:.1} GiB", room as f64 / 1_024.0))
        };
        let address = one.address().map(|address| match address.leased {
            Some(_) => format!("{} (leased)", address.net.addr()),
            None => address.net.addr().to_string(),
        });
        vec![
            format!("{sign} {}", one.mac),
            one.seeded.map_or_else(none, minute),
            one.reported.as_ref().map_or_else(none, |(at, _)| minute(*at)),
            address.unwrap_or_else(none),
            facts.map_or_else(none, |facts| format!("{} {}", facts.os, facts.arch)),
            facts.map_or_else(none, |facts| facts.cores.to_string()),
            facts.map_or_else(none, |facts| format!("{:.1} GiB", facts.memory as f64 / 1_024.0)),
            facts.and_then(room).unwrap_or_else(none),
        ]
    });
    let columns =
        ["machine", "written", "reported in", "address", "system", "cores", "memory", "least room"];
    let mut out = table(&columns, rows);
    let offers: Vec<String> = all.iter().filter_map(offer).collect();
    if !offers.is_empty() {
        out.push_str("\nUnder [hosts], each with a name of your own:\n");
        for offer in &offers {
            out.push_str(&format!("  {offer}\n"));
        }
        out.push_str("then: zoisite first-boot name\n");
    }
    if all.iter().any(|one| one.seeded.is_none()) {
        out.push_str("\nTheir first-boot data: zoisite first-boot write --unnamed --out DIR\n");
    } else if all.iter().any(|one| one.reported.is_none()) {
        out.push_str("\nWhat they write: zoisite reports fetch, or reports read FILE\n");
    }
    let heard = all.iter().filter(|one| one.reported.is_some()).count();
    out.push_str(&format!(
        "\n{} without a name, {heard} reported in\n",
        count(all.len(), "machine")
    ));
    out
}
