//! Whether the advertisements of those who share a virtual IP would come through: IP protocol 112 has no ports,
//! and is tried in a way of its own.

use std::collections::BTreeSet;
use std::net::IpAddr;

use super::trial::SECONDS;
use crate::cluster::{HostName, Vrrp};
use crate::script::wrapped_login;
use crate::text::plain;

const ROUTERS: &str = include_str!("routers.sh");

/// The group to which advertisements go in a family of addresses (RFC 9568, 5.1), and its hardware's address.
pub(crate) fn group(beside: IpAddr) -> (&'static str, &'static str) {
    match beside {
        IpAddr::V4(_) => ("224.0.0.18", "01:00:5e:00:00:12"),
        IpAddr::V6(_) => ("ff02::12", "33:33:00:00:00:12"),
    }
}

/// The script with which a host hears the others for a while, and can be heard by them.
pub fn hear_script(host: &HostName, own: IpAddr, others: &[IpAddr], by: Vrrp) -> String {
    let (to, mac) = match by {
        Vrrp::Unicast => ("-", "-"),
        Vrrp::Multicast => group(own),
    };
    let others: String = others.iter().map(|other| format!(" {other}")).collect();
    let body = format!("hear {SECONDS} {own} {to} {mac}{others}\n");
    wrapped_login(&format!("hear who shares an address with {host}"), ROUTERS, &body)
}

/// The script with which it makes itself heard.
pub fn advertise_script(host: &HostName, own: IpAddr, others: &[IpAddr], by: Vrrp) -> String {
    let to: String = match by {
        Vrrp::Unicast => others.iter().map(|other| format!(" {other}")).collect(),
        Vrrp::Multicast => format!(" {}", group(own).0),
    };
    wrapped_login(&format!("be heard from {host}"), ROUTERS, &format!("advertise {own}{to}\n"))
}

/// The script that tells whom it heard, and ends it.
pub fn heard_routers_script(host: &HostName) -> String {
    wrapped_login(&format!("tell whom {host} heard"), ROUTERS, "told\n")
}

/// What hosts said of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RoutersHeard {
    /// Who was heard.
    pub who: BTreeSet<IpAddr>,
    /// Why nothing could be received or sent.
    pub fault: Option<String>,
}

impl RoutersHeard {
    /// Reads what one of the scripts said.
    pub fn read(text: &str) -> Self {
        let mut out = Self::default();
        for line in text.lines().filter_map(|line| line.strip_prefix("@\t")) {
            match line.split_once('\t') {
                Some(("router", address)) => out.who.extend(address.parse::<IpAddr>()),
                Some(("unheard" | "unsent", why)) => out.fault = Some(plain(why).into_owned()),
                _ => {}
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_was_heard_is_read_and_what_kept_from_it() {
        let heard =
            RoutersHeard::read("@\thears\n@\trouter\t10.77.0.12\n@\trouter\tfd77::2\nnoise\n");
        assert_eq!(heard.who.len(), 2);
        assert_eq!(heard.fault, None);
        let deaf = RoutersHeard::read("@\tunheard\tthere is no nft\n@\trouter\tgulls\n");
        assert_eq!((deaf.who.len(), deaf.fault.as_deref()), (0, Some("there is no nft")));
    }
}
