//! Each file crosses the link to a site once: to one host there, and from that to the others, each giving on what it
//! has. Who cannot be reached by its neighbours gets it straight from here.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use tokio::sync::Notify;
use zoisite_core::cluster::HostName;
use zoisite_core::script::{offer_script, offered, withdraw_script};

use super::Hosts;
use crate::reach::Carried;

/// To how many hosts one gives the same file at once.
const FAN_OUT: usize = 3;

/// What is known of the files of all sites.
#[derive(Default)]
pub(super) struct Relay {
    files: Mutex<BTreeMap<Key, File>>,
    /// Something about them is new.
    news: Notify,
    /// Hosts that offer something, and those that were not reached.
    sources: Mutex<Sources>,
    crossed: AtomicU64,
    passed: AtomicU64,
}

/// A site and the checksum of a file.
type Key = (String, String);
/// A host that has a file, and where.
type Source = (HostName, String);

#[derive(Default)]
struct File {
    /// It is on its way from here to one host of the site.
    comes: bool,
    /// Hosts that have it, where, and to how many they give it now.
    held: BTreeMap<HostName, (String, usize)>,
    /// Who did not get it from whom.
    failed: BTreeSet<(HostName, HostName)>,
}

#[derive(Default)]
struct Sources {
    /// What each offers; a host is asked one thing at a time.
    offering: BTreeMap<HostName, Arc<tokio::sync::Mutex<BTreeSet<String>>>>,
    worked: BTreeSet<HostName>,
    failures: BTreeMap<HostName, usize>,
}

/// From where a host gets a file now. What is dropped without a word has failed.
pub(super) struct Turn<'a> {
    relay: &'a Relay,
    key: Option<Key>,
    host: HostName,
    /// `None`: from here.
    pub source: Option<Source>,
    ended: bool,
}

impl Relay {
    /// A look found a file there.
    pub(super) fn holds(&self, site: &str, host: &HostName, path: &str, sha256: &str) {
        let key = (site.to_owned(), sha256.to_owned());
        if let Ok(mut files) = self.files.lock() {
            let held = &mut files.entry(key).or_default().held;
            held.entry(host.clone()).or_insert((path.to_owned(), 0));
        }
    }

    /// Waits until it is known from where a host gets a file. The first of a site gets it from here.
    pub(super) async fn turn(&self, site: Option<&str>, host: &HostName, sha256: &str) -> Turn<'_> {
        let key = site.map(|site| (site.to_owned(), sha256.to_owned()));
        let turn =
            |key, source| Turn { relay: self, key, host: host.clone(), source, ended: false };
        let Some(known) = key.clone() else { return turn(None, None) };
        loop {
            let news = self.news.notified();
            tokio::pin!(news);
            // From here on nothing new is missed.
            news.as_mut().enable();
            if let Some((waited_for, source)) = self.decide(&known, host) {
                return turn(key.filter(|_| waited_for), source);
            }
            news.await;
        }
    }

    /// `None` while it is to wait; else whether others wait for this copy, and from where it comes if not from here.
    fn decide(&self, key: &Key, host: &HostName) -> Option<(bool, Option<Source>)> {
        let unreached = self.unreached();
        let mut files = self.files.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let file = files.entry(key.clone()).or_default();
        let nobody = file.held.is_empty();
        let usable = |source: &HostName| {
            source != host
                && !unreached.contains(source)
                && !file.failed.contains(&(host.clone(), source.clone()))
        };
        let sources = file.held.iter_mut().filter(|(source, _)| usable(source));
        match sources.min_by_key(|(_, (_, busy))| *busy) {
            Some((_, (_, busy))) if *busy >= FAN_OUT => None,
            Some((source, (path, busy))) => {
                *busy += 1;
                Some((true, Some((source.clone(), path.clone()))))
            }
            // Others have it, and this one does not get it from them.
            None if !nobody => Some((false, None)),
            None if file.comes => None,
            None => {
                file.comes = true;
                Some((true, None))
            }
        }
    }

    /// Hosts that failed twice and never worked: trying them costs everybody time.
    fn unreached(&self) -> BTreeSet<HostName> {
        let sources = self.sources.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let lost = sources
            .failures
            .iter()
            .filter(|(host, failures)| **failures >= 2 && !sources.worked.contains(*host));
        lost.map(|(host, _)| host.clone()).collect()
    }

    pub(super) fn carried(&self) -> Carried {
        Carried {
            crossed: self.crossed.load(Ordering::Relaxed),
            passed: self.passed.load(Ordering::Relaxed),
        }
    }

    pub(super) fn crossed(&self, octets: u64) {
        self.crossed.fetch_add(octets, Ordering::Relaxed);
    }
}

impl Turn<'_> {
    /// It came: the host has it at `path` now.
    pub(super) fn came(mut self, path: &str, octets: u64) {
        if self.source.is_some() {
            self.relay.passed.fetch_add(octets, Ordering::Relaxed);
        }
        self.end(Some(path));
    }

    fn end(&mut self, path: Option<&str>) {
        self.ended = true;
        let Some(key) = &self.key else { return };
        {
            let mut files =
                self.relay.files.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            let file = files.entry(key.clone()).or_default();
            match &self.source {
                None => file.comes = false,
                Some((source, _)) => {
                    if let Some((_, busy)) = file.held.get_mut(source) {
                        *busy = busy.saturating_sub(1);
                    }
                    if path.is_none() {
                        file.failed.insert((self.host.clone(), source.clone()));
                    }
                }
            }
            if let Some(path) = path {
                file.held.insert(self.host.clone(), (path.to_owned(), 0));
            }
        }
        if let Some((source, _)) = &self.source {
            let mut sources =
                self.relay.sources.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            match path {
                Some(_) => drop(sources.worked.insert(source.clone())),
                None => *sources.failures.entry(source.clone()).or_default() += 1,
            }
        }
        self.relay.news.notify_waiters();
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        if !self.ended {
            self.end(None);
        }
    }
}

impl Hosts {
    /// A host gives a file to others of its site, from now until the end of the run.
    pub(super) async fn offer(
        &self,
        source: &HostName,
        path: &str,
        sha256: &str,
    ) -> Result<std::net::IpAddr, String> {
        let address = self.channel(source).map_err(|trouble| trouble.answer)?.target.address;
        let offers = {
            let mut sources =
                self.relay.sources.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            Arc::clone(sources.offering.entry(source.clone()).or_default())
        };
        let mut offers = offers.lock().await;
        if offers.contains(sha256) {
            return Ok(address);
        }
        let script = offer_script(source, address, sha256, path);
        let said = self.report(source, &script, "giving files to hosts of its site").await;
        offered(&said.map_err(|trouble| trouble.answer)?)?;
        offers.insert(sha256.to_owned());
        Ok(address)
    }

    /// Ends all offers.
    pub(super) async fn withdraw(&self) {
        let offering = match self.relay.sources.lock() {
            Ok(mut sources) => std::mem::take(&mut sources.offering),
            Err(_) => return,
        };
        let withdrawing = offering.keys().map(|host| async move {
            // A host that is gone ends them by itself.
            let _ = self.report(host, &withdraw_script(host), "ending its offers").await;
        });
        futures_util::future::join_all(withdrawing).await;
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
mod tests {
    use super::*;

    fn host(name: &str) -> HostName {
        HostName::new(name).unwrap()
    }

    /// Many hosts of two sites want a file at once: it crosses once to each, and no host gives to more than it may.
    #[tokio::test]
    async fn a_file_crosses_once_to_each_site_and_fans_out_within_bounds() {
        let relay = Relay::default();
        let (crossing, giving) = (Mutex::new(Vec::new()), Mutex::new(BTreeMap::new()));
        let one = |n: usize| {
            let (relay, crossing, giving) = (&relay, &crossing, &giving);
            async move {
                let (site, me) = (
                    if n.is_multiple_of(2) { "north" } else { "south" },
                    host(&format!("tern-{n}")),
                );
                let turn = relay.turn(Some(site), &me, "ab").await;
                match &turn.source {
                    None => crossing.lock().unwrap().push(site),
                    Some((source, path)) => {
                        assert_eq!(path, "/x");
                        let now = {
                            let mut giving = giving.lock().unwrap();
                            let now = giving.entry(source.clone()).or_insert(0);
                            *now += 1;
                            *now
                        };
                        assert!(now <= FAN_OUT);
                    }
                }
                tokio::task::yield_now().await;
                if let Some((source, _)) = &turn.source {
                    *giving.lock().unwrap().get_mut(source).unwrap() -= 1;
                }
                turn.came("/x", 10);
            }
        };
        futures_util::future::join_all((0..40).map(one)).await;
        let mut crossed = crossing.into_inner().unwrap();
        crossed.sort_unstable();
        assert_eq!(crossed, ["north", "south"]);
        assert_eq!(relay.carried().passed, 380);
    }

    #[tokio::test]
    async fn who_does_not_get_it_from_a_neighbour_gets_it_from_here() {
        let relay = Relay::default();
        // Without a site there is no neighbour.
        assert!(relay.turn(None, &host("a"), "ab").await.source.is_none());
        // The first one fails: the next one takes its place, and nobody waits for ever.
        let first = relay.turn(Some("s"), &host("a"), "ab").await;
        assert!(first.source.is_none());
        drop(first);
        let second = relay.turn(Some("s"), &host("b"), "ab").await;
        assert!(second.source.is_none());
        second.came("/x", 1);
        let third = relay.turn(Some("s"), &host("c"), "ab").await;
        assert_eq!(third.source.as_ref().unwrap().0, host("b"));
        drop(third);
        assert!(relay.turn(Some("s"), &host("c"), "ab").await.source.is_none());
        // What a look found counts; a host that fails again and again is left in peace.
        relay.holds("s", &host("d"), "/x", "cd");
        for name in ["e", "f"] {
            let turn = relay.turn(Some("s"), &host(name), "cd").await;
            assert_eq!(turn.source.as_ref().unwrap().0, host("d"));
        }
        assert!(relay.turn(Some("s"), &host("g"), "cd").await.source.is_none());
    }
}
