//! Defragmented of the members' databases: written again one at a time, and alarms taken back.

use std::time::Duration;

use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;

use super::Hosts;
use super::members::{OVER_ALL, failed};
use crate::reach::Progress;

/// Less than that is not worth stopping a member for, in octets; nor is less than a tenth of its database.
const WORTH: i64 = 1 << 20;

/// What became of a member's database, in octets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DefragmentedMember {
    /// The member.
    pub host: HostName,
    /// Its size before.
    pub before: i64,
    /// Its size after; `None` where there was nothing to win.
    pub after: Option<i64>,
}

/// What the members were before and are now.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Defragmented {
    /// Each member, in the order in which it was its turn.
    pub members: Vec<DefragmentedMember>,
    /// Whether an alarm of no room was taken back.
    pub room: bool,
}

impl Hosts {
    /// Has members write their databases again, one at a time, the one that leads last and after it has handed over; the
    /// next only when the last answers and agrees with the others again (rule S2). Where they refuse writes for want of
    /// room, history is forgotten first, and the alarm taken back at the end. These must be all that vote.
    ///
    /// # Errors
    /// What did not go as it should, on which member; nothing more is begun then.
    pub async fn defragment(
        &self,
        voters: &[HostName],
        progress: Progress<'_>,
    ) -> Result<Defragmented, Trouble> {
        let mut out = Defragmented::default();
        let mut turns = Vec::new();
        let mut full = false;
        for (host, client, answer) in self.agreeing(voters, false).await?.0 {
            let database = client.database().await.map_err(failed(&host, "asking the member"))?;
            if let Some(spoiled) = database.alarms.iter().find(|alarm| alarm.contains("CORRUPT")) {
                return Err(failed(&host, "looking for alarms")(spoiled.clone()).fix(
                    "its data is not what the others hold: take it out of etcd.members, raise, and name it again",
                ));
            }
            full |= database.alarms.iter().any(|alarm| alarm.contains("NOSPACE"));
            turns.push((answer.leader == answer.member_id, host));
        }
        turns.sort_by_key(|(leads, _)| *leads);
        if full && let Some((_, host)) = turns.first() {
            progress(format!("{host}: forgetting history, which takes room"));
            let client = self.patient_etcd(host, OVER_ALL).await;
            let client = client.map_err(failed(host, "dialling etcd"))?;
            let database = client.database().await.map_err(failed(host, "asking the member"))?;
            match client.compact(database.revision).await {
                // The API servers do that too, now and then.
                Err(why) if !why.contains("has been compacted") => {
                    return Err(failed(host, "forgetting history")(why));
                }
                _ => {}
            }
        }
        for (leads, host) in turns {
            let client = self.patient_etcd(&host, OVER_ALL).await;
            let client = client.map_err(failed(&host, "dialling etcd"))?;
            let database = client.database().await.map_err(failed(&host, "asking the member"))?;
            let worth = (database.size / 10).max(WORTH);
            if database.size - database.in_use < worth && !full {
                out.members.push(DefragmentedMember { host, before: database.size, after: None });
                continue;
            }
            if leads && voters.len() > 1 {
                let others: Vec<HostName> =
                    voters.iter().filter(|other| **other != host).cloned().collect();
                let all = client.members().await.map_err(failed(&host, "asking the member"))?;
                self.lead_elsewhere(host.as_str(), &others, &all, progress).await;
            }
            progress(format!("{host} writes its database again"));
            client.defragment().await.map_err(failed(&host, "writing the database again"))?;
            self.until_all_agree(voters).await?;
            let now = client.database().await.map_err(failed(&host, "asking the member"))?;
            out.members.push(DefragmentedMember {
                host,
                before: database.size,
                after: Some(now.size),
            });
        }
        if full && let Some(host) = voters.first() {
            let client = self.etcd(host).await.map_err(failed(host, "dialling etcd"))?;
            let all = client.members().await.map_err(failed(host, "asking the member"))?;
            for member in all {
                let told = client.there_is_room(member.id).await;
                told.map_err(failed(host, "taking the alarm back"))?;
            }
            out.room = true;
        }
        self.attempt(voters, false).await?;
        Ok(out)
    }

    async fn until_all_agree(&self, voters: &[HostName]) -> Result<(), Trouble> {
        let end = Instant::now() + Duration::from_secs(120);
        loop {
            match self.agreeing(voters, false).await {
                Ok(_) => return Ok(()),
                Err(trouble) if Instant::now() >= end => return Err(trouble),
                Err(_) => tokio::time::sleep(Duration::from_millis(500)).await,
            }
        }
    }
}
