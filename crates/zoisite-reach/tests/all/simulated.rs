//! What tests on simulated hosts share: the demo with everything issued, and a strongbox that gives it out.

use std::collections::BTreeMap;

use ipnet::IpNet;
use jiff::Timestamp;
use proptest::test_runner::{Config as ProptestConfig, RngSeed};
use zoisite_core::aim::EtcdAim;
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::components::NodeImages;
use zoisite_core::holdings::{Holdings, Part, SharedSecrets, Sources, holdings};
use zoisite_core::item::Component;
use zoisite_core::pki::{
    Asker, Authority, AuthorityKind, KeyRequest, Ledger, LedgerEntry, NodeRequest, Secret,
    SecretRef, check_request, kubelet_client,
};
use zoisite_core::token::TokenRecord;
use zoisite_reach::Contents;
use zoisite_store::{FreshKeys, Overlay, State, Strongbox, trust};

const SALTMARSH: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");

pub const ID: &str = "0123456789abcdef";

pub fn saltmarsh() -> Cluster {
    read(SALTMARSH).cluster.unwrap()
}

pub fn now() -> Timestamp {
    "2026-11-23T12:00:00Z".parse().unwrap()
}

pub fn host(name: &str) -> HostName {
    HostName::new(name).unwrap()
}

pub fn on_virtual_time<T>(future: impl Future<Output = T>) -> T {
    let mut runtime = tokio::runtime::Builder::new_current_thread();
    runtime.enable_time().start_paused(true).build().unwrap().block_on(future)
}

/// A number that the environment asks for.
pub fn asked(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Which of `n` parts of a long list it is the turn of: another one at each commit in CI, all of them within `n` commits.
pub fn turn(n: usize) -> usize {
    let seed = asked("ZOISITE_SEED").unwrap_or(0);
    usize::try_from(seed).unwrap_or(0) % n
}

/// How many schedules by chance, and which: the same each time, unless the environment asks for others, or for more. CI asks
/// for others at each commit.
pub fn by_chance(usual: u32) -> ProptestConfig {
    ProptestConfig {
        cases: asked("ZOISITE_SEEDS").and_then(|n| n.try_into().ok()).unwrap_or(usual),
        rng_seed: RngSeed::Fixed(asked("ZOISITE_SEED").unwrap_or(1)),
        failure_persistence: None,
        ..ProptestConfig::default()
    }
}

pub type Keys = Vec<(SecretRef, Secret)>;

/// The strongbox of a test.
pub struct TestContents {
    pub issued: &'static Issued,
    /// Whatever is asked for is signed, whoever asks: what must not be.
    pub signs_anything: bool,
}

impl TestContents {
    pub fn of(issued: &'static Issued) -> Self {
        Self { issued, signs_anything: false }
    }
}

/// The join token that a host is given, whichever run it is.
pub fn join_token(host: &HostName) -> (TokenRecord, Secret) {
    let now = Timestamp::UNIX_EPOCH;
    let id = format!("{:0>6}", host.as_str().replace('-', ""))[..6].to_owned();
    let token = Secret::new(format!("{id}.secretofthistoken"));
    let hosts = vec![host.clone()];
    let (used, gone) = (Vec::new(), None);
    let by_run = true;
    (TokenRecord { id, hosts, uses: 1, made: now, expires: now, used, gone, by_run }, token)
}

impl Contents for TestContents {
    fn secret(&self, secret: &SecretRef) -> Option<Secret> {
        if let SecretRef::JoinToken(host) = secret {
            return self.join_token(host).ok().map(|(_, token)| token);
        }
        self.issued.key(secret)
    }

    fn component(&self, _: &Component, _: &str, _: &str) -> Result<std::path::PathBuf, String> {
        Ok("/dev/null".into())
    }

    fn join_token(&self, host: &HostName) -> Result<(TokenRecord, Secret), String> {
        Ok(join_token(host))
    }

    fn snapshot(&self, _: &str) -> Result<Box<dyn zoisite_reach::SnapshotFile>, String> {
        Err("nothing is kept in a test".into())
    }

    fn retire_tokens(&self, host: &HostName, _: bool) -> Result<Vec<String>, String> {
        Ok(vec![join_token(host).0.id])
    }

    fn sign(&self, host: &HostName, request: &NodeRequest) -> Result<String, Vec<String>> {
        if self.signs_anything {
            return Ok(String::new());
        }
        let Issued { cluster, ledger, .. } = self.issued;
        let wanted = kubelet_client(cluster, host);
        let checked = check_request(request, &wanted, Asker::Token(&join_token(host).0.id))?;
        let key = self.issued.key(&SecretRef::Authority(AuthorityKind::Cluster)).unwrap();
        let certificate = ledger.authority(AuthorityKind::Cluster).unwrap().clone();
        let authority = Authority::open(certificate, &key).unwrap();
        Ok(authority.sign(&checked, &wanted, &FreshKeys, now()).unwrap().pem)
    }

    fn certify(&self, _: &HostName, _: &[KeyRequest]) -> Result<Vec<LedgerEntry>, Vec<String>> {
        Err(vec!["no host makes keys in this test".into()])
    }
}

/// Certificates are made once: they are the same for every stage.
/// A cluster file with all that is issued for it.
pub struct Issued {
    pub cluster: Cluster,
    pub ledger: Ledger,
    pub keys: Keys,
    pub shared: SharedSecrets,
}

impl Issued {
    pub fn of(cluster: Cluster) -> Self {
        let mut state = State::new(Box::new(Overlay::over(None)));
        let strongbox = Strongbox::fleeting();
        Self::within(cluster, &mut state, &strongbox)
    }

    /// The same, out of a store that lasts.
    pub fn within(cluster: Cluster, state: &mut State, strongbox: &Strongbox) -> Self {
        Self::at(cluster, state, strongbox, now())
    }

    /// The same at some time.
    pub fn at(cluster: Cluster, state: &mut State, strongbox: &Strongbox, now: Timestamp) -> Self {
        trust::issue(state, strongbox, &cluster, &FreshKeys, now, false).unwrap();
        let ledger = state.ledger().unwrap();
        let serials =
            ledger.entries.iter().map(|entry| SecretRef::Certificate(entry.serial.clone()));
        let signer = SecretRef::Authority(AuthorityKind::Cluster);
        let shared = [SecretRef::ServiceAccounts, SecretRef::EncryptionAtRest, signer];
        let serials = serials.chain(shared);
        let keys = serials.map(|s| (s.clone(), state.secret(&s, strongbox).unwrap())).collect();
        let shared = state.shared_secrets().unwrap().unwrap();
        Self { cluster, ledger, keys, shared }
    }

    /// What hosts hold of these parts; `etcd` is the aim that it is made for.
    pub fn holdings(
        &self,
        cluster: &Cluster,
        parts: &[Part],
        (subnets, images): (&BTreeMap<HostName, Vec<IpNet>>, &NodeImages),
        etcd: Option<&EtcdAim>,
    ) -> Holdings {
        let (facts, departed, site_secrets) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
        let sources = Sources {
            ledger: &self.ledger,
            cluster_id: ID,
            epoch: 1,
            shared: &self.shared,
            subnets,
            facts: &facts,
            departed: &departed,
            images,
            site_secrets: &site_secrets,
            etcd,
        };
        holdings(cluster, sources, parts).unwrap()
    }

    pub fn key(&self, secret: &SecretRef) -> Option<Secret> {
        self.keys.iter().find(|(known, _)| known == secret).map(|(_, key)| key.clone())
    }
}
