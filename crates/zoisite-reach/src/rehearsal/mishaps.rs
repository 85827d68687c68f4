//! What goes wrong in a rehearsal that is asked for it: drawn from a seed, the same again with the same seed.

use std::time::Duration;

use sha2::{Digest as _, Sha256};
use zoisite_core::cluster::HostName;

use super::state::{Fault, World};

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
        told.push(format!("operation {operation} is done, and nobody hears of it"));
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
        self.mend();
        let off = self.hosts.keys().filter(|host| self.unreachable(host).is_some());
        let off: Vec<HostName> = off.cloned().collect();
        for host in &off {
            self.power(host, true);
        }
    }
}
