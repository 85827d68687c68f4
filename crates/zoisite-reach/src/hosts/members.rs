//! The quorum through its own protocol: proving it, and changing who is in it.

use std::time::Duration;

use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::sequence::{MemberWork, Proven, StepOutcome};

use super::Hosts;
use crate::etcd::{CALL, EtcdClient};
use crate::quorum::{HAS_ITS_VOTE, MemberAnswer, is_a_learners, judge, not_changed};
use crate::reach::Progress;
use crate::save;

/// For how long one call may go over a whole database.
pub(super) const OVER_ALL: Duration = Duration::from_secs(600);

/// What was attempted on a member and came to nothing.
pub(super) fn failed(
    host: &HostName,
    what: &'static str,
) -> impl FnOnce(String) -> Trouble + use<> {
    let host = host.clone();
    move |answer| Trouble::new(Some(host), what, answer, Vec::new())
}

impl Hosts {
    pub(super) async fn etcd(&self, host: &HostName) -> Result<EtcdClient, String> {
        self.patient_etcd(host, CALL).await
    }

    /// A connection for calls that may take so long: what goes over a whole database.
    pub(super) async fn patient_etcd(
        &self,
        host: &HostName,
        deadline: Duration,
    ) -> Result<EtcdClient, String> {
        let access = self.access.as_ref().ok_or("this run has no certificate for etcd")?;
        let name = self.address(host)?;
        let way = self.way(host, (name.clone(), self.places.etcd_port), true)?;
        EtcdClient::connect(access, &name, way, deadline).await
    }

    /// Every one of these answers, and all say the same. Where learners may be among them, they are left out.
    pub(super) async fn agreeing(
        &self,
        members: &[HostName],
        learners: bool,
    ) -> Result<(Vec<(HostName, EtcdClient, MemberAnswer)>, Proven), Trouble> {
        let mut clients = Vec::new();
        let connecting = members.iter().map(|host| async move {
            let client = self.etcd(host).await.map_err(failed(host, "dialling etcd"))?;
            let answer = client.answer().await.map_err(failed(host, "asking the member"))?;
            Ok::<_, Trouble>((host.clone(), client, answer))
        });
        let answers = futures_util::future::join_all(connecting).await.into_iter();
        for result in answers.filter(|answer| !(learners && is_a_learners(answer))) {
            clients.push(result?);
        }
        let answers: Vec<_> =
            clients.iter().map(|(host, _, answer)| (host.clone(), answer.clone())).collect();
        let proven = judge(&answers)?;
        Ok((clients, proven))
    }

    /// One attempt at proving a quorum.
    pub(super) async fn attempt(
        &self,
        members: &[HostName],
        learners: bool,
    ) -> Result<Proven, Trouble> {
        let (clients, mut proven) = self.agreeing(members, learners).await?;
        let key = format!("/zoisite/proof/{}", self.generation);
        let value = format!("{:?}", self.began.elapsed());
        let Some((writer, client, _)) = clients.first() else { return Ok(proven) };
        let lease = client
            .put(&key, &value, 120)
            .await
            .map_err(failed(writer, "writing a key through the member"))?;
        let others = if clients.len() > 1 { &clients[1..] } else { &clients[..] };
        let mut read = Ok(());
        for (host, other, _) in others {
            let found = other.get(&key).await;
            read = match found {
                Ok(Some(found)) if found == value => {
                    proven.read.push(host.to_string());
                    continue;
                }
                Ok(found) => {
                    let text = format!("it read {found:?} where {writer} had written {value:?}");
                    Err(failed(host, "reading the key through the member")(text))
                }
                Err(why) => Err(failed(host, "reading the key through the member")(why)),
            };
            break;
        }
        client.revoke(lease).await.map_err(failed(writer, "removing the key again"))?;
        read?;
        proven.wrote = writer.to_string();
        Ok(proven)
    }

    /// Changes who is a member, through one of these. Whether it is done already is looked at before every try, so
    /// that an answer that was lost costs nothing.
    pub(super) async fn reconfigure(
        &self,
        work: &MemberWork,
        through: &[HostName],
        timeout: Duration,
        progress: Progress<'_>,
    ) -> StepOutcome {
        let end = Instant::now() + timeout;
        let mut tried = false;
        let why = loop {
            match self.try_to_change(work, through, &mut tried, progress).await {
                Ok(()) => return StepOutcome::Done { changed: usize::from(tried) },
                Err(why) if Instant::now() >= end => break why,
                Err(why) => progress(why),
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        };
        let taken_back = match work.taken_back() {
            Some(back) => Some(self.try_to_change(&back, through, &mut tried, progress).await),
            None => None,
        };
        StepOutcome::Failed(not_changed(work, why, taken_back))
    }

    /// Takes what one of these members holds into a file of this run's.
    pub(super) async fn save_through(
        &self,
        through: &[HostName],
        why: &str,
        progress: Progress<'_>,
    ) -> StepOutcome {
        let mut said = Vec::new();
        // Once more: what was in the way (a compaction) may be over.
        for host in through.iter().chain(through) {
            let saved = async {
                let client = self.patient_etcd(host, OVER_ALL).await?;
                let mut file = self.contents.snapshot(why)?;
                progress(format!("from {host}"));
                let taken = save::take(host, &client, &mut *file, progress).await?;
                file.end(taken)
            };
            match saved.await {
                Ok(()) => return StepOutcome::Done { changed: 1 },
                Err(why) => {
                    let told = format!("{host}: {why}");
                    progress(told.clone());
                    // The same once more says no more.
                    if !said.contains(&told) {
                        said.push(told);
                    }
                }
            }
        }
        StepOutcome::Failed(save::not_taken(said))
    }

    /// The first of these that answers and knows a leader.
    async fn any_of(&self, through: &[HostName]) -> Result<(EtcdClient, MemberAnswer), String> {
        let mut said = Vec::new();
        for host in through {
            let asked = async {
                let client = self.etcd(host).await?;
                let answer = client.answer().await?;
                Ok::<_, String>((client, answer))
            };
            match asked.await {
                Ok((_, answer)) if answer.leader == 0 => {
                    said.push(format!("{host}: it knows no leader"));
                }
                Ok(found) => return Ok(found),
                Err(why) => said.push(format!("{host}: {why}")),
            }
        }
        Err(said.join("; "))
    }

    async fn try_to_change(
        &self,
        work: &MemberWork,
        through: &[HostName],
        tried: &mut bool,
        progress: Progress<'_>,
    ) -> Result<(), String> {
        let (client, answer) = self.any_of(through).await?;
        let all = client.members().await?;
        let known = |id: &str| all.iter().find(|member| format!("{:016x}", member.id) == id);
        let missing = |id: &str| format!("no member has the id {id} any more");
        match work {
            MemberWork::Learn { url, .. } => {
                if all.iter().any(|member| member.peer_urls.contains(url)) {
                    return Ok(());
                }
                *tried = true;
                client.add_learner(url).await
            }
            MemberWork::Promote { host, id } => {
                let member = known(id).ok_or_else(|| missing(id))?;
                if !member.is_learner {
                    return Ok(());
                }
                *tried = true;
                let Err(why) = client.promote(member.id).await else { return Ok(()) };
                Err(match self.far_behind(host, through).await {
                    Some(far) => far,
                    None => why,
                })
            }
            MemberWork::Remove { id, who, learner } => {
                let Some(member) = known(id) else { return Ok(()) };
                if *learner && !member.is_learner {
                    return Err(HAS_ITS_VOTE.into());
                }
                *tried = true;
                if answer.leader == member.id {
                    self.lead_elsewhere(who, through, &all, progress).await;
                }
                client.remove(member.id).await
            }
            MemberWork::Move { id, url, .. } => {
                let member = known(id).ok_or_else(|| missing(id))?;
                if member.peer_urls == [url.clone()] {
                    return Ok(());
                }
                *tried = true;
                client.move_to(member.id, url).await
            }
        }
    }

    /// How far a learner is behind the others, in entries of the log.
    async fn far_behind(&self, host: &HostName, others: &[HostName]) -> Option<String> {
        let index = async |host: &HostName| self.etcd(host).await.ok()?.index().await.ok();
        let own = index(host).await?;
        let mut newest = own;
        for other in others {
            newest = newest.max(index(other).await.unwrap_or(0));
        }
        Some(format!("{host} has {own} of {newest} entries"))
    }

    /// A member that leads hands that to another one before it goes, so that no client waits for an election. Where it
    /// cannot be told so, the others elect one.
    pub(super) async fn lead_elsewhere(
        &self,
        leader: &str,
        through: &[HostName],
        all: &[crate::etcd::Member],
        progress: Progress<'_>,
    ) {
        let to = through.iter().find_map(|host| {
            let found =
                all.iter().find(|member| member.name == host.as_str() && !member.is_learner);
            found.filter(|member| member.name != leader)
        });
        let (Some(to), Ok(leader)) = (to, HostName::new(leader)) else { return };
        progress(format!("{leader} leads: {} takes that over", to.name));
        let moved = async { self.etcd(&leader).await?.lead_by(to.id).await };
        if let Err(why) = moved.await {
            progress(format!("{leader} did not hand over ({why}): the others elect one"));
        }
    }
}
