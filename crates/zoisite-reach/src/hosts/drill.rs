//! A drill on real hosts.

use std::collections::BTreeMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use async_trait::async_trait;
use serde_json::{Value, json};
use tokio::time::Instant;
use zoisite_core::cluster::{Cluster, Endpoint, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::drill::{
    Ask, By, Dialled, Drill, DrillLine, Kind, LOST, Sight, fix_script, lose_script, read_line,
    watch_script,
};

use super::Hosts;
use super::channel::Saying;
use crate::api::ApiClient;
use crate::drill::{Ground, Witnessed};
use crate::etcd::EtcdClient;
use crate::probe::Probe;

/// For how long hosts watch at most, in seconds, beyond the loss itself.
const WATCHED: u32 = 600;
/// For how long a host that starts again is left alone before it is asked whether it is back.
const GOING_DOWN: Duration = Duration::from_secs(2);
/// The object that is read and written.
const NOTE: &str = "drill";

/// A client of a member, and the names of all by their ids.
type Member = (EtcdClient, BTreeMap<u64, String>);

/// Real hosts, as a drill needs them.
pub struct Field<'a> {
    hosts: &'a Hosts,
    cluster: &'a Cluster,
    drill: &'a Drill,
    from: HostName,
    probe: Probe,
    /// Where the workload's service is dialled, where there is one.
    service: Option<Endpoint>,
    /// Who says that it holds the virtual IP.
    held: Mutex<BTreeMap<HostName, bool>>,
    members: tokio::sync::Mutex<BTreeMap<HostName, Member>>,
    /// Whether it is lost now.
    lost: AtomicBool,
    /// The start of the machine that is lost, before it is.
    boot: Mutex<String>,
}

impl<'a> Field<'a> {
    /// Prepares the ground: a namespace with what is read and written and, where a worker is lost, a workload with
    /// a service. `from` is the host from which is asked.
    ///
    /// # Errors
    /// What the API answered instead.
    pub async fn prepared(
        hosts: &'a Hosts,
        cluster: &'a Cluster,
        drill: &'a Drill,
        from: HostName,
        probe: Probe,
    ) -> Result<Self, Trouble> {
        let mut field = Self {
            hosts,
            cluster,
            drill,
            from,
            probe,
            service: None,
            held: Mutex::default(),
            members: tokio::sync::Mutex::default(),
            lost: AtomicBool::new(false),
            boot: Mutex::default(),
        };
        let trouble = |answer: String| {
            Trouble::new(None, "preparing what is asked in the drill", answer, Vec::new())
        };
        let api = hosts.any_api().await?;
        field.probe.begin(&api).await.map_err(|error| trouble(error.to_string()))?;
        let note = json!({"apiVersion": "v1", "kind": "ConfigMap", "metadata": {"name": NOTE}});
        let made = api.create(&field.probe.path("/configmaps"), &note).await;
        made.map_err(|error| trouble(error.to_string()))?;
        if drill.kind == Kind::Worker {
            let replicas = cluster.workers.hosts.len().clamp(2, 12);
            let service = field.probe.workload(&api, replicas).await.map_err(trouble)?;
            field.service = Some(service);
        }
        Ok(field)
    }

    /// Removes what was prepared.
    ///
    /// # Errors
    /// When it is still there.
    pub async fn cleared(&self) -> Result<(), String> {
        let api = self.hosts.any_api().await.map_err(|trouble| trouble.to_string())?;
        self.probe.end(&api, Duration::from_secs(120)).await
    }

    fn note(&self) -> String {
        self.probe.path(&format!("/configmaps/{NOTE}"))
    }

    /// An API server that is not lost.
    fn api(&self) -> Result<ApiClient, String> {
        let all = &self.cluster.control_plane.hosts;
        let there = all.iter().find(|host| **host != self.drill.host).or(all.first());
        self.hosts.api_of(there.ok_or("there is no control plane")?)
    }

    async fn get(&self, path: &str) -> Option<Value> {
        self.api().ok()?.get(path).await.ok().flatten()
    }

    /// The leader, in the words of a member that is not lost.
    async fn leader(&self) -> Option<String> {
        let mut known = self.members.lock().await;
        let others = self.cluster.etcd.members.iter().filter(|host| **host != self.drill.host);
        let mut answered = false;
        for host in others {
            if !known.contains_key(host) {
                let Ok(client) = self.hosts.etcd(host).await else { continue };
                let Ok(answer) = client.answer().await else { continue };
                known.insert(host.clone(), (client, answer.members.into_iter().collect()));
            }
            let Some((client, names)) = known.get(host) else { continue };
            match client.leader().await {
                Ok(leader) if leader != 0 => {
                    return Some(
                        names.get(&leader).cloned().unwrap_or_else(|| "a new member".into()),
                    );
                }
                Ok(_) => answered = true,
                Err(_) => {
                    known.remove(host);
                }
            }
        }
        answered.then(String::new)
    }

    async fn pods(&self) -> Option<String> {
        let api = self.api().ok()?;
        let pods = api.list(&self.probe.path("/pods?labelSelector=app%3Dprobe")).await.ok()?;
        let ready = pods.iter().filter(|pod| {
            let gone = pod.pointer("/metadata/deletionTimestamp").is_some();
            crate::api::says_ready(pod) && !gone
        });
        let mut on: BTreeMap<&str, usize> = BTreeMap::new();
        for pod in ready {
            *on.entry(pod.pointer("/spec/nodeName").and_then(Value::as_str).unwrap_or("?"))
                .or_default() += 1;
        }
        let words = on.iter().map(|(node, n)| match n {
            1 => (*node).to_owned(),
            n => format!("{node} ({n})"),
        });
        Some(words.collect::<Vec<_>>().join(", "))
    }

    /// Has one host watch: it dials the API endpoint, or the service where `service` is set, and says whether it
    /// holds the virtual IP.
    async fn watches(
        &self,
        host: &HostName,
        asked: &[(Ask, Endpoint)],
        virtual_ip: Option<std::net::IpAddr>,
        heard: &(dyn Fn(Witnessed) + Send + Sync),
    ) {
        let Ok(channel) = self.hosts.channel(host) else { return };
        let to: Vec<Endpoint> = asked.iter().map(|(_, to)| to.clone()).collect();
        let seconds = self.drill.seconds + WATCHED;
        let script = watch_script(host, seconds, virtual_ip, &to);
        loop {
            let mut clock: Option<(Instant, i64)> = None;
            let mut line = |line: &str| match (read_line(line), clock) {
                (Some(DrillLine::Clock(theirs)), _) => clock = Some((Instant::now(), theirs)),
                (Some(DrillLine::Held(_, is)), _) => {
                    if let Ok(mut held) = self.held.lock() {
                        held.insert(host.clone(), is);
                    }
                }
                (
                    Some(DrillLine::Dialled(Dialled { which, span: (from, to), fault })),
                    Some((at, theirs)),
                ) => {
                    let Some((ask, _)) = asked.get(which) else { return };
                    let at = at + Duration::from_millis(u64::try_from(from - theirs).unwrap_or(0));
                    let took = Duration::from_millis(u64::try_from(to - from).unwrap_or(0));
                    heard(Witnessed { ask: *ask, from: host.clone(), at, took, fault });
                }
                _ => {}
            };
            let silence = Duration::from_secs(10);
            let until = Instant::now();
            let saying = Saying { attempted: "watching", script: 0, silence, until };
            let _ = channel.script(&script, &saying, &mut line).await;
            // A host that is lost says nothing of what it holds.
            if let Ok(mut held) = self.held.lock() {
                held.remove(host);
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }

    async fn boot(&self, host: &HostName) -> Option<String> {
        let script = "cat /proc/sys/kernel/random/boot_id\n";
        self.hosts.lines_of(host, script, "asking whether it started again").await.pop()
    }
}

/// Who holds the virtual IP by what was heard so far: empty for nobody, `None` until each of `able` was heard and
/// nobody said yes.
fn held_by<'a>(
    held: &BTreeMap<HostName, bool>,
    mut able: impl Iterator<Item = &'a HostName>,
    unheard: &dyn Fn(&HostName) -> bool,
) -> Option<String> {
    let holds = held.iter().filter(|(host, is)| **is && !unheard(host));
    let holders = holds.map(|(host, _)| host.as_str()).collect::<Vec<_>>().join(", ");
    (!holders.is_empty() || able.all(|host| held.contains_key(host))).then_some(holders)
}

#[async_trait]
impl Ground for Field<'_> {
    async fn lose(&self) -> Result<Instant, Trouble> {
        let drill = self.drill;
        let host = &drill.host;
        if drill.by == By::Reboot {
            let now = self.boot(host).await.unwrap_or_default();
            if let Ok(mut boot) = self.boot.lock() {
                *boot = now;
            }
        }
        let script = lose_script(self.cluster, drill, self.hosts.generation);
        let lost = Mutex::new(None);
        let progress = |doing: String| {
            if let (LOST, Ok(mut lost)) = (doing.as_str(), lost.lock()) {
                *lost = Some(Instant::now());
                self.lost.store(true, Ordering::Relaxed);
            }
        };
        self.hosts.carried_out(host, &script, &progress).await.0.ended()?;
        Ok(lost.into_inner().ok().flatten().unwrap_or_else(Instant::now))
    }

    async fn fix(&self) -> Result<(), Trouble> {
        let host = &self.drill.host;
        if self.drill.by == By::Reboot {
            tokio::time::sleep(GOING_DOWN).await;
            let before = self.boot.lock().map(|boot| boot.clone()).unwrap_or_default();
            if self.boot(host).await.is_none_or(|now| now == before) {
                let attempted = "giving back what was lost";
                let answer = "it is not back yet";
                return Err(Trouble::new(Some(host.clone()), attempted, answer, Vec::new()));
            }
        } else {
            let script = fix_script(host, self.hosts.generation);
            self.hosts.carried_out(host, &script, &|_| {}).await.0.ended()?;
        }
        self.lost.store(false, Ordering::Relaxed);
        Ok(())
    }

    async fn ask(&self, ask: Ask, number: u32) -> Result<(), String> {
        let api = self.hosts.api_endpoint(&self.from)?;
        let answer = match ask {
            Ask::Write => {
                let patch = json!({"data": {format!("write-{number}"): ""}});
                api.merge(&self.note(), &patch).await.map(|_| ())
            }
            _ => api.get(&self.note()).await.map(|_| ()),
        };
        answer.map_err(|error| error.to_string())
    }

    async fn see(&self, sight: &Sight) -> Option<String> {
        match sight {
            Sight::Holder => {
                let held = self.held.lock().ok()?;
                let lost = self.lost.load(Ordering::Relaxed);
                // What a host believes that nobody hears is no matter.
                let unheard = |host: &HostName| lost && self.drill.isolates(host);
                let silent = |host: &HostName| lost && *host == self.drill.host;
                let able = self.cluster.virtual_ip_holders();
                held_by(&held, able.iter().filter(|host| !silent(host)), &unheard)
            }
            Sight::Leader => self.leader().await,
            Sight::Node(host) => {
                let node = self.get(&format!("/api/v1/nodes/{host}")).await?;
                let is = if crate::api::says_ready(&node) { "Ready" } else { "not Ready" };
                Some(is.to_owned())
            }
            Sight::Pods => self.pods().await,
        }
    }

    async fn watch(&self, heard: &(dyn Fn(Witnessed) + Send + Sync)) {
        let virtual_ip = self.cluster.load_balancers.virtual_ip;
        let holders = self.cluster.virtual_ip_holders();
        let stable = self.cluster.control_plane.endpoint.clone();
        let mut all: BTreeMap<HostName, Vec<(Ask, Endpoint)>> =
            holders.iter().map(|host| (host.clone(), Vec::new())).collect();
        all.entry(self.from.clone()).or_default().push((Ask::Dial, stable));
        if let Some(service) = &self.service {
            let nodes = self.cluster.hosts.iter().map(|host| &host.name);
            let there =
                nodes.filter(|host| self.cluster.is_node(host) && **host != self.drill.host);
            // Some of them speak for all: each watches by a session of its own.
            for host in there.take(4) {
                all.entry(host.clone()).or_default().push((Ask::Service, service.clone()));
            }
        }
        let each = all.iter().map(|(host, asked)| {
            let virtual_ip = virtual_ip.filter(|_| holders.contains(host));
            self.watches(host, asked, virtual_ip, heard)
        });
        futures_util::future::join_all(each).await;
        std::future::pending::<()>().await;
    }

    async fn missing(&self, acknowledged: &[u32]) -> Vec<u32> {
        let Some(note) = self.get(&self.note()).await else { return Vec::new() };
        let there = |number: &&u32| note.pointer(&format!("/data/write-{number}")).is_none();
        acknowledged.iter().filter(there).copied().collect()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn nobody_holds_the_address_only_when_everybody_was_heard() {
        let name = |name: &str| HostName::new(name).unwrap();
        let able = ["egret", "heron", "ibis"].map(name);
        let sees = |said: &[(&str, bool)], unheard: &str| {
            let held = said.iter().map(|(host, is)| (name(host), *is)).collect();
            held_by(&held, able.iter().filter(|host| host.as_str() != unheard), &|host| {
                host.as_str() == unheard
            })
        };
        assert_eq!(sees(&[], ""), None);
        assert_eq!(sees(&[("egret", false)], ""), None, "the others have not spoken yet");
        assert_eq!(sees(&[("heron", true)], "").as_deref(), Some("heron"));
        let none = [("egret", false), ("heron", false), ("ibis", false)];
        assert_eq!(sees(&none, "").as_deref(), Some(""));
        // Cut off, it still believes that it holds it.
        let lost = [("egret", false), ("heron", true), ("ibis", false)];
        assert_eq!(sees(&lost, "heron").as_deref(), Some(""));
        assert_eq!(sees(&none[..2], "heron"), None);
    }
}
