//! What the design is worth: losses, addresses, sizes.

use std::fmt::Write as _;

use ipnet::IpNet;
use zoisite_core::cluster::{
    Cluster, Fewest, HostName, Left, Loss, Lost, Need, PlannedRange, RangeUse, Topology,
    address_plan,
};

use super::table::{ranked, table};
use super::{Style, count, few};

/// The loss table, and what more would take.
pub fn losses(cluster: &Cluster, topology: &Topology, survive: usize, style: Style) -> String {
    let rows = zoisite_core::cluster::losses(cluster);
    let cells = rows.iter().map(|row| {
        let answers = match &row.outage {
            None => style.good("✓ answers"),
            Some(why) => style.bad(&format!("✗ outage: {why}")),
        };
        let load_balancers =
            row.load_balancers.map_or_else(|| style.dim("–"), |left| fraction(left, style));
        vec![
            lost(row),
            load_balancers,
            fraction(row.api_servers, style),
            fraction(row.members, style),
            fraction(row.workers, style),
            answers,
        ]
    });
    let columns = [
        ("lost", 0),
        ("load balancers", 2),
        ("API servers", 1),
        ("members", 1),
        ("workers", 3),
        ("the cluster", 0),
    ];
    let mut out = format!("{}\n\n", style.bold("What is left after a loss"));
    out.push_str(&ranked(&columns, cells));
    let fewest = Fewest::for_losses(survive);
    let whole = topology.tolerance.whole;
    let _ = writeln!(
        out,
        "\n  as designed it survives {} of its {}",
        style.bold(&match whole {
            0 => "the loss of none".to_owned(),
            1 => "the loss of any one".to_owned(),
            n => format!("the loss of any {n}"),
        }),
        count(cluster.hosts.len(), "host"),
    );
    let _ = writeln!(
        out,
        "  {} {} at least, each with every layer; {} with a layer each, and workers",
        style.dim(&format!("to survive {survive}:")),
        count(fewest.shared, "machine"),
        fewest.apart,
    );
    let change = topology.to_survive(cluster, survive);
    let change = change.unwrap_or_else(|| "nothing: it does".into());
    let _ = writeln!(out, "  {} {change}", style.dim("the cheapest change to that:"));
    if let (false, Some(wide)) = (whole == 0, rows.iter().find(|row| lost_place(row))) {
        let _ = writeln!(
            out,
            "  {} {} takes more with it than any one host",
            style.warn("!"),
            lost(wide)
        );
    }
    out
}

/// Whether a whole place is lost, and the cluster with it.
fn lost_place(row: &Loss) -> bool {
    matches!(row.lost, Lost::Site(_) | Lost::Rack(_)) && row.outage.is_some()
}

fn one_of(hosts: &[HostName]) -> String {
    match hosts {
        [one] => one.to_string(),
        hosts => format!("one of {}", few(hosts)),
    }
}

fn lost(row: &Loss) -> String {
    match &row.lost {
        Lost::OneOf(hosts) => one_of(hosts),
        Lost::TwoOf(hosts) => match hosts.as_slice() {
            [one, other] => format!("{one} and {other}"),
            hosts => format!("any two of {}", few(hosts)),
        },
        Lost::OneOfEach(some, others) => format!("{} and {}", one_of(some), one_of(others)),
        Lost::Rack(rack) => format!("the rack {rack}"),
        Lost::Site(site) => format!("the site {site}"),
    }
}

fn fraction(Left { left, of }: Left, style: Style) -> String {
    let text = format!("{left} of {of}");
    match (left, of) {
        (_, 0) => style.dim("–"),
        (0, _) => style.bad(&text),
        (left, of) if left < of => style.warn(&text),
        _ => text,
    }
}

/// What a range is for, in a word or two.
pub fn what(what: &RangeUse) -> &'static str {
    match what {
        RangeUse::Hosts(_) => "hosts",
        RangeUse::OtherNetworks(_) => "other networks",
        RangeUse::Pods { .. } => "pods",
        RangeUse::WindowsPods { .. } => "pods on Windows",
        RangeUse::Services => "services",
        RangeUse::Mesh => "mesh",
        RangeUse::ServiceAddresses => "service addresses",
        RangeUse::VirtualIp => "virtual IP",
        RangeUse::Stable => "API endpoint",
        RangeUse::Resolver => "resolver",
        RangeUse::Reserved => "taken",
    }
}

/// The mark of a range on the map.
fn mark(what: &RangeUse) -> char {
    match what {
        RangeUse::Reserved => 'x',
        RangeUse::Pods { .. } => 'P',
        RangeUse::WindowsPods { .. } => 'W',
        RangeUse::Services => 'S',
        RangeUse::Mesh => 'M',
        RangeUse::OtherNetworks(_) => 'O',
        RangeUse::Hosts(_) => 'H',
        RangeUse::ServiceAddresses => 'A',
        RangeUse::Resolver => 'R',
        RangeUse::VirtualIp => 'V',
        RangeUse::Stable => 'V',
    }
}

/// Ranges as a table and as maps of what lies where.
pub fn addresses(cluster: &Cluster, style: Style) -> String {
    let plan = address_plan(cluster);
    let rows = plan.iter().map(|planned| {
        let says = match planned.what {
            RangeUse::Hosts(1) | RangeUse::OtherNetworks(1) => "1 address".into(),
            RangeUse::Hosts(n) | RangeUse::OtherNetworks(n) => format!("{n} addresses"),
            RangeUse::Pods { prefix, fit: Some(fit), used }
            | RangeUse::WindowsPods { prefix, fit, used } => {
                let left = fit.saturating_sub(used);
                format!("{} {used} of {fit} nodes, a /{prefix} each; {left} left", gauge(used, fit))
            }
            RangeUse::Pods { prefix, fit: None, used } => {
                format!("{} {used} nodes, a /{prefix} each; more than enough left", gauge(0, 1))
            }
            RangeUse::Services => {
                let bits = planned.range.max_prefix_len() - planned.range.prefix_len();
                format!("{} addresses inside the cluster", 1_u128 << bits.min(64))
            }
            RangeUse::Mesh if cluster.is_all_mesh() => "hosts connect to one another in it".into(),
            RangeUse::Mesh => "hosts elsewhere are reached in it".into(),
            RangeUse::ServiceAddresses => "kept for services that are reached from outside".into(),
            RangeUse::VirtualIp if cluster.is_all_mesh() => {
                "every load balancer has it for itself".into()
            }
            RangeUse::VirtualIp if cluster.load_balancers.hosts.is_empty() => {
                "moves between the control planes".into()
            }
            RangeUse::VirtualIp => "moves between the load balancers".into(),
            RangeUse::Stable => "the API endpoint".into(),
            RangeUse::Resolver => "a name server of the site".into(),
            RangeUse::Reserved => "used by something else".into(),
        };
        let range = match planned.range.prefix_len() == planned.range.max_prefix_len() {
            true => planned.range.addr().to_string(),
            false => planned.range.to_string(),
        };
        vec![mark(&planned.what).to_string(), what(&planned.what).to_owned(), range, says]
    });
    let mut out = format!("{}\n\n", style.bold("Where addresses come from"));
    out.push_str(&table(&["", "for", "range", ""], rows));
    out.push('\n');
    for map in maps(&plan) {
        out.push_str(&map);
    }
    out
}

/// How full something is, in ten parts; what is used at all shows.
fn gauge(used: u64, of: u64) -> String {
    const PARTS: u64 = 10;
    let full = (used.min(of) * PARTS).div_ceil(of.max(1));
    (0..PARTS).map(|part| if part < full { '█' } else { '░' }).collect()
}

/// A line for each stretch of addresses that holds ranges near one another, and more where several share a place: each cell
/// is an equal part of it.
fn maps(plan: &[PlannedRange]) -> Vec<String> {
    const CELLS_BITS: u8 = 6;
    let mut spans: Vec<IpNet> = Vec::new();
    for planned in plan {
        let wide = planned.range;
        let wide = IpNet::new(wide.addr(), wide.prefix_len().min(neighbourhood(&wide)));
        let Ok(wide) = wide else { continue };
        let wide = wide.trunc();
        if !spans.contains(&wide) {
            spans.push(wide);
        }
    }
    // Wider ones hold narrower ones.
    let all = spans.clone();
    spans.retain(|span| !all.iter().any(|other| other != span && other.contains(span)));
    spans
        .into_iter()
        .map(|span| {
            let inside: Vec<&PlannedRange> =
                plan.iter().filter(|planned| span.contains(&planned.range)).collect();
            let shown = inside.iter().map(|planned| planned.range).reduce(around).unwrap_or(span);
            let cell_bits = shown.max_prefix_len().min(shown.prefix_len() + CELLS_BITS);
            let cells = 1_usize << (cell_bits - shown.prefix_len());
            let mut lines = vec![vec!['·'; cells]];
            let mut ordered = inside;
            ordered.sort_by_key(|planned| planned.range.prefix_len());
            for planned in ordered {
                let (first, last) = (
                    cell(&shown, cell_bits, &planned.range.network()),
                    cell(&shown, cell_bits, &planned.range.broadcast()),
                );
                // What shares a place with others stands below them.
                let free =
                    |line: &Vec<char>| line[first..=last].iter().all(|at| " ·".contains(*at));
                let at = lines.iter().position(free).unwrap_or_else(|| {
                    lines.push(vec![' '; cells]);
                    lines.len() - 1
                });
                lines[at][first..=last].fill(mark(&planned.what));
            }
            let line = |line: Vec<char>| format!("  {}\n", String::from_iter(line).trim_end());
            let lines: String = lines.into_iter().map(line).collect();
            format!("  {shown}, each mark a /{cell_bits}\n{lines}")
        })
        .collect()
}

/// Ranges within one of these are drawn on one line: the private networks, by their habit.
fn neighbourhood(range: &IpNet) -> u8 {
    match range {
        IpNet::V4(v4) => match v4.network().octets()[0] {
            10 => 8,
            172 => 12,
            _ => 16,
        },
        IpNet::V6(_) => 16,
    }
}

/// The least range that holds both.
fn around(one: IpNet, other: IpNet) -> IpNet {
    let mut wide = one;
    while !wide.contains(&other) {
        match wide.supernet() {
            Some(wider) => wide = wider,
            None => break,
        }
    }
    wide
}

/// On which cell an address lies.
fn cell(shown: &IpNet, cell_bits: u8, address: &std::net::IpAddr) -> usize {
    let number = |address: &std::net::IpAddr| match address {
        std::net::IpAddr::V4(v4) => u128::from(v4.to_bits()),
        std::net::IpAddr::V6(v6) => v6.to_bits(),
    };
    let from_start = number(address) - number(&shown.network());
    let shift = u32::from(shown.max_prefix_len() - cell_bits);
    usize::try_from(from_start.checked_shr(shift).unwrap_or(0)).unwrap_or(0)
}

/// The least that machines need, without what workloads need.
pub fn sizes(cluster: &Cluster, style: Style) -> String {
    let all = zoisite_core::cluster::sizes(cluster);
    let rows = all.iter().map(|size| {
        let Need { millicores, memory_mib, disk_mib } = size.need;
        let parts: Vec<String> = size
            .parts
            .iter()
            .map(|(what, need)| format!("{what} {}", mebibytes(need.memory_mib)))
            .collect();
        vec![
            few(&size.hosts),
            format!("{}.{}", millicores.div_ceil(100) / 10, millicores.div_ceil(100) % 10),
            mebibytes(memory_mib),
            mebibytes(disk_mib),
            style.dim(&parts.join(", ")),
        ]
    });
    let columns = [("hosts", 0), ("cores", 0), ("memory", 0), ("disk", 0), ("memory is for", 1)];
    let mut out = format!("{}\n\n", style.bold("What machines need at least, without workloads"));
    out.push_str(&ranked(&columns, rows));
    let _ = writeln!(
        out,
        "\n  {}",
        style.dim("the least for nodes full of pods; plan for twice as much")
    );
    out
}

/// `640 MiB`, `1.3 GiB`, rounded up.
fn mebibytes(n: u64) -> String {
    match n {
        0..1_024 => format!("{n} MiB"),
        _ => {
            let tenths = (n * 10).div_ceil(1_024);
            format!("{}.{} GiB", tenths / 10, tenths % 10)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn planned(what: RangeUse, range: &str) -> PlannedRange {
        PlannedRange { what, range: range.parse().unwrap() }
    }

    #[test]
    fn a_map_shows_what_lies_where() {
        let pods = RangeUse::Pods { prefix: 24, fit: Some(256), used: 3 };
        let plan = [
            planned(RangeUse::Hosts(3), "10.77.0.0/24"),
            planned(pods, "10.90.0.0/16"),
            planned(RangeUse::Services, "10.91.0.0/20"),
            planned(RangeUse::Reserved, "192.168.50.0/24"),
            planned(RangeUse::Hosts(1), "fd77::/64"),
        ];
        let maps = maps(&plan);
        assert_eq!(maps.len(), 3, "{maps:?}");
        assert!(maps[0].starts_with("  10.64.0.0/11, each mark a /17\n"), "{}", maps[0]);
        let line = maps[0].lines().nth(1).unwrap().trim();
        assert_eq!(line.len() - line.matches('·').count() * ('·'.len_utf8() - 1), 64);
        assert_eq!(
            line.replace('·', "."),
            "..........................H.........................PPS........."
        );
        assert_eq!(maps[1].lines().nth(1).unwrap().trim(), "x".repeat(64));
        assert!(maps[2].contains("fd77::/64"));
    }

    #[test]
    fn what_is_used_at_all_shows_on_a_gauge() {
        assert_eq!(gauge(0, 256), "░░░░░░░░░░");
        assert_eq!(gauge(1, 256), "█░░░░░░░░░");
        assert_eq!(gauge(256, 256), "██████████");
        assert_eq!(gauge(3, 0), "██████████".replace('█', "░"));
    }

    #[test]
    fn memory_is_rounded_up() {
        assert_eq!(mebibytes(640), "640 MiB");
        assert_eq!(mebibytes(1_024), "1.0 GiB");
        assert_eq!(mebibytes(1_025), "1.1 GiB");
    }
}
