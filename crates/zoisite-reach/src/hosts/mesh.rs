//! What hosts see of each other through the mesh.

use std::collections::{BTreeMap, BTreeSet};

use futures_util::future::join_all;
use jiff::Timestamp;
use zoisite_core::cluster::{Endpoint, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::mesh::{Peers, pairs_script, read_pairs, renew_key_script};
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
        let text = self.report(host, &script, "asking for its peers in the mesh").await?;
        Ok(read_pairs(&text, Timestamp::now().as_second()))
    }

    /// Has a host make another key. The others hear nothing of it until they are told that one.
    ///
    /// # Errors
    /// When it made none.
    pub async fn renew_mesh_key(&self, host: &HostName) -> Result<(), Trouble> {
        let script = renew_key_script(host, self.generation);
        self.carried_out(host, &script, &|_| {}).await.0.ended()
    }

    /// Whether others answer a host through the mesh.
    pub(super) async fn meets(&self, host: &HostName, others: &[HostName]) -> Result<(), String> {
        let seen = self.peers(host, others).await.map_err(|trouble| trouble.answer)??;
        let silent = |other: &&HostName| !seen.meets(other);
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
        // Everybody listens before anybody sends.
        let kept = self.keep_datagrams(links).await;
        let stands: BTreeSet<HostName> = kept
            .iter()
            .filter(|(_, listener)| **listener == Listener::Real)
            .map(|(host, _)| (*host).clone())
            .collect();
        let (meets, dials): (Vec<&Link>, Vec<&Link>) =
            links.iter().copied().partition(|link| stands.contains(&link.to));
        let sent = self.send_datagrams(&dials, word).await;
        let heard = self.hear_datagrams(&kept, word).await;
        let seen = self.see_peers(&meets, &stands).await;
        let outcome = |link: &Link| match &kept[&link.to] {
            Listener::Real => met(link, seen.get(&link.from)),
            Listener::Serves => arrived(link, &sent[&link.from], &heard[&link.to]),
            Listener::Taken(who) => Outcome::Busy(who.clone()),
            Listener::Failed(why) => Outcome::Untried(why.clone()),
        };
        let trials = links
            .iter()
            .map(|link| Trial { link: (*link).clone(), outcome: outcome(link) })
            .collect();
        (trials, stands)
    }

    /// Has each host keep what arrives at the port of its links, or say that the mesh stands there.
    async fn keep_datagrams<'a>(&self, links: &[&'a Link]) -> Each<'a, Listener> {
        let ports: BTreeMap<&HostName, u16> = links
            .iter()
            .flat_map(|link| [(&link.from, link.port), (&link.to, link.port)])
            .collect();
        let kept = ports.into_iter().map(async |(host, port)| {
            let script = keep_datagrams_script(host, port);
            match self.report(host, &script, "keeping what arrives by UDP").await {
                Ok(text) => (host, read_listeners(1, &text).remove(0)),
                Err(trouble) => (host, Listener::Failed(trouble.to_string())),
            }
        });
        join_all(kept).await.into_iter().collect()
    }

    /// Has each host send to the endpoints of its links.
    async fn send_datagrams<'a>(
        &self,
        links: &[&'a Link],
        word: &str,
    ) -> Each<'a, Result<Datagrams, Trouble>> {
        let mut ends: BTreeMap<&HostName, Vec<&Endpoint>> = BTreeMap::new();
        for link in links {
            ends.entry(&link.from).or_default().extend(&link.endpoint);
        }
        let sent = ends.into_iter().map(async |(from, ends)| {
            let script = send_datagrams_script(from, word, &ends);
            let said = self.report(from, &script, "sending by UDP").await;
            (from, said.map(|text| Datagrams::read(&text)))
        });
        join_all(sent).await.into_iter().collect()
    }

    /// From whom something came, by each host that kept it.
    async fn hear_datagrams<'a>(
        &self,
        kept: &Each<'a, Listener>,
        word: &str,
    ) -> Each<'a, Result<BTreeSet<HostName>, Trouble>> {
        let serve = kept.iter().filter(|(_, listener)| **listener == Listener::Serves);
        let heard = serve.map(async |(to, _)| {
            let said = self.report(to, &arrived_script(to, word), "what came by UDP").await;
            (*to, said.map(|text| Datagrams::read(&text).from))
        });
        join_all(heard).await.into_iter().collect()
    }

    /// What each host in the mesh sees of those to which its links lead.
    async fn see_peers<'a>(
        &self,
        links: &[&'a Link],
        stands: &BTreeSet<HostName>,
    ) -> Each<'a, Result<Peers, Trouble>> {
        let mut others: BTreeMap<&HostName, Vec<HostName>> = BTreeMap::new();
        for link in links.iter().filter(|link| stands.contains(&link.from)) {
            others.entry(&link.from).or_default().push(link.to.clone());
        }
        let seen = others.into_iter().map(async |(from, to)| (from, self.peers(from, &to).await));
        join_all(seen).await.into_iter().collect()
    }
}

/// Something of each of several hosts.
type Each<'a, T> = BTreeMap<&'a HostName, T>;

/// What a link through a mesh that stands is worth, by what its host sees; `None` where that one is not in it.
fn met(link: &Link, seen: Option<&Result<Peers, Trouble>>) -> Outcome {
    match seen {
        Some(Ok(Ok(seen))) if seen.meets(&link.to) => Outcome::Open,
        Some(Ok(Ok(_))) => Outcome::NoAnswer,
        Some(Ok(Err(why))) => Outcome::Untried(why.clone()),
        Some(Err(trouble)) => Outcome::Untried(trouble.to_string()),
        None => Outcome::Untried(format!("{} is not in the mesh: zoisite raise", link.from)),
    }
}

/// What a link before there is a mesh is worth: what was sent, and from whom something came.
fn arrived(
    link: &Link,
    sent: &Result<Datagrams, Trouble>,
    heard: &Result<BTreeSet<HostName>, Trouble>,
) -> Outcome {
    match (sent, heard) {
        (_, Ok(who)) if who.contains(&link.from) => Outcome::Open,
        (Err(trouble), _) | (_, Err(trouble)) => Outcome::Untried(trouble.to_string()),
        (Ok(sent), Ok(_)) => {
            let why = link.endpoint.as_ref().and_then(|end| sent.why_unsent(end));
            why.map_or(Outcome::NoAnswer, |why| Outcome::Unreachable(why.clone()))
        }
    }
}
