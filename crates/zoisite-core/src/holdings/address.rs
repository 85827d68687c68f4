//! The virtual IP: held by the load balancers, or by the control planes where there are none, one at a time, by
//! VRRP (RFC 9568) with the distribution's keepalived.
//!
//! Whether a host may hold it is whether it can serve: its load balancer forwards to an API server that lives, or its own
//! API server is ready, or was until its etcd ceased to answer a moment ago. Who holds it keeps it as long as that is
//! so; no host takes it back from another.

use std::fmt::Write as _;
use std::net::{IpAddr, SocketAddr};

use super::runtime::Layout;
use super::{HostHoldings, Part, UnitFile, WRITTEN, Workshop};
use crate::cluster::{Role, Vrrp};
use crate::paths::LOAD_BALANCER_HEALTH;
use crate::pki::AuthorityKind;

/// Name of the unit that holds the virtual IP.
pub const ADDRESS_UNIT: &str = "zoisite-address.service";
/// Where a host is told to leave the address to others; minutes later that counts no more.
pub const ADDRESS_AWAY: &str = "/run/zoisite/address-away";
/// What the daemon says of itself: its state, and since when.
pub const ADDRESS_STATE: &str = "/run/zoisite/address-state";
/// The script that says by its status whether this host can serve.
pub const CAN_SERVE: &str = "/etc/zoisite/address/can-serve";
const FOLDER: &str = "/etc/zoisite/address";
/// When the host's API server was ready last, in seconds since the host's start.
const READY_AT: &str = "/run/zoisite/address-ready-at";
/// Seconds for which an API server holds the address though its etcd does not answer. Members that lost their leader have
/// another one long before; one that reaches no member, while others do, gives it away.
const LEADERLESS: u32 = 30;
/// How far apart the priorities of two holders are at most: some 250 ms of waiting.
const MOST_APART: usize = 60;
/// Minutes after which a host that was told to leave the address may hold it again, whatever became of who told it.
const AWAY_MINUTES: u32 = 15;

pub(super) fn address(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let Some(virtual_ip) = shop.cluster.load_balancers.virtual_ip else { return };
    let layout = Layout::of(shop.cluster, &shop.facts());
    let at = |name: &str| format!("{FOLDER}/{name}");
    let mut items = vec![
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(FOLDER, "root", 0o755),
    ];
    let authority = at("cluster-authority.crt");
    let balances = shop.cluster.front() == Role::LoadBalancer;
    if !balances {
        items.extend(shop.authority(AuthorityKind::Cluster, &authority, None));
        out.programs.push(layout.openssl().to_owned());
    }
    items.push(Workshop::program(
        CAN_SERVE,
        can_serve(shop, balances, &authority, layout.openssl()),
    ));
    items.push(Workshop::program(&at("state-is"), state_is()));
    items.push(Workshop::program(&at("interface-is"), interface_is(shop)));
    let config = at("keepalived.conf");
    items.push(Workshop::file(&config, keepalived(shop, virtual_ip), Some(ADDRESS_UNIT)));
    let program = layout.keepalived().to_owned();
    let what = format!("virtual IP of {} on {}", shop.cluster.name, shop.host.name);
    let unit = UnitFile::service(&what, "network-online.target")
        .section(
            "Service",
            [
                ("Type", "simple".to_owned()),
                ("RuntimeDirectory", "zoisite".into()),
                ("RuntimeDirectoryPreserve", "yes".into()),
                ("ExecStartPre", at("interface-is")),
                (
                    "ExecStart",
                    format!(
                        "{program} --dont-fork --log-console --no-syslog --vrrp --use-file {config} \
                         --pid /run/zoisite/address.pid --vrrp_pid /run/zoisite/address-vrrp.pid"
                    ),
                ),
                // It gives the address away as it goes.
                ("KillMode", "process".into()),
                ("Restart", "always".into()),
                ("RestartSec", "1".into()),
                // Later ones name their addresses in /etc/iproute2 by themselves, and leave that behind.
                ("ProtectSystem", "full".into()),
                ("ProtectHome", "yes".into()),
                ("PrivateTmp", "yes".into()),
            ],
        )
        .at_boot();
    items.extend(Workshop::unit(ADDRESS_UNIT, None, &unit));
    out.programs.push(program);
    out.address = Some(virtual_ip);
    out.extend(Part::Address, items);
}

fn can_serve(shop: &Workshop<'_>, balances: bool, authority: &str, openssl: &str) -> String {
    let head = format!(
        "#!/bin/bash\n{WRITTEN}# Whether this host can serve at the virtual IP.\n\
         [ -z \"$(find {ADDRESS_AWAY} -mmin -{AWAY_MINUTES} 2>/dev/null)\" ] || exit 1\n"
    );
    let asks = match balances {
        // Its load balancer knows whether an API server behind it can serve.
        true => format!(
            "exec 3<>/dev/tcp/127.0.0.1/{LOAD_BALANCER_HEALTH} || exit 1\n\
             printf 'GET /serves HTTP/1.0\\r\\n\\r\\n' >&3\nread -r -t 3 answer <&3\n\
             case ${{answer:-}} in *' 200 '*) ;; *) exit 1 ;; esac\n"
        ),
        false => {
            let host = shop.host;
            let to = SocketAddr::new(host.address, shop.cluster.control_plane.port);
            format!(
                "answer=$(printf 'GET /readyz?verbose&exclude=etcd HTTP/1.0\\r\\nHost: {name}\\r\\n\\r\\n' |\n  \
                 timeout 3 {openssl} s_client -quiet -connect {to} -CAfile {authority} -partial_chain \\\n    \
                 -servername {name} -verify_return_error -verify_hostname {name} 2>/dev/null)\n\
                 read -r now _ </proc/uptime\nnow=${{now%.*}}\n\
                 case $answer in *' 200 '*) echo \"$now\" >{READY_AT} && exit ;; esac\n\
                 # While etcd's members have no leader no host's is ready: clients wait here, and are not turned away.\n\
                 [ \"$(grep '^\\[-\\]' <<<\"$answer\" | cut -d ' ' -f 1)\" = '[-]etcd-readiness' ] || exit 1\n\
                 ready=$(cat {READY_AT} 2>/dev/null) || exit 1\n\
                 [ $((now - ready)) -lt {LEADERLESS} ]\n",
                name = host.name
            )
        }
    };
    format!("{head}{asks}")
}

/// keepalived calls it with the kind and name of what changed, the new state, and the priority.
fn state_is() -> String {
    format!(
        "#!/bin/sh\n{WRITTEN}# Notes who holds the address, and since when.\n\
         printf '%s %s\\n' \"$3\" \"$(date +%s)\" >{ADDRESS_STATE}.new && mv {ADDRESS_STATE}.new {ADDRESS_STATE}\n"
    )
}

/// Interfaces may have another name after the next start.
fn interface_is(shop: &Workshop<'_>) -> String {
    let address = shop.host.address;
    let found = match &shop.host.interface {
        Some(interface) => format!("dev={interface}\n"),
        None => format!(
            "dev=$(ip -o address show to {address} | awk '{{ print $2; exit }}')\n\
             [ -n \"$dev\" ] || {{ echo 'no interface carries {address} yet' >&2; exit 1; }}\n"
        ),
    };
    format!(
        "#!/bin/sh\n{WRITTEN}# Says which interface carries this host's address.\n{found}\
         printf '$CARRIER=%s\\n' \"$dev\" >/run/zoisite/address.conf\n"
    )
}

/// keepalived.conf(5).
fn keepalived(shop: &Workshop<'_>, virtual_ip: IpAddr) -> String {
    let cluster = shop.cluster;
    let own = shop.host.address_beside(virtual_ip).unwrap_or(shop.host.address);
    let holders = cluster.virtual_ip_holders();
    let place = holders.iter().position(|holder| *holder == shop.host.name).unwrap_or(0);
    // The first in the file is first, where several could begin at once. How long each waits for those before it is a
    // share of a second (RFC 9568, section 6.1, Skew_Time): where priorities lie close together a busy host takes the
    // address beside another one, for a moment in which clients are cut.
    let apart = (190 / holders.len().max(1)).min(MOST_APART);
    let priority = 200_usize.saturating_sub(apart * place);
    let mut out = format!(
        "{WRITTEN}\
include /run/zoisite/address.conf

global_defs {{
    router_id {name}
    vrrp_version 3
    script_user root
    enable_script_security
    # Neighbours that missed the first word hear it again.
    vrrp_garp_master_refresh 5
}}

vrrp_script can_serve {{
    script \"{CAN_SERVE}\"
    interval 1
    timeout 4
    fall 3
    rise 2
}}

vrrp_instance stable {{
    state BACKUP
    nopreempt
    interface $CARRIER
    virtual_router_id {id}
    priority {priority}
    advert_int 1
",
        name = shop.host.name,
        id = cluster.router_id().unwrap_or(1),
    );
    if cluster.load_balancers.vrrp == Vrrp::Unicast {
        let _ = writeln!(out, "    unicast_src_ip {own}\n    unicast_peer {{");
        for other in holders.iter().filter(|other| **other != shop.host.name) {
            let peer = shop.by_name.get(other).map(|host| host.address_beside(virtual_ip));
            if let Some(Some(peer)) = peer {
                let _ = writeln!(out, "        {peer}");
            }
        }
        out.push_str("    }\n");
    }
    let _ = write!(
        out,
        "    virtual_ipaddress {{
        {virtual_ip}
    }}
    track_script {{
        can_serve
    }}
    notify \"{FOLDER}/state-is\"
}}
"
    );
    out
}
