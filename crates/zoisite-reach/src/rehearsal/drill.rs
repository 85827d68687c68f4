//! A drill on simulated hosts: what is to be expected, before it is measured.
//!
//! The simulated world says who could serve; how long others take to notice is added here, from what their
//! configuration says. So an expected time line stands beside a measured one.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use tokio::time::Instant;
use zoisite_core::cluster::{Cluster, HostName, Role};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::drill::{Ask, By, Drill, Kind, Sight, Stands};
use zoisite_core::holdings::{ADDRESS_UNIT, API_SERVER_UNIT, KUBELET_UNIT, LOAD_BALANCER_UNIT};

use super::state::{Fault, World};
use crate::drill::{Ground, TIMEOUT, Witnessed};

/// A holder that is gone is missed: three advertisements, a second apart, and the skew (RFC 9568, section 6.1).
const MISSED: Duration = Duration::from_millis(3_400);
/// A holder that cannot serve finds out: three checks in a row, a second apart.
const FOUND_OUT: Duration = Duration::from_millis(3_300);
/// A load balancer leaves a server out: two checks, two seconds apart.
const LEFT_OUT: Duration = Duration::from_secs(4);
/// Followers choose another leader: an election timeout of a second and up to one more, and the vote.
const ELECTED: Duration = Duration::from_millis(1_700);
/// A leader that is stopped lets calls end for five seconds and two election timeouts, and hands over then.
const HANDED_OVER: Duration = Duration::from_millis(7_150);
/// Node Ready no more (the controller manager's `--node-monitor-grace-period`).
const NODE_MISSED: Duration = Duration::from_secs(50);
/// Pods of the drill's workload leave a node after that, and others run elsewhere.
const MOVED: Duration = Duration::from_secs(8);
/// A kubelet that was cut off notices that its connection is dead (HTTP/2 pings: after 30 s, for 15 s more), dials
/// again where it can, and says that it is there.
const DIALLED_AGAIN: Duration = Duration::from_secs(45);
const SAYS_SO: Duration = Duration::from_secs(3);
/// API servers ask all members in turn; one that is gone without a word is left out when pings stay unanswered.
const MEMBER_LEFT_OUT: Duration = Duration::from_secs(12);
/// A machine starts again.
const BOOT: Duration = Duration::from_secs(25);
/// A service is ready after its start.
const STARTED: Duration = Duration::from_secs(4);
/// An answer takes about so long.
const ANSWER: Duration = Duration::from_millis(12);
/// What comes of a request that is not answered in time, and of one that is not accepted.
const SILENT: &str = "no answer within 2 seconds";
const REFUSED: &str = "Connection refused";

/// Simulated hosts, as a drill needs them.
pub struct RehearsedField<'a> {
    world: Arc<Mutex<World>>,
    cluster: &'a Cluster,
    from: HostName,
    drill: &'a Drill,
    /// Who held the address, and who led, before.
    holder: Option<HostName>,
    leader: Option<HostName>,
    lost: Mutex<Option<Instant>>,
    fixed: Mutex<Option<Instant>>,
    /// Whether what was lost runs again.
    back: AtomicBool,
}

/// How long it has been since something.
fn since(when: &Mutex<Option<Instant>>) -> Option<Duration> {
    when.lock().unwrap_or_else(PoisonError::into_inner).map(|at| at.elapsed())
}

/// Whose turn it is.
fn turn(all: &[HostName], number: u32) -> Option<&HostName> {
    all.get(usize::try_from(number).unwrap_or(0) % all.len().max(1))
}

impl<'a> RehearsedField<'a> {
    /// Simulated hosts on which the cluster stands, with who holds the address and who leads as it is to be.
    pub fn new(
        world: Arc<Mutex<World>>,
        cluster: &'a Cluster,
        (drill, stands): (&'a Drill, &Stands),
        from: HostName,
    ) -> Self {
        let (holder, leader) = (stands.holder.clone(), stands.leader.clone());
        let (lost, fixed) = (Mutex::new(None), Mutex::new(None));
        let back = AtomicBool::new(false);
        Self { world, cluster, from, drill, holder, leader, lost, fixed, back }
    }

    fn world(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn takes(&self, role: Role, host: &HostName) -> bool {
        self.drill.takes(self.cluster, role, host)
    }

    /// Who holds the address, `lost` ago; `None` while no host does.
    fn holds(&self, lost: Option<Duration>) -> Option<HostName> {
        let before = self.holder.clone()?;
        let Some(lost) = lost else { return Some(before) };
        let front = self.cluster.front();
        let notices = match () {
            () if self.drill.isolates(&before) => MISSED,
            // The process that serves there is gone, and the host lives on: it still holds the address till then.
            () if self.takes(front, &before) && self.drill.kind != Kind::Holder => {
                return Some(if lost < FOUND_OUT { before } else { self.next_holder(&before)? });
            }
            () => return Some(before),
        };
        if lost < notices { None } else { self.next_holder(&before) }
    }

    fn next_holder(&self, before: &HostName) -> Option<HostName> {
        self.cluster.virtual_ip_holders().iter().find(|host| *host != before).cloned()
    }

    /// Where what is asked is answered: at the holder's load balancer, in a mesh at the asking host's own. `None` while nobody
    /// holds the address, or where the site leads to them.
    fn place(&self, lost: Option<Duration>) -> Option<HostName> {
        match self.cluster.is_in_mesh(&self.from) {
            true => Some(self.from.clone()),
            false => self.holds(lost),
        }
    }

    /// By what a host answers at the API endpoint.
    fn front_of(&self, host: &HostName) -> Role {
        match self.cluster.carried_by(host) {
            Some(_) => Role::LoadBalancer,
            None => self.cluster.front(),
        }
    }

    /// Whether a role of a host is lost now.
    fn gone(&self, host: &HostName, role: Role) -> bool {
        self.takes(role, host) && since(&self.lost).is_some() && since(&self.fixed).is_none()
    }

    /// Whether the load balancer, or the API server, at `place` answers request `number` now.
    fn serves(
        &self,
        place: Option<&HostName>,
        lost: Option<Duration>,
        number: u32,
    ) -> Result<(), String> {
        let lost = lost.filter(|_| since(&self.fixed).is_none_or(|back| back < STARTED));
        let Some(lost) = lost else { return Ok(()) };
        let servers = &self.cluster.control_plane.hosts;
        if let Some(place) = place
            && self.gone(place, self.front_of(place))
        {
            return Err(REFUSED.into());
        }
        let members = &self.cluster.etcd.members;
        let silent =
            |host: &HostName| self.drill.by != By::Stop && self.gone(host, Role::EtcdMember);
        if turn(members, number).is_some_and(silent) && lost < MEMBER_LEFT_OUT {
            return Err(SILENT.into());
        }
        if self.cluster.front() == Role::LoadBalancer {
            // Until it is left out, a server that is gone gets its share.
            let share =
                turn(servers, number).is_some_and(|host| self.gone(host, Role::ControlPlane));
            if share && lost < LEFT_OUT {
                return Err(SILENT.into());
            }
        }
        Ok(())
    }

    /// Whether the members have a leader.
    fn leads(&self, lost: Option<Duration>) -> Option<HostName> {
        let before = self.leader.clone()?;
        let Some(lost) = lost.filter(|_| self.takes(Role::EtcdMember, &before)) else {
            return Some(before);
        };
        match self.drill.by {
            By::Stop if lost < HANDED_OVER => return Some(before),
            By::Cut | By::Reboot if lost < ELECTED => return None,
            _ => {}
        }
        self.cluster.etcd.members.iter().find(|host| **host != before).cloned()
    }

    /// Whether it has been given back for long enough.
    fn runs_again(&self) -> bool {
        let (Some(lost), Some(back)) = (since(&self.lost), since(&self.fixed)) else {
            return false;
        };
        match self.drill.by {
            By::Cut if !self.cluster.is_node(&self.drill.host) => back >= SAYS_SO,
            By::Cut => back >= SAYS_SO && lost >= DIALLED_AGAIN + SAYS_SO,
            By::Stop | By::Reboot => back >= STARTED,
        }
    }

    /// What was lost runs again, a while after it was given back.
    fn is_back(&self) {
        if !self.runs_again() || self.back.swap(true, Ordering::Relaxed) {
            return;
        }
        let mut world = self.world();
        world.fix();
        match self.drill.by {
            By::Reboot => world.power(&self.drill.host, true),
            By::Stop | By::Cut => world.start_enabled(&self.drill.host),
        }
    }

    fn node_is_missed(&self, host: &HostName) -> bool {
        let gone = self.drill.isolates(host)
            || (self.drill.kind == Kind::Worker && self.drill.host == *host);
        let missed = since(&self.lost).is_some_and(|lost| lost >= NODE_MISSED);
        gone && missed && !self.runs_again()
    }
}

#[async_trait]
impl Ground for RehearsedField<'_> {
    async fn lose(&self) -> Result<Instant, Trouble> {
        let drill = self.drill;
        tokio::time::sleep(Duration::from_millis(300)).await;
        let mut world = self.world();
        match (drill.unit(), &drill.from) {
            (Some(unit), _) => world.stop(&drill.host, unit),
            (None, Some(from)) => world.fault(Fault::Cut(drill.host.clone(), from.clone())),
            (None, None) if drill.by == By::Reboot => world.power(&drill.host, false),
            (None, None) => {
                for host in self.cluster.hosts.iter().filter(|host| host.name != drill.host) {
                    world.fault(Fault::Cut(drill.host.clone(), host.name.clone()));
                }
                for unit in [ADDRESS_UNIT, API_SERVER_UNIT, LOAD_BALANCER_UNIT, KUBELET_UNIT] {
                    world.stop(&drill.host, unit);
                }
            }
        }
        let now = Instant::now();
        *self.lost.lock().unwrap_or_else(PoisonError::into_inner) = Some(now);
        Ok(now)
    }

    async fn fix(&self) -> Result<(), Trouble> {
        if self.drill.by == By::Reboot {
            tokio::time::sleep(BOOT.saturating_sub(since(&self.lost).unwrap_or_default())).await;
        }
        let mut fixed = self.fixed.lock().unwrap_or_else(PoisonError::into_inner);
        fixed.get_or_insert_with(Instant::now);
        Ok(())
    }

    async fn ask(&self, _: Ask, number: u32) -> Result<(), String> {
        tokio::time::sleep(ANSWER).await;
        let lost = since(&self.lost);
        let place = self.place(lost);
        let answer = match (&place, &self.holder) {
            // Without a virtual IP of its own the site leads elsewhere.
            (None, Some(_)) => Err(SILENT.into()),
            (place, _) => self.serves(place.as_ref(), lost, number),
        };
        let answer = answer.and_then(|()| match self.leads(lost) {
            Some(_) => Ok(()),
            None => Err("the etcd members have no leader".into()),
        });
        if answer.as_ref().is_err_and(|why| why == SILENT) {
            std::future::pending::<()>().await;
        }
        answer
    }

    async fn see(&self, sight: &Sight) -> Option<String> {
        let name = |host: Option<HostName>| host.map_or(String::new(), |host| host.to_string());
        Some(match sight {
            Sight::Holder => name(self.holds(since(&self.lost))),
            Sight::Leader => name(self.leads(since(&self.lost))),
            Sight::Node(host) if self.node_is_missed(host) => "not Ready".into(),
            Sight::Node(_) => "Ready".into(),
            Sight::Pods => {
                let gone = since(&self.lost).is_some_and(|lost| lost >= NODE_MISSED + MOVED);
                let workers = self.cluster.workers.hosts.iter();
                let there = workers.filter(|host| !gone || **host != self.drill.host);
                there.map(|host| host.as_str()).collect::<Vec<_>>().join(", ")
            }
        })
    }

    async fn watch(&self, heard: &(dyn Fn(Witnessed) + Send + Sync)) {
        let mut tick = tokio::time::interval(Duration::from_millis(250));
        let asks: &[Ask] = match self.drill.kind {
            Kind::Worker => &[Ask::Dial, Ask::Service],
            _ => &[Ask::Dial],
        };
        for number in 0.. {
            tick.tick().await;
            let (at, lost) = (Instant::now(), since(&self.lost));
            self.is_back();
            for ask in asks {
                let share = turn(&self.cluster.workers.hosts, number) == Some(&self.drill.host);
                let back = since(&self.fixed).is_some();
                let place = self.place(lost);
                let silent = match ask {
                    // Pods of a node that is gone stay in the service until it is missed.
                    Ask::Service => share && !back && lost.is_some_and(|lost| lost < NODE_MISSED),
                    _ => self.holder.is_some() && place.is_none(),
                };
                // In a mesh it is the asking host's own load balancer that is gone.
                let refused = *ask == Ask::Dial
                    && self.cluster.is_in_mesh(&self.from)
                    && self.gone(&self.from, Role::LoadBalancer);
                let (took, fault) = match () {
                    () if silent => (TIMEOUT, Some(SILENT)),
                    () if refused => (ANSWER, Some(REFUSED)),
                    () => (ANSWER, None),
                };
                let (from, fault) = (self.from.clone(), fault.map(str::to_owned));
                heard(Witnessed { ask: *ask, from, at, took, fault });
            }
        }
    }

    async fn missing(&self, _: &[u32]) -> Vec<u32> {
        // Simulated members lose nothing that they acknowledged.
        Vec::new()
    }
}
