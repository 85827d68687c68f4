//! The mesh as its hosts see it: by which way each reaches each other one, and why not.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::cluster::{Cluster, HostName};
use crate::holdings::{HostFacts, MESH_DEVICE, MESH_KEYS, MESH_UNIT};
use crate::script::{acting, fields, wrapped, wrapped_login};

const PAIRS: &str = include_str!("pairs.sh");
const RENEW: &str = include_str!("renew.sh");
/// Seconds after which a handshake says nothing any more: with traffic there is a new one every two minutes (the
/// protocol's `REJECT_AFTER_TIME`).
pub(crate) const STALE: u64 = 180;
/// Difference between clocks, in seconds, from which it is reported.
const APART: u64 = 10;

/// What a host sees of another one.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Peer {
    /// The key by which it is known there, in base64; `None` where the host does not know it.
    pub key: Option<String>,
    /// The address and port by which it is reached, where it has one.
    pub endpoint: Option<String>,
    /// Seconds since both last agreed on keys; `None` where they never did.
    pub handshake: Option<u64>,
    /// Octets that came from it.
    pub received: u64,
    /// Octets that were sent to it.
    pub sent: u64,
    /// Whether anything came from it while it was called.
    pub answered: bool,
    /// Time until it answered, in microseconds, on average; `None` where it was not asked or never did.
    pub round_trip: Option<u64>,
    /// What of a hundred questions got no answer; `None` where the host has no ping(8).
    pub lost: Option<u8>,
}

impl Peer {
    /// Whether what is sent there is answered.
    pub fn meets(&self) -> bool {
        match self.lost {
            Some(lost) => lost < 100,
            None => self.handshake.is_some_and(|age| age < STALE),
        }
    }
}

/// What one host sees.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    /// Every other host that it was asked about.
    pub peers: BTreeMap<HostName, Peer>,
    /// Seconds by which its clock is ahead of the one here.
    pub ahead: i64,
}

impl Seen {
    /// Whether what it sends to a host is answered.
    pub fn meets(&self, host: &HostName) -> bool {
        self.peers.get(host).is_some_and(Peer::meets)
    }
}

/// What one host sees, or why nothing.
pub type Peers = Result<Seen, String>;

/// The script with which a host tells of its peers: others by name and address.
pub fn pairs_script<'a>(
    host: &HostName,
    others: impl IntoIterator<Item = (&'a HostName, String)>,
) -> String {
    let words: String =
        others.into_iter().map(|(other, address)| format!(" {other} {address}")).collect();
    wrapped_login(&format!("peers of {host}"), PAIRS, &format!("pairs {MESH_DEVICE}{words}\n"))
}

/// The script with which a host makes another key. The others do not know it until they get it.
pub fn renew_key_script(host: &HostName, generation: u64) -> String {
    let body = format!("lock {generation}\nmesh_key {MESH_KEYS} {MESH_UNIT}\n");
    wrapped(&format!("zoisite: another key for the mesh on {host}"), &acting(&[RENEW]), &body)
}

/// What a host reports of its peers, and the time here then, in seconds since 1970.
///
/// # Errors
/// Why it has none.
pub fn read_pairs(text: &str, here: i64) -> Peers {
    let mut peers: BTreeMap<HostName, Peer> = BTreeMap::new();
    let mut there = None;
    for line in text.lines() {
        match fields(line).as_deref() {
            Some(["peer", name, key, endpoint, shaken, received, sent, now, before, _]) => {
                let Ok(name) = HostName::new(name) else { continue };
                let peer = peers.entry(name).or_default();
                peer.key = Some((*key).to_owned());
                peer.endpoint = (*endpoint != "(none)").then(|| (*endpoint).to_owned());
                let at = |text: &str| text.parse::<u64>().unwrap_or(0);
                peer.handshake = (at(shaken) > 0).then(|| at(now).saturating_sub(at(shaken)));
                (peer.received, peer.sent) = (at(received), at(sent));
                peer.answered = at(received) > at(before);
            }
            Some(["unknown-peer", name]) => {
                if let Ok(name) = HostName::new(name) {
                    peers.entry(name).or_default();
                }
            }
            Some(["answers", name, rtt, lost]) => {
                let Ok(name) = HostName::new(name) else { continue };
                let peer = peers.entry(name).or_default();
                let milliseconds: Option<f64> = rtt.parse().ok();
                peer.round_trip = milliseconds.map(|ms| (ms * 1_000.0).round() as u64);
                peer.lost = lost.parse::<f64>().ok().map(|lost| lost.round() as u8);
            }
            Some(["unmeshed", why]) => return Err((*why).to_owned()),
            Some(["paired", now]) => there = now.parse::<i64>().ok(),
            _ => {}
        }
    }
    match there {
        Some(there) => Ok(Seen { peers, ahead: there.saturating_sub(here) }),
        None => Err("it did not come to an end".into()),
    }
}

/// Another host with the same key as this one.
fn copied<'a>(facts: &'a BTreeMap<HostName, HostFacts>, host: &HostName) -> Option<&'a HostName> {
    let key = facts.get(host)?.mesh_key.as_ref()?;
    let same = |(other, facts): &(&HostName, &HostFacts)| {
        *other != host && facts.mesh_key.as_ref() == Some(key)
    };
    facts.iter().find(same).map(|(other, _)| other)
}

/// Why two hosts do not meet, by what both see, and what a person can do; `None` where they do.
pub fn stranger(
    (cluster, facts): (&Cluster, &BTreeMap<HostName, HostFacts>),
    (one, sees): (&HostName, Option<&Peers>),
    (other, seen): (&HostName, Option<&Peers>),
) -> Option<(String, String)> {
    let again = "zoisite raise puts it right".to_owned();
    for (host, peers) in [(one, sees), (other, seen)] {
        if let Some(Err(why)) = peers {
            return Some((format!("{host} is not in the mesh: {why}"), again));
        }
    }
    let of = |peers: Option<&Peers>, host: &HostName| {
        peers.and_then(|seen| seen.as_ref().ok()?.peers.get(host).cloned())
    };
    let (there, back) = (of(sees, other), of(seen, one));
    if there.iter().chain(&back).any(Peer::meets) {
        return None;
    }
    for host in [one, other] {
        if let Some(same) = copied(facts, host) {
            return Some((
                format!("{host} and {same} have the same key: one machine is a copy of the other"),
                format!(
                    "on the copy: rm {MESH_KEYS}/key && systemctl restart {MESH_UNIT}; then zoisite raise"
                ),
            ));
        }
    }
    for (host, peer, stranger) in [(one, &there, other), (other, &back, one)] {
        let Some(peer) = peer else { continue };
        let key = facts.get(stranger).and_then(|facts| facts.mesh_key.as_ref());
        match &peer.key {
            // An offline host's key is known by its report only.
            None if key.is_none() && cluster.is_offline(stranger) => {
                return Some((
                    format!("the key of {stranger} is not known yet, and it is offline"),
                    format!(
                        "its report tells it: zoisite reports read {stranger}.report, then zoisite raise"
                    ),
                ));
            }
            None => return Some((format!("{host} does not know {stranger}"), again)),
            told if key.is_some() && told.as_ref() != key => {
                return Some((format!("{host} knows {stranger} by another key"), again));
            }
            Some(_) => {}
        }
    }
    let open = |host: &HostName| {
        let endpoint = cluster.host(host).and_then(|host| host.endpoint.as_ref());
        endpoint.map(|endpoint| (host.clone(), endpoint.to_string()))
    };
    let found: Vec<(HostName, String)> = [one, other].into_iter().filter_map(open).collect();
    let answered = |peer: &Option<Peer>| peer.as_ref().is_some_and(|peer| peer.answered);
    // What each side counts shows which direction is blocked.
    let (what, fix) = match (found.as_slice(), answered(&there), answered(&back)) {
        ([], ..) => (
            "neither has an endpoint by which the other finds it".to_owned(),
            "give one of them an endpoint".to_owned(),
        ),
        (_, true, true) => (
            "both get packets, and neither answers".to_owned(),
            "restart zoisite-mesh on one of them".to_owned(),
        ),
        (_, true, false) | (_, false, true) => {
            let (deaf, speaks) = if answered(&there) { (other, one) } else { (one, other) };
            (
                format!(
                    "{deaf} gets no packets from {speaks}, which gets those of {deaf}: one direction is blocked"
                ),
                format!(
                    "a firewall in front of {deaf} lets no UDP in, or its router sends it elsewhere"
                ),
            )
        }
        ([(host, endpoint), ..], false, false) => (
            format!("no packets reach {host} at its endpoint {endpoint}"),
            format!(
                "does a router forward that UDP port to {host}, and does its firewall let it in? (zoisite paths rules)"
            ),
        ),
    };
    let clock = |host: Option<&Peers>| host.and_then(|seen| Some(seen.as_ref().ok()?.ahead));
    Some(match (clock(sees), clock(seen)) {
        (Some(one_is), Some(other_is)) if one_is.abs_diff(other_is) > APART => {
            let (late, early) = if one_is < other_is { (one, other) } else { (other, one) };
            let by = one_is.abs_diff(other_is);
            (
                format!("{what}; the clock of {late} is {by} s behind that of {early}"),
                format!(
                    "set the clocks right first: a host whose clock was set back gets no answer until that has passed the last time it sent. Then: {fix}"
                ),
            )
        }
        _ => (what, fix),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_host_says_of_its_peers_is_read() {
        let text = "@\tanswers\tegret\t1.25\t25\n@\tanswers\tibis\t-\t-\n\
                    @\tpeer\tegret\tE=\t203.0.113.7:51820\t1000\t92\t180\t1012\t0\t0\n\
                    @\tpeer\tibis\tI=\t(none)\t0\t0\t148\t1012\t0\t148\n@\tunknown-peer\tcurlew\n@\tpaired\t1012\n";
        let seen = read_pairs(text, 1_000).unwrap();
        assert_eq!(seen.ahead, 12);
        let of = |name: &str| seen.peers[&HostName::new(name).unwrap()].clone();
        let egret = Peer {
            key: Some("E=".into()),
            endpoint: Some("203.0.113.7:51820".into()),
            handshake: Some(12),
            received: 92,
            sent: 180,
            answered: true,
            round_trip: Some(1_250),
            lost: Some(25),
        };
        assert_eq!(of("egret"), egret);
        assert!(of("egret").meets() && !of("ibis").meets());
        assert_eq!(of("ibis").handshake, None);
        assert_eq!(of("curlew").key, None);
        assert_eq!(read_pairs("@\tunmeshed\tno wg\n", 0), Err("no wg".into()));
        assert!(read_pairs("@\tanswers\tegret\t1\t0\n", 0).is_err(), "it was cut");
        // Without ping(8) an old handshake says nothing.
        let old = Peer { handshake: Some(600), ..Peer::default() };
        assert!(!old.meets() && Peer { handshake: Some(9), ..old }.meets());
    }
}
