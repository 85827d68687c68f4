//! Keys that hosts make: what they ask for is signed where it is theirs to ask for, and their keys are nowhere here.

use jiff::Timestamp;
use rcgen::{CertificateParams, DistinguishedName, DnType, KeyPair};
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::pki::{
    KeyAt, KeyRequest, LedgerEntry, Profile, SecretRef, Wanted, edges, prove, wanted,
};
use zoisite_store::trust::{self, KeyDesk};
use zoisite_store::{FreshKeys, SqliteRecords, State, Strongbox};

const SALTMARSH: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");

fn saltmarsh(policy: &str) -> Cluster {
    let text = format!("[certificates]\n{policy}\n[components]");
    read(&SALTMARSH.replacen("[components]", &text, 1)).cluster.unwrap()
}

fn now() -> Timestamp {
    "2026-11-23T12:00:00Z".parse().unwrap()
}

fn host(name: &str) -> HostName {
    HostName::new(name).unwrap()
}

struct Scene {
    dir: tempfile::TempDir,
    strongbox: Strongbox,
    cluster: Cluster,
}

impl Scene {
    fn new(policy: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let (strongbox, _) = Strongbox::open_or_make(&dir.path().join("identity")).unwrap();
        Self { dir, strongbox, cluster: saltmarsh(policy) }
    }

    fn state(&self) -> State {
        State::new(Box::new(SqliteRecords::open(&self.dir.path().join(".zoisite")).unwrap()))
    }

    fn issue(&self) -> trust::Issued {
        let mut state = self.state();
        trust::issue(&mut state, &self.strongbox, &self.cluster, &FreshKeys, now(), false).unwrap()
    }

    fn to_come(&self) -> Vec<LedgerEntry> {
        let mut state = self.state();
        let dues = trust::asked_for(&self.cluster, &state.ledger().unwrap(), now());
        trust::to_come(&mut state, &self.strongbox, dues, &FreshKeys, now()).unwrap()
    }

    fn desk(&self) -> KeyDesk {
        let all = Profile::ALL.iter().copied().filter(|one| one.place().is_some()).collect();
        KeyDesk::new(self.state(), &self.strongbox, &self.cluster, all).unwrap()
    }

    fn holds_key_of(&self, entry: &LedgerEntry) -> bool {
        let secret = SecretRef::Certificate(entry.serial.clone());
        self.state().secret(&secret, &self.strongbox).is_ok()
    }

    fn current(&self, profile: Profile, name: &str) -> Option<LedgerEntry> {
        self.state().ledger().unwrap().current().get(&(profile, host(name))).copied().cloned()
    }
}

/// What a host asks, with another subject than it is to have where one is given.
fn request(
    wanted: &Wanted,
    key: &KeyPair,
    change: impl FnOnce(&mut CertificateParams),
) -> KeyRequest {
    let mut params = CertificateParams::default();
    params.distinguished_name = DistinguishedName::new();
    if let Some(organization) = &wanted.organization {
        params.distinguished_name.push(DnType::OrganizationName, organization.as_str());
    }
    params.distinguished_name.push(DnType::CommonName, wanted.common_name.as_str());
    change(&mut params);
    let der = params.serialize_request(key).unwrap().der().to_vec();
    KeyRequest { profile: wanted.profile, der, key_sha256: "5a".repeat(32) }
}

fn wanted_by(scene: &Scene, profile: Profile, name: &str) -> Wanted {
    let all = wanted(&scene.cluster);
    let is = |one: &Wanted| one.profile == profile && one.host == Some(host(name));
    all.into_iter().find(is).unwrap()
}

#[test]
fn what_hosts_are_to_ask_for_is_planned_and_proven_and_no_key_of_theirs_is_here() {
    let scene = Scene::new("keys-made = \"on-hosts\"");
    let issued = scene.issue();
    assert_eq!((issued.authorities.len(), issued.certificates.len()), (4, 0));
    assert!(scene.issue().is_empty(), "nothing more is done here");
    let to_come = scene.to_come();
    assert_eq!(to_come.len(), wanted(&scene.cluster).len());
    assert!(
        to_come.iter().all(|entry| entry.key_at == KeyAt::ToCome && entry.key_sha256.is_empty())
    );
    let ledger = scene.state().ledger().unwrap();
    assert!(ledger.entries.is_empty(), "what stands for them is recorded nowhere");
    let proof = prove(&edges(&scene.cluster), &ledger.and(to_come), &[], now());
    assert!(proof.failed.is_empty() && !proof.held.is_empty(), "{:?}", proof.failed);

    let wanted = wanted_by(&scene, Profile::EtcdPeer, "heron");
    let key = KeyPair::generate().unwrap();
    let signed = scene.desk().certify(&host("heron"), &[request(&wanted, &key, |_| {})], now());
    let entry = signed.unwrap().unwrap().remove(0);
    assert_eq!(scene.current(Profile::EtcdPeer, "heron").as_ref(), Some(&entry));
    assert_eq!((entry.key_at, &entry.names), (KeyAt::Host, &wanted.names));
    assert!(!scene.holds_key_of(&entry));
    assert_eq!(scene.to_come().len(), ledger_wants(&scene) - 1);
}

fn ledger_wants(scene: &Scene) -> usize {
    wanted(&scene.cluster).len()
}

#[test]
fn another_key_takes_the_place_of_one_that_is_not_wanted_any_more() {
    let scene = Scene::new("profiles.\"etcd-*\" = { keys-made = \"on-hosts\" }");
    assert!(!scene.issue().certificates.is_empty(), "keys of other profiles are made here");
    let wanted = wanted_by(&scene, Profile::EtcdPeer, "heron");
    let ask = |key: &KeyPair| {
        let signed = scene.desk().certify(&host("heron"), &[request(&wanted, key, |_| {})], now());
        signed.unwrap().unwrap().remove(0)
    };
    let first = ask(&KeyPair::generate().unwrap());
    let due = || trust::asked_for(&scene.cluster, &scene.state().ledger().unwrap(), now());
    let waits = due().len();
    let again =
        |one: &Wanted| (one.profile, one.host.as_ref()) == (wanted.profile, wanted.host.as_ref());
    let mut state = scene.state();
    let how = (&FreshKeys as &dyn zoisite_core::pki::KeySource, now());
    for times in [1, 0] {
        let issued =
            trust::issue_again(&mut state, &scene.strongbox, &scene.cluster, how, &again).unwrap();
        assert_eq!(issued.unwanted.len(), times, "asked for twice it is the same");
        assert!(issued.certificates.is_empty());
    }
    assert_eq!(scene.current(Profile::EtcdPeer, "heron").unwrap().serial, first.serial);
    assert_eq!(due().len(), waits + 1);
    let second = ask(&KeyPair::generate().unwrap());
    assert_eq!(due().len(), waits);
    let old =
        scene.state().ledger().unwrap().entries.into_iter().find(|e| e.serial == first.serial);
    assert_eq!(old.unwrap().replaced_by, Some(second.serial));

    // A change of mind: keys are made here again, and the other way round.
    let here = Scene { cluster: saltmarsh(""), ..scene };
    let issued = here.issue();
    assert!(issued.certificates.iter().any(|due| again(&due.wanted)), "{issued:?}");
    let made = here.current(Profile::EtcdPeer, "heron").unwrap();
    assert!(here.holds_key_of(&made) && made.key_at == KeyAt::Strongbox);
    let there = Scene { cluster: saltmarsh("keys-made = \"on-hosts\""), ..here };
    assert!(there.issue().is_empty());
    assert_eq!(there.to_come().len(), ledger_wants(&there));
}

#[test]
fn what_is_not_its_to_ask_for_is_refused_with_every_reason_and_recorded_nowhere() {
    let scene =
        Scene::new("keys-made = \"on-hosts\"\nprofiles.etcd-server = { key = \"ecdsa-p384\" }");
    scene.issue();
    let key = KeyPair::generate().unwrap();
    let peer = wanted_by(&scene, Profile::EtcdPeer, "heron");
    let good = || request(&peer, &key, |_| {});
    let named = |name: &'static str| {
        request(&peer, &key, |params| params.distinguished_name.push(DnType::CommonName, name))
    };
    let signer = wanted_by(&scene, Profile::ControllerManager, "curlew");
    let server = wanted_by(&scene, Profile::EtcdServer, "heron");
    let cases: [(&str, Vec<KeyRequest>, &[&str]); 9] = [
        ("another host's name", vec![named("egret")], &["it names egret, and heron was expected"]),
        (
            "groups besides",
            vec![request(&peer, &key, |params| {
                params.distinguished_name.push(DnType::OrganizationName, "system:masters");
            })],
            &["its groups are not exactly none"],
        ),
        (
            "names of its own",
            vec![request(&peer, &key, |params| {
                params.subject_alt_names =
                    vec![rcgen::SanType::DnsName("api.saltmarsh.example".try_into().unwrap())];
            })],
            &["those are not its to say"],
        ),
        (
            "to be an authority",
            vec![request(&peer, &key, |params| {
                params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
            })],
            &["it wants to be an authority"],
        ),
        (
            "another algorithm",
            vec![request(&server, &key, |_| {})],
            &["its key is not ECDSA on P-384"],
        ),
        (
            "what another role has",
            vec![request(&signer, &key, |_| {})],
            &["no key is wanted for it"],
        ),
        (
            "what people have",
            vec![KeyRequest { profile: Profile::RunApi, ..good() }],
            &["no key is wanted"],
        ),
        (
            "nonsense, and a checksum that is none",
            vec![
                KeyRequest { der: b"hello".to_vec(), ..good() },
                KeyRequest { key_sha256: "$(reboot)".into(), ..good() },
            ],
            &["cannot be read", "what its key is known by"],
        ),
        ("one good and one bad", vec![good(), named("ibis")], &["it names ibis"]),
    ];
    for (what, requests, says) in cases {
        let refused = scene.desk().certify(&host("heron"), &requests, now()).unwrap().unwrap_err();
        for said in says {
            assert!(refused.join("\n").contains(said), "{what}: {refused:?}");
        }
        assert!(scene.state().ledger().unwrap().entries.is_empty(), "{what}");
    }
    // One that another key has signed.
    let mut forged = good();
    let last = forged.der.len() - 1;
    forged.der[last] ^= 1;
    let refused = scene.desk().certify(&host("heron"), &[forged], now()).unwrap().unwrap_err();
    assert!(refused.join("").contains("not signed by its own key"), "{refused:?}");
}
