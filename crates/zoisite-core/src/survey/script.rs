use super::names::names_to_ask;
use crate::cluster::{Cluster, Host, HostName, Role};
use crate::holdings::EtcdPaths;
use crate::item::ROUTE_PROTOCOL;
use crate::paths::group;
use crate::script::{etcd_data, wrapped_look};
use crate::text::quote;

const SURVEY: &str = include_str!("survey.sh");

/// Places where something will live on a host: what for, and where.
fn places(cluster: &Cluster, host: &Host) -> Vec<(&'static str, String)> {
    let mut out = vec![("programs", "/usr/local/lib/zoisite".to_owned())];
    if cluster.etcd.members.contains(&host.name) {
        out.push(("etcd", cluster.etcd.folder.clone()));
    }
    if cluster.is_node(&host.name) {
        out.push(("images", "/var/lib/containerd".into()));
        out.push(("pods", "/var/lib/kubelet".into()));
    }
    if cluster.holds(&host.name, Role::Registry) {
        out.push(("registry", cluster.registry.folder.clone()));
    }
    out.push(("logs", "/var/log".into()));
    out.push(("temporary files", "/tmp".into()));
    out
}

/// Programs of the distribution that a host needs for what it holds.
fn programs(cluster: &Cluster, host: &HostName) -> Vec<&'static str> {
    let mut out = Vec::new();
    if cluster.load_balancers.hosts.contains(host) || cluster.has_monitoring(host) {
        out.push("haproxy");
    }
    if cluster.is_node(host) {
        out.extend(["containerd", "plugins"]);
    }
    out
}

/// The script that asks a host what it is like.
pub fn survey_script(cluster: &Cluster, host: &Host) -> String {
    let mut body =
        String::from("clock\nnow 'the host itself'\nhost_facts\nmachine\nnature\nkernel\n");
    let holds = cluster.virtual_ip_holders().contains(&host.name);
    let virtual_ip = cluster.load_balancers.virtual_ip.filter(|_| holds);
    if let (Some(virtual_ip), Some(id)) = (virtual_ip, cluster.router_id()) {
        let holders = cluster.virtual_ip_holders();
        let own = holders.iter().filter_map(|name| cluster.host(name));
        let own = own.filter_map(|host| host.address_beside(virtual_ip));
        let own: String = own.map(|address| format!(" {address}")).collect();
        let (_, group) = group(virtual_ip);
        let beside = host.address_beside(virtual_ip).unwrap_or(host.address);
        body.push_str(&format!("routers_begin {id} {group} {beside}{own}\n"));
    }
    body.push_str("now 'its disks'\n");
    let all = places(cluster, host);
    let all = all.iter().map(|(purpose, path)| format!(" {} {}", quote(purpose), quote(path)));
    body.push_str(&format!("places{}\n", all.collect::<String>()));
    let folder = quote(&cluster.etcd.folder);
    if cluster.etcd.members.contains(&host.name) {
        body.push_str(&format!("now 'how fast its disk writes'\nwritten {folder}\n"));
    }
    body.push_str(&format!("now 'its network'\nnetwork {ROUTE_PROTOCOL}\n"));
    if let Some(virtual_ip) = virtual_ip {
        body.push_str(&format!("now 'the virtual IP'\nneighbour {virtual_ip}\n"));
    }
    body.push_str("now names\nname_servers\n");
    let (names, addresses) = names_to_ask(cluster, host);
    let words = |all: Vec<String>| all.iter().map(|w| quote(w)).collect::<Vec<_>>().join(" ");
    let addresses = addresses.iter().map(ToString::to_string).collect();
    body.push_str(&format!("ask_names {}\n", words(names)));
    let words = words(addresses);
    body.push_str(&format!("say asked {words}\nask_addresses {words}\n"));
    body.push_str("now 'services and ports'\nservices\nswap\nunit_files\nfirewall\nlistening\n");
    body.push_str(&format!("found {}\n", programs(cluster, &host.name).join(" ")));
    body.push_str("now 'where packages come from'\npackages\n");
    body.push_str(&format!("now 'leftovers'\nleftovers {folder}\n"));
    if virtual_ip.is_some() {
        body.push_str("now 'others that float addresses'\nrouters_heard\n");
    }
    let etcd = EtcdPaths::of(cluster, None, "");
    body.push_str(&etcd_data(&etcd));
    body.push_str("clock\n");
    wrapped_look(&format!("survey {}", host.name), SURVEY, &body)
}
