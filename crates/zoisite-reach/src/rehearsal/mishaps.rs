//! What goes wrong in a rehearsal: by the fault that was put there, or drawn from a seed, the same again with the same
//! seed.

use std::time::Duration;

use sha2::{Digest as _, Sha256};
use zoisite_core::cluster::HostName;
use zoisite_core::item::{Content, File, Item};
use zoisite_core::pki::{Secret, SecretRef};
use zoisite_core::script::Operation;

use super::state::{Fault, Left, World};

/// So many operations from now on something may go wrong; a raise of the demo has about three hundred.
const WITHIN: u64 = 250;

impl World {
    /// Lets two hosts lose their power for a while, two operations fail, the answer of one be lost, a member not come
    /// up once and a link be slow, somewhere in the next raise, while somebody writes to etcd at every operation; in
    /// words.
    pub fn go_wrong(&mut self, seed: u64) -> Vec<String> {
        let hosts: Vec<HostName> = self.hosts.keys().cloned().collect();
        let now = self.operations();
        let mut drawn = 0_u64;
        let mut draw = |below: u64| {
            drawn += 1;
            let sum = Sha256::digest(format!("{seed} {drawn}"));
            let number = sum.iter().take(8).fold(0_u64, |n, octet| n << 8 | u64::from(*octet));
            number % below.max(1)
        };
        let mut told = Vec::new();
        for _ in 0..2 {
            let host = usize::try_from(draw(hosts.len() as u64)).ok().and_then(|at| hosts.get(at));
            let Some(host) = host.cloned() else { break };
            let (off, long) = (now + draw(WITHIN), 1 + draw(60));
            told.push(format!(
                "{host} loses its power before operation {off}, and has it again before operation {}",
                off + long
            ));
            for (operation, on) in [(off, false), (off + long, true)] {
                self.fault(Fault::Power { operation, host: host.clone(), on });
            }
        }
        for _ in 0..2 {
            let operation = now + draw(WITHIN);
            told.push(format!("operation {operation} fails"));
            self.fault(Fault::Fails { operation });
        }
        let operation = now + draw(WITHIN);
        told.push(format!("operation {operation} is done, and its answer is lost"));
        self.fault(Fault::AnswerLost { operation });
        let mut any = |what: String, fault: &dyn Fn(HostName) -> Fault| {
            let host = usize::try_from(draw(hosts.len() as u64)).ok().and_then(|at| hosts.get(at));
            if let Some(host) = host.cloned() {
                told.push(format!("{host}{what}"));
                self.fault(fault(host));
            }
        };
        any(": the first that is started there does not come up".into(), &|host| Fault::Refuses {
            host,
            unit: None,
            times: 1,
        });
        any(" is reached three seconds later than others".into(), &|host| {
            Fault::Slow(host, Duration::from_secs(3))
        });
        self.write_all_the_while();
        told
    }

    /// Whatever went wrong is over: every host has its power, and every link is whole.
    pub fn is_whole_again(&mut self) {
        self.fix();
        let off = self.hosts.keys().filter(|host| self.unreachable(host).is_some());
        let off: Vec<HostName> = off.cloned().collect();
        for host in &off {
            self.power(host, true);
        }
    }

    /// How much longer it takes to reach a host.
    pub(super) fn slowed(&self, host: &HostName) -> Duration {
        let slow = |fault: &Fault| match fault {
            Fault::Slow(slow, by) if slow == host => Some(*by),
            _ => None,
        };
        self.faults.iter().filter_map(slow).sum()
    }

    /// How long something takes this time.
    pub(super) fn lasts(&mut self, usual: Duration) -> Duration {
        let seed = self.faults.iter().find_map(|fault| match fault {
            Fault::Pace(seed) => Some(*seed),
            _ => None,
        });
        let Some(seed) = seed else { return usual };
        self.paced += 1;
        // Halves up to eight of them.
        let drawn = zoisite_core::text::digest(&format!("{seed} {}", self.paced));
        let halves = 1 + u32::from(drawn.as_bytes()[0] % 8);
        usual * halves / 2
    }

    /// Whether the answer to the operation that was begun last is lost.
    pub(super) fn answer_is_lost(&self, number: u64) -> bool {
        self.faults.contains(&Fault::AnswerLost { operation: number })
    }

    /// What is left of a script goes on by itself, and holds the host's lock, until it is done or the host is off.
    pub(super) fn leave(
        &mut self,
        host: &HostName,
        (operations, pace): (&[Operation], u32),
        keys: &dyn Fn(&SecretRef) -> Option<Secret>,
    ) {
        let wanted = operations.iter().filter_map(|operation| match operation {
            Operation::Put(Item::Pair(pair)) if pair.own_key.is_none() => {
                Some(SecretRef::Certificate(pair.serial.clone()))
            }
            Operation::Put(Item::File(File {
                content: Content::Secret { secret, .. }, ..
            })) => Some(secret.clone()),
            _ => None,
        });
        let secrets = wanted.filter_map(|secret| Some((secret.clone(), keys(&secret)?))).collect();
        let (host, operations) = (host.clone(), operations.iter().cloned().collect());
        self.left.push(Left { host, operations, secrets, pace: (pace, pace) });
    }

    /// Whether this program is killed now, and its script goes on at that pace.
    pub(super) fn leaves_running(&self) -> Option<u32> {
        self.faults.iter().find_map(|fault| match fault {
            Fault::LeftRunning { operation, pace } if *operation == self.operations => Some(*pace),
            _ => None,
        })
    }

    /// Whether a script of somebody's acts on a host.
    pub(super) fn acts(&self, host: &HostName) -> bool {
        self.left.iter().any(|left| left.host == *host)
    }

    /// Scripts without a program do one thing more; one that fails ends.
    pub(super) fn left_go_on(&mut self) {
        for mut left in std::mem::take(&mut self.left) {
            left.pace.1 = left.pace.1.saturating_sub(1);
            if left.pace.1 > 0 {
                self.left.push(left);
                continue;
            }
            left.pace.1 = left.pace.0;
            let Some(operation) = left.operations.pop_front() else { continue };
            let known = |wanted: &SecretRef| {
                left.secrets.iter().find(|(one, _)| one == wanted).map(|(_, text)| text.clone())
            };
            if self.apply(&left.host, &operation, &known).is_ok() && !left.operations.is_empty() {
                self.left.push(left);
            }
        }
    }

    /// Whether a unit does not come up this time.
    pub(super) fn refuses(&mut self, host: &HostName, unit: &str) -> bool {
        let refuses = |fault: &mut Fault| match fault {
            Fault::Refuses { host: one, unit: its, times }
                if one == host && its.is_none_or(|its| its == unit) && *times > 0 =>
            {
                *times -= 1;
                true
            }
            _ => false,
        };
        self.faults.iter_mut().any(refuses)
    }

    /// Rules S3 and S4, over what is done: only the machine that was met behind a host's address is touched, and none
    /// on which another cluster's data is.
    pub(super) fn watch_whose(&mut self, host: &HostName) {
        let Some(sim) = self.hosts.get(host) else { return };
        let stray = sim.stray.as_ref().map(|path| {
            format!("S3: {host} was touched, where another cluster's data is in {path}")
        });
        let met = self.met.entry(host.clone()).or_insert_with(|| sim.machine.clone());
        let other = (*met != sim.machine)
            .then(|| format!("S4: another machine answers for {host}, and was touched"));
        self.broken.extend(stray.into_iter().chain(other));
    }

    /// A run has saved what etcd holds.
    pub(super) fn saved_by(&mut self, run: u64) {
        self.saved.insert(run);
    }

    /// Rule S10, over what is done: a voter went, and the run that took it out had saved what etcd holds.
    pub(super) fn watch_saved(&mut self, run: u64, who: &str) {
        if !self.saved.contains(&run) {
            self.break_rule(format!("S10: {who} was taken out, and nothing had been saved"));
        }
    }

    /// Whether nothing more can be written on a host.
    pub(super) fn disk_is_full(&self, host: &HostName) -> bool {
        self.faults.iter().any(|fault| matches!(fault, Fault::DiskFull(full) if full == host))
    }
}
