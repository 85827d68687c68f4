//! What hosts are like, and whether they reach one another.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::time::SystemTime;

use futures_util::future::join_all;
use tokio::time::Instant;
use zoisite_core::cluster::{Cluster, HostName, Vrrp};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::paths::{
    Link, Listener, Outcome, RoutersHeard, Service, TRIAL_SECONDS, Trial, advertise_script,
    end_script, hear_script, heard_routers_script, listen_script, probe_script, read_listeners,
    read_probes,
};
use zoisite_core::survey::{Facts, Times, survey_script};

use super::Hosts;

/// This machine's clock, in milliseconds since 1970.
fn here() -> i64 {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

/// Makes the script of a host, which has this address.
type Script<'a> = &'a dyn Fn(&HostName, IpAddr) -> String;

impl Hosts {
    pub(super) async fn facts_of(
        &self,
        cluster: &Cluster,
        host: &HostName,
    ) -> Result<Facts, Trouble> {
        let attempted = "surveying the host";
        let trouble = |answer| Trouble::new(Some(host.clone()), attempted, answer, Vec::new());
        let known = cluster.host(host);
        let known = known.ok_or_else(|| trouble("the cluster file has no such host".to_owned()))?;
        // What opening the connection takes is not to count as the way of the clock's time.
        self.channel(host)?.connection(Instant::now()).await?;
        let asked = here();
        let text = self.report(host, &survey_script(cluster, known), attempted).await?;
        let times = Times { asked, answered: here() };
        Facts::read(&text, times).ok_or_else(|| trouble("the connection broke off".to_owned()))
    }

    /// Tries paths between hosts: those that are dialled serve their ports for as long as that takes, each host
    /// dials the others, and then the ports are closed again. `word` tells this trial from others; `progress`
    /// hears how far it is. What is cut off in the midst is ended by the hosts themselves. Where a mesh does not
    /// stand yet, what goes through it is left out.
    pub async fn try_paths(
        &self,
        (links, by): (&[Link], Vrrp),
        word: &str,
        progress: &(dyn Fn(&str) + Sync),
    ) -> Vec<Trial> {
        let (mesh, mut links): (Vec<&Link>, Vec<&Link>) =
            links.iter().partition(|link| link.service == Service::Mesh);
        let mut trials = Vec::new();
        if !mesh.is_empty() {
            progress("hosts send one another what the mesh would");
            let (tried, stands) = self.try_mesh(&mesh, word).await;
            trials.extend(tried);
            let stands = |link: &Link| stands.contains(&link.from) && stands.contains(&link.to);
            links.retain(|link| !link.meshed || stands(link));
        }
        let (routers, links): (Vec<&Link>, Vec<&Link>) =
            links.into_iter().partition(|link| link.service == Service::Vrrp);
        if !links.is_empty() {
            trials.extend(self.try_ports(&links, word, progress).await);
        }
        if !routers.is_empty() {
            progress("hosts that share the virtual IP hear one another");
            trials.extend(self.try_routers(&routers, by).await);
        }
        trials.sort_by(|a, b| a.link.cmp(&b.link));
        trials
    }

    /// Whether those who share the virtual IP hear one another.
    async fn try_routers(&self, links: &[&Link], by: Vrrp) -> Vec<Trial> {
        let own: BTreeMap<&HostName, IpAddr> =
            links.iter().map(|link| (&link.to, link.address)).collect();
        let others = |host: &HostName| -> Vec<IpAddr> {
            links.iter().filter(|link| link.from == *host).map(|link| link.address).collect()
        };
        let ask = async |host: &HostName, script: String| {
            let asked = self.report(host, &script, "hearing who shares the virtual IP").await;
            let mut said = match asked {
                Ok(text) => RoutersHeard::read(&text),
                Err(trouble) => {
                    let fault = Some(trouble.to_string());
                    return RoutersHeard { fault, ..RoutersHeard::default() };
                }
            };
            said.fault = said.fault.map(|why| format!("{host}: {why}"));
            said
        };
        // Everybody hears before anybody speaks; a host that cannot is not asked again.
        let scripts: [Script<'_>; 3] = [
            &|host, own| hear_script(host, own, &others(host), by),
            &|host, own| advertise_script(host, own, &others(host), by),
            &|host, _| heard_routers_script(host),
        ];
        let mut faults: BTreeMap<&HostName, String> = BTreeMap::new();
        let mut heard: BTreeMap<&HostName, BTreeSet<IpAddr>> = BTreeMap::new();
        for script in scripts {
            let able = own.iter().filter(|(host, _)| !faults.contains_key(*host));
            let asking: Vec<_> = able
                .map(|(host, at)| {
                    let (script, ask) = (script(host, *at), &ask);
                    async move { (*host, ask(host, script).await) }
                })
                .collect();
            for (host, said) in join_all(asking).await {
                heard.entry(host).or_default().extend(said.who);
                faults.extend(said.fault.map(|why| (host, why)));
            }
        }
        let outcome = |link: &Link| {
            let from = own.get(&link.from);
            let came = heard.get(&link.to).zip(from).is_some_and(|(who, from)| who.contains(from));
            let fault = faults.get(&link.to).or_else(|| faults.get(&link.from));
            match (came, fault) {
                (true, _) => Outcome::Open,
                (false, Some(why)) => Outcome::Untried(why.clone()),
                (false, None) => Outcome::NoAnswer,
            }
        };
        links.iter().map(|link| Trial { link: (*link).clone(), outcome: outcome(link) }).collect()
    }

    async fn try_ports(
        &self,
        links: &[&Link],
        word: &str,
        progress: &(dyn Fn(&str) + Sync),
    ) -> Vec<Trial> {
        let mut ports: BTreeMap<&HostName, BTreeSet<(IpAddr, u16)>> = BTreeMap::new();
        for link in links {
            ports.entry(&link.to).or_default().insert((link.address, link.port));
        }
        let began = Instant::now();
        progress("hosts begin to serve the ports that will be tried");
        let serving = ports.iter().map(|(host, ports)| async move {
            let ports: Vec<(IpAddr, u16)> = ports.iter().copied().collect();
            let script = listen_script(host, &ports, word);
            let said = self.report(host, &script, "serving ports for a trial").await;
            let heard = match said {
                Ok(text) => read_listeners(ports.len(), &text),
                Err(trouble) => vec![Listener::Failed(trouble.to_string()); ports.len()],
            };
            ports.into_iter().zip(heard).map(move |(port, heard)| ((*host, port), heard))
        });
        let served: BTreeMap<(&HostName, (IpAddr, u16)), Listener> =
            join_all(serving).await.into_iter().flatten().collect();

        progress("hosts connect to one another");
        let mut trials = Vec::new();
        let mut dialled: BTreeMap<&HostName, Vec<(&Link, bool)>> = BTreeMap::new();
        for link in links {
            let outcome = match served.get(&(&link.to, (link.address, link.port))) {
                Some(Listener::Serves) => {
                    dialled.entry(&link.from).or_default().push((link, false));
                    continue;
                }
                Some(Listener::Real) => {
                    dialled.entry(&link.from).or_default().push((link, true));
                    continue;
                }
                Some(Listener::Taken(who)) => Outcome::Busy(who.clone()),
                Some(Listener::Failed(why)) => Outcome::Untried(why.clone()),
                None => Outcome::Untried("its port was not served".into()),
            };
            trials.push(Trial { link: (*link).clone(), outcome });
        }
        let dialling = dialled.into_iter().map(|(host, paths)| async move {
            let words: Vec<(IpAddr, u16, Option<&str>)> = paths
                .iter()
                .map(|(link, real)| (link.address, link.port, (!real).then_some(word)))
                .collect();
            let said = self.report(host, &probe_script(host, &words), "dialling other hosts").await;
            let outcomes = match said {
                Ok(text) => read_probes(paths.len(), &text),
                Err(trouble) => vec![Outcome::Untried(trouble.to_string()); paths.len()],
            };
            let paths = paths.into_iter().zip(outcomes);
            paths.map(|((link, _), outcome)| Trial { link: link.clone(), outcome }).collect()
        });
        let dialled = join_all(dialling).await;
        // What was dialled after hosts had closed their ports by themselves says nothing.
        let late = began.elapsed().as_secs() >= u64::from(TRIAL_SECONDS);
        trials.extend(dialled.into_iter().flat_map(|some: Vec<Trial>| some).map(|trial| {
            match trial.outcome {
                Outcome::Refused if late => {
                    let why = "it took so long that hosts closed their ports: try fewer at once";
                    Trial { outcome: Outcome::Untried(why.into()), ..trial }
                }
                _ => trial,
            }
        }));

        progress("hosts close them again");
        self.end_paths(links.iter().copied()).await;
        trials
    }

    /// Ends a trial of these paths on every host that is dialled.
    pub async fn end_paths<'a>(&self, links: impl IntoIterator<Item = &'a Link>) {
        let hosts: BTreeSet<&HostName> = links.into_iter().map(|link| &link.to).collect();
        let ending = hosts.into_iter().map(|host| async move {
            // Where this does not get through, the host's own timer does it.
            let _ = self.report(host, &end_script(host), "ending the trial").await;
        });
        join_all(ending).await;
    }
}
