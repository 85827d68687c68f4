//! The API of the cluster, through the connections to its own hosts.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use futures_util::StreamExt as _;
use futures_util::future::BoxFuture;
use futures_util::stream::FuturesUnordered;
use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::components::Shelved;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{ApiObject, KUBELET_UNIT, REGISTRY_UNIT};
use zoisite_core::sequence::{ApiLook, ApiWork, Condition, StepOutcome};

use super::Hosts;
use super::channel::Channel;
use crate::access::Stream;
use crate::api::{ApiClient, ApiResult, Readiness, look, rollout, work};
use crate::reach::{Progress, Reach as _};
use crate::registry::Registry;
use crate::verify::FromHost;

/// For how long work is tried again while API servers come and go.
const AGAIN: Duration = Duration::from_secs(60);
/// An API server that does not answer so soon is not waited for alone.
const SOON: Duration = Duration::from_secs(3);

/// Streams from a host.
struct Streams(Arc<Channel>);

#[async_trait]
impl FromHost for Streams {
    async fn stream(&self, to: SocketAddr) -> Result<Box<dyn Stream>, String> {
        let connection = self.0.connection(Instant::now()).await.map_err(|t| t.to_string())?;
        connection.dial(&to.ip().to_string(), to.port()).await.map_err(|broken| broken.to_string())
    }
}

impl Hosts {
    /// A client of an address as a host reaches it, the server verified as `name`.
    fn dial(
        &self,
        from: &HostName,
        to: (String, u16),
        name: &str,
        from_here: bool,
    ) -> Result<ApiClient, String> {
        let access = self.api_access.as_ref().ok_or("this run has no certificate for the API")?;
        ApiClient::new(access, name, self.way(from, to, from_here)?)
    }

    /// A client of the API server on a host.
    ///
    /// # Errors
    /// When the certificates cannot be used.
    pub fn api_of(&self, host: &HostName) -> Result<ApiClient, String> {
        let known = self.apis.lock().ok().and_then(|apis| apis.get(host).cloned());
        if let Some(client) = known {
            return Ok(client);
        }
        let address = self.address(host)?;
        let client = self.dial(host, (address.clone(), self.places.api_port), &address, true)?;
        if let Ok(mut apis) = self.apis.lock() {
            apis.insert(host.clone(), client.clone());
        }
        Ok(client)
    }

    pub(super) fn address(&self, host: &HostName) -> Result<String, String> {
        let channel = self.channel(host).map_err(|trouble| trouble.answer)?;
        Ok(channel.target.address.to_string())
    }

    /// A client of the cluster's own registry, if there is one.
    ///
    /// # Errors
    /// When there is none, or the certificates cannot be used.
    pub fn registry(&self) -> Result<Registry, String> {
        let (host, port) = self.places.registry.as_ref().ok_or("the cluster has no registry")?;
        let address = self.address(host)?;
        let client = self.dial(host, (address.clone(), *port), &address, true)?.any_protocol();
        let login = self.api_access.as_ref().and_then(|access| access.registry_login.clone());
        Ok(Registry::new(client, login))
    }

    /// What of the shelf the cluster's own registry lacks.
    pub(super) async fn lacking(&self, shelf: &[Shelved]) -> Result<BTreeSet<String>, String> {
        match shelf {
            [] => Ok(BTreeSet::new()),
            shelf => self.registry()?.lacking(shelf).await,
        }
    }

    pub(super) async fn put_images(
        &self,
        host: &HostName,
        images: &[Shelved],
        progress: Progress<'_>,
    ) -> StepOutcome {
        let mut changed = 0;
        for image in images {
            let mut end = Instant::now() + AGAIN;
            loop {
                let begun = Instant::now();
                let put = match self.registry() {
                    Ok(registry) => registry.put(image, progress).await,
                    Err(why) => Err(why),
                };
                match put {
                    Ok(new) => {
                        changed += usize::from(new);
                        break;
                    }
                    // The connection may be gone, or the registry for a moment: what went is not sent again.
                    Err(why) if begun < end => progress(format!("again: {why}")),
                    Err(why) => {
                        let attempted = "putting images into the registry";
                        let evidence = self.evidence(host, &[REGISTRY_UNIT]).await;
                        return StepOutcome::Failed(Trouble::new(
                            Some(host.clone()),
                            attempted,
                            why,
                            evidence,
                        ));
                    }
                }
                // An attempt that lasted got further than the one before.
                if begun.elapsed() > AGAIN {
                    end = Instant::now() + AGAIN;
                }
                tokio::time::sleep(Duration::from_secs(2)).await;
            }
        }
        StepOutcome::Done { changed }
    }

    /// A client of any API server that is ready.
    ///
    /// # Errors
    /// What each of them answered instead.
    pub async fn any_api(&self) -> Result<ApiClient, Trouble> {
        self.first_api(|client| Box::pin(async move { Ok(client) })).await
    }

    /// What the first API server gives that is ready and gives it: the one that did so last, or the first of
    /// all, and the others too once that one does not, or not soon.
    async fn first_api<'a, T>(
        &'a self,
        ask: impl Fn(ApiClient) -> BoxFuture<'a, ApiResult<T>>,
    ) -> Result<T, Trouble> {
        let ask = |host: &'a HostName| {
            let asked = self.api_of(host).map(|client| (client.clone(), ask(client)));
            async move {
                let tried = async {
                    let (client, asked) = asked?;
                    client.readyz().await.map_err(|e| e.to_string())?;
                    asked.await.map_err(|e| e.to_string())
                };
                (host, tried.await)
            }
        };
        let all = &self.places.api_hosts;
        let last = self.last_api.lock().ok().and_then(|last| last.clone());
        let first = all.iter().find(|host| Some(*host) == last.as_ref()).or(all.first());
        let mut others = all.iter().filter(|host| Some(*host) != first);
        let mut asking: FuturesUnordered<_> = first.into_iter().map(&ask).collect();
        let mut said = BTreeMap::new();
        let mut soon = std::pin::pin!(tokio::time::sleep(SOON));
        let mut all_asked = false;
        loop {
            tokio::select! {
                answer = asking.next() => match answer {
                    Some((host, Ok(given))) => {
                        if let Ok(mut last) = self.last_api.lock() {
                            *last = Some(host.clone());
                        }
                        return Ok(given);
                    }
                    Some((host, Err(why))) => {
                        said.insert(host, why);
                    }
                    None => break,
                },
                () = &mut soon, if !all_asked => {}
            }
            all_asked = true;
            asking.extend(others.by_ref().map(&ask));
        }
        let said: Vec<String> =
            all.iter().filter_map(|host| Some(format!("{host}: {}", said.get(host)?))).collect();
        let answer = said.first().cloned().unwrap_or_else(|| "there is no control plane".into());
        Err(Trouble::new(None, "asking the API servers", answer, said))
    }

    /// A client of the API endpoint, as a host reaches it, and never as it is reached from elsewhere.
    ///
    /// # Errors
    /// When the certificates cannot be used.
    pub fn api_endpoint(&self, from: &HostName) -> Result<ApiClient, String> {
        let stable = &self.places.stable;
        let name = stable.host.to_string();
        self.dial(from, (name.clone(), stable.port), &name, false)
    }

    /// Streams as a host of the cluster reaches them.
    ///
    /// # Errors
    /// When it is none of this run's.
    pub fn from_host(&self, host: &HostName) -> Result<impl FromHost + use<>, Trouble> {
        Ok(Streams(Arc::clone(self.channel(host)?)))
    }

    pub(super) async fn look_at_api(&self, objects: &[ApiObject]) -> ApiLook {
        let looked = self.first_api(|client| Box::pin(async move { look(&client, objects).await }));
        match looked.await {
            Ok(observed) => ApiLook::Answered(Box::new(observed)),
            Err(trouble) => ApiLook::Silent(trouble),
        }
    }

    pub(super) async fn work_on_api(
        &self,
        host: Option<&HostName>,
        what: &ApiWork,
        progress: Progress<'_>,
    ) -> StepOutcome {
        // Waiting for a host may take long by itself: only how long nothing works is limited.
        let mut failing = None;
        loop {
            let begun = Instant::now();
            let trouble = match self.any_api().await {
                Err(trouble) => trouble,
                Ok(client) => match work(&client, self.contents.as_ref(), what, progress).await {
                    Ok(changed) => return StepOutcome::Done { changed },
                    Err(error) => {
                        let passing = error.passing;
                        let mut evidence = error.evidence;
                        if let (ApiWork::Admit { node, .. }, false) = (what, passing) {
                            evidence.extend(self.evidence(&node.host, &[KUBELET_UNIT]).await);
                        }
                        let trouble =
                            Trouble::new(host.cloned(), error.attempted, error.answer, evidence);
                        if !passing {
                            return StepOutcome::Failed(trouble);
                        }
                        trouble
                    }
                },
            };
            let since = *failing.get_or_insert(begun);
            if since.elapsed() >= AGAIN {
                return StepOutcome::Failed(trouble);
            }
            progress(format!("again: {}", trouble.answer));
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }

    /// Where a host finds the API endpoint.
    pub(super) async fn leads_to(&self, from: &HostName) -> Vec<String> {
        let name = &self.places.stable.host;
        let script = format!("timeout 10 getent ahosts {name}\n");
        let lines = self.lines_of(from, &script, "looking for the API endpoint").await;
        let mut found: Vec<&str> =
            lines.iter().filter_map(|line| line.split_whitespace().next()).collect();
        found.dedup();
        match found.as_slice() {
            [] => vec![format!("{from} finds no address for {name}")],
            found => {
                let mut told = vec![format!("on {from}, {name} leads to {}", found.join(", "))];
                let reached = self.probe(from, std::slice::from_ref(&self.places.stable)).await;
                told.extend(
                    reached
                        .into_iter()
                        .flatten()
                        .map(|why| format!("{from} does not reach {}: {why}", self.places.stable)),
                );
                told
            }
        }
    }

    pub(super) async fn attempt_api(
        &self,
        condition: &Condition,
        readiness: &mut Readiness,
    ) -> Result<StepOutcome, Trouble> {
        let done = StepOutcome::Done { changed: 0 };
        let (host, attempted, result) = match condition {
            Condition::Quorum { .. } | Condition::LetsIn { .. } => return Ok(done),
            Condition::Api { host } => {
                let asked = async { self.api_of(host)?.readyz().await.map_err(|e| e.to_string()) };
                (Some(host), "asking the API server whether it is ready".to_owned(), asked.await)
            }
            Condition::Stable { from, load_balancer } => {
                let asked = async {
                    let client = match load_balancer {
                        true => self.load_balancer(from)?,
                        false => self.api_endpoint(from)?,
                    };
                    client.readyz().await.map_err(|e| e.to_string())
                };
                let what = match load_balancer {
                    true => "asking through the load balancer".to_owned(),
                    false => format!("dialling the API endpoint {}", self.places.stable),
                };
                (Some(from), what, asked.await)
            }
            Condition::Ready { host, machine } => {
                let client = self.any_api().await?;
                let asked = readiness.ask(&client, host, machine.as_deref()).await;
                (Some(host), "waiting for the node".to_owned(), asked)
            }
            Condition::Meets { host, others } => {
                let met = self.meets(host, others).await;
                (Some(host), "looking for others in the mesh".to_owned(), met)
            }
            Condition::Registry { host } => {
                let asked = async { self.registry()?.answers().await };
                (Some(host), "asking the registry".to_owned(), asked.await)
            }
            Condition::Rollout { workloads } => {
                let client = self.any_api().await?;
                (None, "waiting for workloads".to_owned(), rollout(&client, workloads).await)
            }
        };
        match result {
            Ok(()) => Ok(done),
            Err(answer) => Err(Trouble::new(host.cloned(), attempted, answer, Vec::new())),
        }
    }

    /// A client of the load balancer on a host.
    fn load_balancer(&self, host: &HostName) -> Result<ApiClient, String> {
        let address = self.address(host)?;
        self.dial(host, (address.clone(), self.places.stable.port), &address, true)
    }
}
