//! What hosts see of each other through the mesh.

use std::collections::{BTreeMap, BTreeSet};

use futures_util::future::join_all;
use zoisite_core::cluster::{Endpoint, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::mesh::{Peers, pairs_script, read_pairs};
use zoisite_core::paths::{
    Datagrams, Link, Listener, Outcome, Trial, arrived_script, keep_datagrams_script,
    read_listeners, send_datagrams_script,
};

use super::Hosts;

impl Hosts {
    /// What a host sees of others.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn peers(&self, host: &HostName, others: &[HostName]) -> Result<Peers, Trouble> {
        let named = others.iter().filter(|other| *other != host);
        let named = named.filter_map(|other| Some((other, self.address(other).ok()?)));
        let script = pairs_script(host, named);
        Ok(read_pairs(&self.report(host, &script, "asking for its peers in the mesh").await?))
    }

    /// Whether others answer a host through the mesh.
    pub(super) async fn meets(&self, host: &HostName, others: &[HostName]) -> Result<(), String> {
        let peers = self.peers(host, others).await.map_err(|trouble| trouble.answer)??;
        let silent = |other: &&HostName| !peers.get(*other).is_some_and(|peer| peer.meets());
        let silent: Vec<&str> = others.iter().filter(silent).map(HostName::as_str).collect();
        match silent.is_empty() {
            true => Ok(()),
            false => Err(format!("no answer through the mesh from {}", silent.join(", "))),
        }
    }

    /// Whether what hosts send arrives where others are to be found, before there is a mesh; where it stands, whether they
    /// meet. Says besides at which hosts it stands.
    pub(super) async fn try_mesh(
        &self,
        links: &[&Link],
        word: &str,
    ) -> (Vec<Trial>, BTreeSet<HostName>) {
        let ports: BTreeMap<&HostName, u16> = links
            .iter()
            .flat_map(|link| [(&link.from, link.port), (&link.to, link.port)])
            .collect();
        let keep = async |host: &HostName, port: u16| {
            let script = keep_datagrams_script(host, port);
            match self.report(host, &script, "keeping what arrives by UDP").await {
                Ok(text) => read_listeners(1, &text).remove(0),
                Err(trouble) => Listener::Failed(trouble.to_string()),
            }
        };
        let kept = ports.iter().map(|(host, port)| {
            let keep = &keep;
            async move { (*host, keep(host, *port).await) }
        });
        let kept: BTreeMap<&HostName, Listener> = join_all(kept).await.into_iter().collect();
        let stands: BTreeSet<HostName> = kept
            .iter()
            .filter(|(_, listener)| **listener == Listener::Real)
            .map(|(host, _)| (*host).clone())
            .collect();
        let of = |from: &HostName, with: bool| -> Vec<&Link> {
            let there = |link: &&&Link| link.from == *from && stands.contains(&link.to) == with;
            links.iter().filter(there).copied().collect()
        };

        // Everybody listens before anybody sends.
        let sending = ports.keys().map(|from| {
            let ends = of(from, false);
            let ends: Vec<&Endpoint> =
                ends.iter().filter_map(|link| link.endpoint.as_ref()).collect();
            async move {
                if ends.is_empty() {
                    return (*from, Ok(Datagrams::default()));
                }
                let script = send_datagrams_script(from, word, &ends);
                let said = self.report(from, &script, "sending by UDP").await;
                (*from, said.map(|text| Datagrams::read(&text)))
            }
        });
        let sent: BTreeMap<_, _> = join_all(sending).await.into_iter().collect();
        let hearing = kept.iter().filter(|(_, listener)| **listener == Listener::Serves).map(
            |(to, _)| async move {
                let said = self.report(to, &arrived_script(to, word), "what came by UDP").await;
                (*to, said.map(|text| Datagrams::read(&text).from))
            },
        );
        let heard: BTreeMap<_, _> = join_all(hearing).await.into_iter().collect();
        let looking = stands.iter().map(|from| {
            let others: Vec<HostName> = of(from, true).iter().map(|link| link.to.clone()).collect();
            async move { (from, self.peers(from, &others).await) }
        });
        let seen: BTreeMap<_, _> = join_all(looking).await.into_iter().collect();

        let outcome = |link: &Link| match &kept[&link.to] {
            Listener::Real => match seen.get(&link.from) {
                Some(Ok(Ok(peers))) if peers.get(&link.to).is_some_and(|peer| peer.meets()) => {
                    Outcome::Open
                }
                Some(Ok(Ok(_))) => Outcome::Silent,
                Some(Ok(Err(why))) => Outcome::Untried(why.clone()),
                Some(Err(trouble)) => Outcome::Untried(trouble.to_string()),
                None => {
                    Outcome::Untried(format!("{} is not in the mesh: zoisite raise", link.from))
                }
            },
            Listener::Taken(who) => Outcome::Busy(who.clone()),
            Listener::Failed(why) => Outcome::Untried(why.clone()),
            Listener::Serves => match (&sent[&link.from], &heard[&link.to]) {
                (_, Ok(who)) if who.contains(&link.from) => Outcome::Open,
                (Err(trouble), _) | (_, Err(trouble)) => Outcome::Untried(trouble.to_string()),
                (Ok(sent), _) => {
                    let why = link.endpoint.as_ref().and_then(|end| sent.why_unsent(end));
                    why.map_or(Outcome::Silent, |why| Outcome::Unreachable(why.clone()))
                }
            },
        };
        let trials = links
            .iter()
            .map(|link| Trial { link: (*link).clone(), outcome: outcome(link) })
            .collect();
        (trials, stands)
    }
}
