//! What hosts run: losing, fixing, watching.

use std::net::IpAddr;

use super::{By, Drill};
use crate::cluster::{Cluster, Endpoint, HostName};
use crate::script::{acting, wrapped};
use crate::text::quote;

const LOSE: &str = include_str!("lose.sh");
const WATCH: &str = include_str!("watch.sh");

/// What the host of a drill says of its progress at the very moment of the loss.
pub const LOST: &str = "lost";

/// The script with which the host of a drill loses what is lost, and fixes it by a timer of its own. It says [`LOST`]
/// just before.
pub fn lose_script(cluster: &Cluster, drill: &Drill, generation: u64) -> String {
    let host = cluster.host(&drill.host);
    let address = host.map(|host| host.address.to_string()).unwrap_or_default();
    let port = host.and_then(|host| cluster.login_of(host).port).unwrap_or(22);
    let virtual_ip = cluster.load_balancers.virtual_ip.map(|address| address.to_string());
    let from = drill.from.as_ref().and_then(|from| cluster.host(from));
    let from = from.map(|from| from.address.to_string()).unwrap_or_default();
    let seconds = drill.seconds;
    let what = match (drill.by, drill.unit()) {
        (By::Stop, Some(unit)) => format!("lose_unit {} {seconds}", quote(unit)),
        (By::Reboot, _) => "lose_machine".to_owned(),
        _ => format!(
            "lose_network {address} {port} {seconds} {} {}",
            quote(&virtual_ip.unwrap_or_default()),
            quote(&from)
        ),
    };
    let title = format!("zoisite: a drill on {}, run {generation}", drill.host);
    wrapped(&title, &acting(&[LOSE]), &format!("lock {generation}\n{what}\n"))
}

/// The script that gives back what a drill took, at once.
pub fn fix_script(host: &HostName, generation: u64) -> String {
    let body = format!("lock {generation}\nfix_drill\n");
    wrapped(&format!("zoisite: end the drill on {host}"), &acting(&[LOSE]), &body)
}

/// The script with which a host watches for so many seconds: it dials, and says whether it holds the virtual IP
/// address. It needs bash to dial.
pub fn watch_script(
    host: &HostName,
    seconds: u32,
    virtual_ip: Option<IpAddr>,
    dialled: &[Endpoint],
) -> String {
    let virtual_ip = virtual_ip.map(|address| address.to_string()).unwrap_or_default();
    let pairs = dialled.iter().map(|to| format!(" {} {}", quote(&to.host.to_string()), to.port));
    let body = format!("watch {seconds} {}{}\n", quote(&virtual_ip), pairs.collect::<String>());
    wrapped(&format!("zoisite: {host} watches a drill"), &[WATCH], &body)
}

/// A line of one that watches; times are the host's own, in milliseconds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DrillLine {
    /// What its clock says now.
    Clock(i64),
    /// Whether it holds the virtual IP from then on.
    Held(i64, bool),
    /// An address was dialled.
    Dialled(Dialled),
}

/// An address that was dialled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dialled {
    /// Which, by its place in the list.
    pub which: usize,
    /// From when to when.
    pub span: (i64, i64),
    /// What came instead of a connection.
    pub fault: Option<String>,
}

/// Reads a line; `None` is noise.
pub fn read_line(line: &str) -> Option<DrillLine> {
    let fields: Vec<&str> = line.split('\t').collect();
    match fields[..] {
        ["@", "clock", at] => Some(DrillLine::Clock(at.parse().ok()?)),
        ["@", "held", at, is] => Some(DrillLine::Held(at.parse().ok()?, is == "yes")),
        ["@", "dialled", which, from, to, ref why @ ..] => Some(DrillLine::Dialled(Dialled {
            which: which.parse().ok()?,
            span: (from.parse().ok()?, to.parse().ok()?),
            fault: why.first().map(|why| (*why).to_owned()),
        })),
        _ => None,
    }
}
