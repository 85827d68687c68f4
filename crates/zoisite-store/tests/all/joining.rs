//! Letting nodes in: a token belongs to a host, a request is signed for that host only, and what is gone
//! leaves no secret behind.

use jiff::{SignedDuration, Timestamp};
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::pki::{KUBELET_CLIENT_SIGNER, NodeRequest, Profile};
use zoisite_core::token::TokenState;
use zoisite_store::trust::{self, NodeDesk};
use zoisite_store::{FreshKeys, SqliteRecords, State, Strongbox};

const SALTMARSH: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");

struct Scene {
    dir: tempfile::TempDir,
    strongbox: Strongbox,
    cluster: Cluster,
    now: Timestamp,
}

impl Scene {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let (strongbox, _) = Strongbox::open_or_make(&dir.path().join("identity")).unwrap();
        let cluster = read(SALTMARSH).cluster.unwrap();
        let now = "2026-11-23T12:00:00Z".parse().unwrap();
        let scene = Self { dir, strongbox, cluster, now };
        trust::issue(&mut scene.state(), &scene.strongbox, &scene.cluster, &FreshKeys, now, false)
            .unwrap();
        scene
    }

    fn state(&self) -> State {
        State::new(Box::new(SqliteRecords::open(&self.dir.path().join(".zoisite")).unwrap()))
    }

    fn desk(&self) -> NodeDesk {
        NodeDesk::new(self.state(), &self.strongbox, &self.cluster).unwrap()
    }

    fn token_state(&self, id: &str) -> TokenState {
        let all = self.state().tokens().unwrap();
        all.iter().find(|token| token.id == id).unwrap().state(self.now)
    }
}

fn host(name: &str) -> HostName {
    HostName::new(name).unwrap()
}

/// What a kubelet asks for, with the token of that id.
fn request(id: &str, node: &str) -> NodeRequest {
    let mut params = rcgen::CertificateParams::default();
    params.distinguished_name.push(rcgen::DnType::OrganizationName, "system:nodes");
    params.distinguished_name.push(rcgen::DnType::CommonName, format!("system:node:{node}"));
    let key = rcgen::KeyPair::generate().unwrap();
    NodeRequest {
        name: format!("request of {node}"),
        username: format!("system:bootstrap:{id}"),
        groups: vec!["system:bootstrappers".into()],
        signer: KUBELET_CLIENT_SIGNER.into(),
        usages: vec!["client auth".into(), "digital signature".into()],
        pem: params.serialize_request(&key).unwrap().pem().unwrap(),
    }
}

#[test]
fn a_token_lets_in_its_own_host_once_and_no_other() {
    let scene = Scene::new();
    let mut desk = scene.desk();
    let (record, token) = desk.token(&host("tern-1"), scene.now).unwrap();
    assert_eq!(desk.token(&host("tern-1"), scene.now).unwrap().1, token, "one for each host");
    assert!(record.expires <= scene.now.saturating_add(SignedDuration::from_hours(1)).unwrap());
    assert_eq!(scene.token_state(&record.id), TokenState::Usable);

    // Stolen, it is of no use for another host, nor for a name that nobody knows.
    for node in ["tern-2", "stranger"] {
        let faults = desk.sign(&host(node), &request(&record.id, node), scene.now).unwrap();
        assert!(faults.unwrap_err()[0].contains("only system:node:"), "{node}");
    }
    assert_eq!(scene.token_state(&record.id), TokenState::Usable);

    let own = request(&record.id, "tern-1");
    let entry = desk.sign(&host("tern-1"), &own, scene.now).unwrap().unwrap();
    assert_eq!(entry.common_name, "system:node:tern-1");
    assert_eq!(scene.token_state(&record.id), TokenState::UsedUp);
    let ledger = scene.state().ledger().unwrap();
    let current = ledger.current();
    let recorded = current[&(Profile::KubeletClient, host("tern-1"))];
    assert_eq!(recorded.serial, entry.serial, "it is recorded");
    let again = desk.sign(&host("tern-1"), &own, scene.now).unwrap().unwrap();
    assert_eq!(again.serial, entry.serial, "asked the same once more, it gives the same");
    assert_eq!(
        desk.retire(&host("tern-1"), true, scene.now).unwrap(),
        std::slice::from_ref(&record.id)
    );
    let thief = request(&record.id, "tern-1");
    let faults = desk.sign(&host("tern-1"), &thief, scene.now).unwrap().unwrap_err();
    assert!(faults[0].contains("used up"), "{faults:?}");

    // Its next certificate takes the place of this one.
    let mut next = own;
    next.username = "system:node:tern-1".into();
    next.groups = vec!["system:nodes".into()];
    let later = desk.sign(&host("tern-1"), &next, scene.now).unwrap().unwrap();
    let ledger = scene.state().ledger().unwrap();
    let old = ledger.entries.iter().find(|old| old.serial == entry.serial).unwrap();
    assert_eq!(old.replaced_by.as_ref(), Some(&later.serial));
}

#[test]
fn a_kubelet_that_begins_again_before_it_is_in_may_ask_again() {
    let scene = Scene::new();
    let mut desk = scene.desk();
    let (record, _) = desk.token(&host("tern-1"), scene.now).unwrap();
    let sign = |desk: &mut NodeDesk| {
        // It made its key in memory only: each life has another one.
        desk.sign(&host("tern-1"), &request(&record.id, "tern-1"), scene.now).unwrap()
    };
    let first = sign(&mut desk).unwrap();
    let second = sign(&mut desk).unwrap();
    let ledger = scene.state().ledger().unwrap();
    let old = ledger.entries.iter().find(|entry| entry.serial == first.serial).unwrap();
    assert_eq!(old.replaced_by.as_ref(), Some(&second.serial), "one counts, the other is replaced");
    let used = scene.state().tokens().unwrap()[0].used.len();
    assert_eq!(used, 1, "one host came in by it");
    // Not without end, not in another run, and not once the token was taken back.
    assert!(sign(&mut scene.desk()).is_err(), "another run knows nothing of this join");
    let more = (0..10).filter(|_| sign(&mut desk).is_ok()).count();
    assert!((1..10).contains(&more), "{more}");
    desk.retire(&host("tern-1"), true, scene.now).unwrap();
    assert!(sign(&mut desk).unwrap_err()[0].contains("used up"));
}

#[test]
fn a_batch_lets_in_as_many_hosts_as_it_says() {
    let scene = Scene::new();
    let mut state = scene.state();
    let recipients = state.recipients(&scene.strongbox).unwrap();
    let (record, _) =
        trust::make_join_token(&mut state, &recipients, Vec::new(), 2, 900, scene.now, false)
            .unwrap();
    let mut desk = scene.desk();
    for node in ["tern-1", "tern-2"] {
        let signed = desk.sign(&host(node), &request(&record.id, node), scene.now).unwrap();
        assert_eq!(signed.unwrap().host, Some(host(node)));
    }
    assert_eq!(scene.token_state(&record.id), TokenState::UsedUp);
    let third = desk.sign(&host("tern-3"), &request(&record.id, "tern-3"), scene.now).unwrap();
    assert!(third.unwrap_err()[0].contains("used up"));
}

#[test]
fn tokens_of_runs_that_were_cut_off_are_taken_back_and_leave_no_secret() {
    let scene = Scene::new();
    let (old, secret) = scene.desk().token(&host("tern-1"), scene.now).unwrap();
    let (other, _) = scene.desk().token(&host("tern-2"), scene.now).unwrap();
    let mut desk = scene.desk();
    let (new, _) = desk.token(&host("tern-1"), scene.now).unwrap();
    assert_eq!(
        desk.retire(&host("tern-1"), false, scene.now).unwrap(),
        std::slice::from_ref(&old.id)
    );
    assert_eq!(scene.token_state(&old.id), TokenState::Revoked);
    assert_eq!(scene.token_state(&new.id), TokenState::Usable);
    let stale = desk.sign(&host("tern-1"), &request(&old.id, "tern-1"), scene.now).unwrap();
    assert!(stale.unwrap_err()[0].contains("revoked"));
    assert_eq!(scene.token_state(&other.id), TokenState::Usable, "another host's stays");
    assert_eq!(desk.retire(&host("tern-1"), true, scene.now).unwrap(), [new.id]);
    // Neither in the store's file nor beside it does a token stand in clear.
    for entry in std::fs::read_dir(scene.dir.path().join(".zoisite")).unwrap() {
        let bytes = std::fs::read(entry.unwrap().path()).unwrap();
        let needle = secret.expose().as_bytes();
        assert!(!bytes.windows(needle.len()).any(|window| window == needle));
    }
}

#[test]
fn pod_subnets_and_what_hosts_are_survive_the_program() {
    let scene = Scene::new();
    let first = scene.state().subnets(&scene.cluster).unwrap();
    assert_eq!(first.len(), 6);
    assert_eq!(scene.state().subnets(&scene.cluster).unwrap(), first);
    let facts = zoisite_core::holdings::HostFacts {
        unified_cgroups: false,
        container: true,
        nftables: true,
        arch: "amd64".into(),
        ..zoisite_core::holdings::HostFacts::default()
    };
    let seen = || [(host("tern-1"), facts.clone())];
    assert!(scene.state().note_facts(seen()).unwrap(), "it is new");
    assert!(!scene.state().note_facts(seen()).unwrap(), "and then it is known");
    assert_eq!(scene.state().facts().unwrap()[&host("tern-1")], facts);
    let shared = scene.state().shared_secrets().unwrap().unwrap();
    assert!(shared.service_accounts.contains("BEGIN PUBLIC KEY"));
}
