//! The faults of which clusters die, planted one by one in what a host holds: each is reported by what is wrong.

use crate::common::{Trust, at, changed, host};
use jiff::{SignedDuration, Timestamp};
use zoisite_core::cluster::{Cluster, read};
use zoisite_core::pki::{
    Authority, AuthorityKind, LedgerEntry, Lying, Profile, San, Secret, Wanted, edges, misfits,
    wanted,
};

struct Scene {
    cluster: Cluster,
    trust: Trust,
    now: Timestamp,
}

impl Scene {
    /// A cluster under a root of its own, so that chains are shown.
    fn new() -> Self {
        let text =
            changed("[components]", "[certificates]\nhierarchy = \"one-root\"\n[components]");
        let cluster = read(&text).cluster.unwrap();
        let now = at("2026-11-23");
        let (mut trust, _) = Trust::under_one_root(&cluster, now);
        trust.issue(&cluster, now);
        Self { cluster, trust, now }
    }

    fn entry(&self, profile: Profile, of: &str) -> LedgerEntry {
        self.trust.ledger.current()[&(profile, host(of))].clone()
    }

    fn wanted(&self, profile: Profile, of: &str) -> Wanted {
        let is = |one: &Wanted| one.profile == profile && one.host == Some(host(of));
        wanted(&self.cluster).into_iter().find(is).unwrap()
    }

    /// A certificate that is not as it should be, by the authority that issues such.
    fn made(&self, wanted: &Wanted, by: AuthorityKind, at: Timestamp) -> (LedgerEntry, Secret) {
        let signs = |one: &&Authority| one.certificate().kind == by;
        let authority = self.trust.authorities.iter().find(signs).unwrap();
        authority.issue(wanted, &self.trust.keys, at).unwrap()
    }

    /// What is told of these lying in the place of heron's.
    fn told(&self, profile: Profile, pem: &str, key_sha256: &str) -> Vec<String> {
        let heron = host("heron");
        let lying = Lying { profile, host: &heron, pem, key_sha256 };
        misfits(lying, &edges(&self.cluster), &self.trust.ledger, self.now)
    }
}

fn without(wanted: &Wanted, names: &[&str]) -> Wanted {
    let keeps = |name: &&San| !names.contains(&name.to_string().as_str());
    Wanted { names: wanted.names.iter().filter(keeps).cloned().collect(), ..wanted.clone() }
}

#[test]
fn what_was_issued_for_its_place_is_well() {
    let scene = Scene::new();
    for profile in [Profile::EtcdServer, Profile::EtcdPeer, Profile::EtcdProbe] {
        let entry = scene.entry(profile, "heron");
        assert_eq!(scene.told(profile, &entry.pem, &entry.key_sha256), [""; 0]);
    }
}

#[test]
fn every_planted_fault_is_named() {
    let scene = Scene::new();
    let (server, peer) =
        (scene.wanted(Profile::EtcdServer, "heron"), scene.wanted(Profile::EtcdPeer, "heron"));
    let (by_client, by_peer) = (AuthorityKind::EtcdClient, AuthorityKind::EtcdPeer);
    let days = |days: i64| scene.now.checked_add(SignedDuration::from_hours(24 * days)).unwrap();
    let made = |profile, wanted: &Wanted, by, at| {
        let (entry, _) = scene.made(wanted, by, at);
        (profile, entry.pem.clone(), entry.key_sha256)
    };
    let held = |profile, of: &str| {
        let entry = scene.entry(profile, of);
        (entry.profile, entry.pem.clone(), entry.key_sha256)
    };
    let no_client = Wanted { profile: Profile::EtcdServer, ..peer.clone() };
    let no_server = Wanted { profile: Profile::EtcdProbe, ..server.clone() };
    let (_, own, own_key) = held(Profile::EtcdPeer, "heron");
    let leaf = own.split_inclusive("-----END CERTIFICATE-----\n").next().unwrap().to_owned();
    let (profile_s, profile_p) = (Profile::EtcdServer, Profile::EtcdPeer);
    let ended = Wanted { seconds: -60, ..server.clone() };
    let (_, elsewhere, elsewhere_key) = held(profile_p, "egret");
    for (what, (profile, pem, key), reasons) in [
        (
            "a forgotten name",
            made(profile_s, &without(&server, &["10.77.0.11"]), by_client, scene.now),
            &["it was not issued here", "10.77.0.11"][..],
        ),
        (
            "a peer's address, from which it dials",
            made(profile_p, &without(&peer, &["10.77.0.11"]), by_peer, scene.now),
            &["10.77.0.11"],
        ),
        (
            "no usage as a client",
            made(profile_p, &no_client, by_peer, scene.now),
            &["the client usage is missing"],
        ),
        (
            "no usage as a server",
            made(profile_s, &no_server, by_client, scene.now),
            &["the server usage is missing"],
        ),
        (
            "the right file on the wrong host",
            (profile_p, elsewhere, elsewhere_key),
            &["it is the certificate etcd-peer of egret", "10.77.0.11"],
        ),
        (
            "a key that does not fit",
            (profile_p, own, "ab".repeat(32)),
            &["the key beside it is not the one"],
        ),
        (
            "of another authority",
            made(profile_p, &peer, by_client, scene.now),
            &["no etcd-peer authority that was found has issued it"],
        ),
        ("ended", made(profile_s, &ended, by_client, scene.now), &["it ended on 2026-11-23"]),
        ("not yet valid", made(profile_s, &server, by_client, days(3)), &["begins on 2026-11-26"]),
        ("without its chain", (profile_p, leaf, own_key), &["above it are missing"]),
        ("nonsense", (profile_p, "gulls".into(), "ab".repeat(32)), &["etcd-peer of heron"]),
    ] {
        let told = scene.told(profile, &pem, &key);
        for reason in reasons {
            assert!(
                told.iter().any(|one| one.contains(reason)),
                "{what}: no '{reason}' in {told:?}"
            );
        }
    }
    // What was replaced is reported as that.
    let mut scene = scene;
    let old = scene.entry(Profile::EtcdPeer, "heron");
    let (newer, _) = scene.made(&peer, by_peer, scene.now);
    for entry in &mut scene.trust.ledger.entries {
        if entry.serial == old.serial {
            entry.replaced_by = Some(newer.serial.clone());
        }
    }
    scene.trust.ledger.entries.push(newer);
    let told = scene.told(Profile::EtcdPeer, &old.pem, &old.key_sha256);
    assert_eq!(told, ["it is one that was replaced, until 2027-11-23"]);
}
