use std::fmt::Write as _;

use zoisite_core::cluster::{Cluster, Topology, subnets_in};

use super::{Style, count, names, table::table};

/// Who does what, what it survives, and where addresses come from.
pub fn render(cluster: &Cluster, topology: &Topology, style: Style) -> String {
    let mut out = String::new();
    let _ = writeln!(
        out,
        "{} · Kubernetes {} · etcd {} · {}\n",
        style.bold(cluster.name.as_str()),
        cluster.kubernetes,
        cluster.etcd_version,
        count(cluster.hosts.len(), "host")
    );
    let mut rows: Vec<Vec<String>> = topology
        .layers
        .iter()
        .map(|layer| {
            let (survives, hosts) = match (layer.survives, layer.hosts.is_empty()) {
                (None, _) => ("the site's own business".into(), String::new()),
                (Some(n), true) => (format!("{n} lost"), "the control plane itself".into()),
                (Some(n), false) => (format!("{n} lost"), names(&layer.hosts)),
            };
            vec![layer.name.to_owned(), survives, hosts]
        })
        .collect();
    rows.push(vec!["workers".into(), String::new(), names(&topology.workers)]);
    out.push_str(&table(&["layer", "survives", "hosts"], rows));
    out.push('\n');
    let nodes = cluster.nodes().len();
    let network = &cluster.network;
    let mut rows = vec![vec![
        "API endpoint".into(),
        cluster.control_plane.endpoint.to_string(),
        cluster.load_balancers.virtual_ip.map_or(String::new(), |ip| format!("virtual IP {ip}")),
    ]];
    for range in &network.pods {
        let prefix = network.subnet_prefix(range);
        let fit = subnets_in(range, prefix);
        let fit = if fit == u64::MAX { "more than enough".into() } else { fit.to_string() };
        let text = format!("a /{prefix} per node: {fit} fit, {nodes} are wanted");
        rows.push(vec!["pods".into(), range.to_string(), text]);
    }
    for range in &network.services {
        rows.push(vec!["services".into(), range.to_string(), String::new()]);
    }
    let registry = &cluster.registry;
    if let Some(host) = &registry.host {
        let text = format!("on {host}, port {}", registry.port);
        rows.push(vec!["registry".into(), registry.name.clone(), text]);
    }
    out.push_str(&table(&["addresses", "", ""], rows));
    let whole = topology.tolerance.whole;
    let survives = match whole {
        0 => "no loss".to_owned(),
        1 => "the loss of any one host".into(),
        n => format!("the loss of any {n} hosts"),
    };
    let _ = writeln!(out, "\n  as a whole it survives {}", style.bold(&survives));
    if let Some(next) = &topology.next {
        let _ = writeln!(out, "  {} {next}", style.dim("to survive one more, the cheapest:"));
    }
    out
}
