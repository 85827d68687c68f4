//! Trust: names from the topology, idempotent issuing, and edges proven on real certificates.

use std::collections::HashSet;

use crate::common::{Trust, at, changed, host, saltmarsh};
use jiff::SignedDuration;
use x509_parser::prelude::{FromDer as _, X509Certificate};
use zoisite_core::cluster::read;
use zoisite_core::pki::{
    AuthorityCertificate, AuthorityKind, AuthorityState, Edge, KeyKind, LedgerEntry, Profile, San,
    edges, prove, run_client, wanted,
};

fn entry<'a>(trust: &'a Trust, profile: Profile, name: &str) -> &'a LedgerEntry {
    trust.ledger.current()[&(profile, host(name))]
}

#[test]
fn a_second_issue_issues_nothing_and_a_changed_name_only_those_it_concerns() {
    let cluster = saltmarsh();
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    assert_eq!(trust.issue(&cluster, at("2026-11-23")).len(), wanted(&cluster).len());
    assert_eq!(trust.issue(&cluster, at("2026-11-24")), [""; 0]);

    let moved = read(&changed("heron = \"10.77.0.11\"", "heron = \"10.77.0.14\"")).cluster.unwrap();
    assert_eq!(
        trust.issue(&moved, at("2026-11-24")),
        [
            "etcd-server of heron: 10.77.0.14 missing, 10.77.0.11 no longer wanted",
            "etcd-peer of heron: 10.77.0.14 missing, 10.77.0.11 no longer wanted",
        ]
    );
    let renamed = changed("api.saltmarsh.example", "kube.saltmarsh.example");
    let renamed = read(&renamed.replace("\"10.77.0.11\"", "\"10.77.0.14\"")).cluster.unwrap();
    let issued = trust.issue(&renamed, at("2026-11-24"));
    assert_eq!(issued.len(), 3, "the three API servers: {issued:?}");
    assert!(issued.iter().all(|text| text.starts_with("api-server of ")));
}

#[test]
fn certificates_are_due_in_the_last_part_of_their_life() {
    let cluster = saltmarsh();
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    assert_eq!(trust.issue(&cluster, at("2027-09-20")), [""; 0]);
    let issued = trust.issue(&cluster, at("2027-09-30"));
    assert_eq!(issued.len(), wanted(&cluster).len());
    assert!(issued[0].ends_with("it ends on 2027-11-23"), "{}", issued[0]);
}

#[test]
fn a_leaf_never_outlives_its_authority_and_an_ended_authority_issues_nothing() {
    // The file cannot say so; an authority that was brought, or that is old, may end as soon.
    let mut cluster = saltmarsh();
    cluster.certificates.authority_seconds = 100 * 86_400;
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let authority = trust.ledger.authority(AuthorityKind::EtcdPeer).unwrap();
    assert_eq!(entry(&trust, Profile::EtcdPeer, "heron").not_after, authority.not_after);
    let client = run_client(&cluster, Profile::RunEtcd);
    let ended = trust.authorities[0].issue(&client, &trust.keys, at("2027-06-01"));
    assert!(ended.unwrap_err().to_string().contains("ends on"));
}

#[test]
fn every_certificate_keeps_the_rules_of_rfc_5280() {
    let cluster = saltmarsh();
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let mut serials = HashSet::new();
    for entry in &trust.ledger.entries {
        let der = entry.der().unwrap();
        let (_, leaf) = X509Certificate::from_der(&der).unwrap();
        let label = entry.label();
        assert!(serials.insert(entry.serial.clone()), "{label}");
        assert!(leaf.raw_serial().len() <= 20 && leaf.raw_serial()[0] < 0x80, "{label}");
        assert!(leaf.serial.bits() >= 64, "{label}");
        assert!(entry.common_name.len() <= 64, "{label}");
        let constraints = leaf.basic_constraints().unwrap().unwrap();
        assert!(constraints.critical && !constraints.value.ca, "{label}");
        let usage = leaf.key_usage().unwrap().unwrap();
        assert!(usage.critical && usage.value.digital_signature() && !usage.value.key_cert_sign());
        let extended = leaf.extended_key_usage().unwrap().unwrap().value;
        assert_eq!(extended.server_auth, entry.profile.usage().server(), "{label}");
        assert_eq!(extended.client_auth, entry.profile.usage().client(), "{label}");
        assert!(!extended.any);
        let has = |oid: &str| leaf.extensions().iter().any(|e| e.oid.to_id_string() == oid);
        assert!(has("2.5.29.14") && has("2.5.29.35"), "{label}: key identifiers");
        assert_eq!(has("2.5.29.17"), entry.profile.usage().server(), "{label}: names");
        let begin = leaf.validity().not_before.timestamp();
        assert!(begin < at("2026-11-23").as_second(), "{label}: a little back-dated");
    }
}

#[test]
fn api_server_certificates_carry_the_names_that_people_forget() {
    let cluster = saltmarsh();
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let names: HashSet<String> =
        entry(&trust, Profile::ApiServer, "curlew").names.iter().map(San::to_string).collect();
    for name in [
        "api.saltmarsh.example",
        "kubernetes",
        "kubernetes.default",
        "kubernetes.default.svc",
        "kubernetes.default.svc.cluster.local",
        "localhost",
        "127.0.0.1",
        "::1",
        "10.91.0.1",
        "10.77.0.5",
        "10.77.0.31",
        "10.77.0.32",
        "10.77.0.21",
        "curlew",
    ] {
        assert!(names.contains(name), "{name} in {names:?}");
    }
    assert!(!names.contains("plover"), "each API server answers for itself");
}

#[test]
fn every_edge_of_the_demo_holds() {
    let cluster = saltmarsh();
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let edges = edges(&cluster);
    let (run, _) = trust.authorities[2]
        .issue(&run_client(&cluster, Profile::RunEtcd), &trust.keys, at("2026-11-23"))
        .unwrap();
    let proof = prove(&edges, &trust.ledger, &[run], at("2026-11-23"));
    assert_eq!(proof.failed, []);
    assert_eq!(proof.held.len(), edges.len());
    let peers = edges.iter().filter(|e| e.client_profile == Some(Profile::EtcdPeer)).count();
    assert_eq!(peers, 6, "three members dial each other both ways");
}

/// Issues one certificate with a fault and says which edges then fail, and why.
fn with_fault(
    spoil: impl Fn(&mut zoisite_core::pki::Wanted),
    profile: Profile,
) -> Vec<(Edge, String)> {
    let cluster = saltmarsh();
    let now = at("2026-11-23");
    let mut trust = Trust::new(&cluster, now);
    trust.issue(&cluster, now);
    let mut bad = wanted(&cluster)
        .into_iter()
        .find(|w| w.profile == profile && w.host == Some(host("heron")))
        .unwrap();
    spoil(&mut bad);
    let kind = profile.authority();
    let authority = trust.authorities.iter().find(|a| a.certificate().kind == kind).unwrap();
    let (mut bad, _) = authority.issue(&bad, &trust.keys, now).unwrap();
    bad.profile = profile;
    trust.ledger.entries.retain(|e| !(e.profile == profile && e.host == Some(host("heron"))));
    trust.ledger.entries.push(bad);
    let proof = prove(&edges(&cluster), &trust.ledger, &[], now);
    proof.failed.into_iter().map(|f| (f.edge, f.why)).collect()
}

#[test]
fn classic_faults_are_found_before_anything_is_copied() {
    // A forgotten address: everybody who dials heron is concerned, and heron's own dialling too.
    let failed =
        with_fault(|w| w.names.retain(|n| n.to_string() != "10.77.0.11"), Profile::EtcdPeer);
    assert_eq!(failed.len(), 2, "{failed:?}");
    assert!(failed.iter().all(|(_, why)| why.contains("10.77.0.11 is missing")), "{failed:?}");

    // A peer certificate with the server's usage alone.
    let failed = with_fault(|w| w.profile = Profile::KubeletServing, Profile::EtcdPeer);
    assert!(failed.iter().any(|(_, why)| why.contains("client usage is missing")), "{failed:?}");

    // Another host's addresses: the peers' source addresses do not fit.
    let failed = with_fault(|w| w.names = vec![San::Ip([10, 77, 0, 99].into())], Profile::EtcdPeer);
    assert!(failed.iter().any(|(_, why)| why.contains("connects from 10.77.0.11")), "{failed:?}");
}

#[test]
fn a_certificate_of_the_wrong_authority_or_time_fails() {
    let cluster = saltmarsh();
    let now = at("2026-11-23");
    let mut trust = Trust::new(&cluster, now);
    trust.issue(&cluster, now);
    let late = prove(&edges(&cluster), &trust.ledger, &[], at("2028-01-01"));
    assert_eq!(late.held.iter().filter(|e| e.server_profile.is_some()).count(), 0);
    assert!(late.failed[0].why.contains("it ended on 2027-11-23"), "{}", late.failed[0].why);
    let early = prove(&edges(&cluster), &trust.ledger, &[], now - SignedDuration::from_hours(48));
    assert!(early.failed.iter().all(|f| f.why.contains("not valid at this time")));

    let other = Trust::new(&cluster, now);
    trust.ledger.authorities = other.ledger.authorities;
    let foreign = prove(&edges(&cluster), &trust.ledger, &[], now);
    assert!(foreign.held.is_empty());
    assert!(foreign.failed[0].why.contains("did not issue it"), "{}", foreign.failed[0].why);
}

#[test]
fn rsa_and_p384_are_issued_where_policy_asks() {
    for (name, kind) in [("ecdsa-p384", KeyKind::EcdsaP384), ("rsa-3072", KeyKind::Rsa3072)] {
        let text =
            changed("[components]", &format!("[certificates]\nkey = \"{name}\"\n[components]"));
        let cluster = read(&text).cluster.unwrap();
        assert_eq!(cluster.certificates.key, kind);
        let trust = Trust::new(&cluster, at("2026-11-23"));
        let one = wanted(&cluster).into_iter().find(|w| w.profile == Profile::EtcdServer).unwrap();
        let (entry, _) = trust.authorities[2].issue(&one, &trust.keys, at("2026-11-23")).unwrap();
        assert_eq!(entry.key, kind);
    }
}

#[test]
fn a_second_authority_makes_nothing_due_until_it_signs() {
    let cluster = saltmarsh();
    let now = at("2026-11-23");
    let mut trust = Trust::new(&cluster, now);
    trust.issue(&cluster, now);
    let old = trust.ledger.authority(AuthorityKind::Cluster).unwrap().clone();
    let new = Trust::new(&cluster, now).ledger.authority(AuthorityKind::Cluster).unwrap().clone();
    let all_hold = |trust: &Trust| {
        let proof = prove(&edges(&cluster), &trust.ledger, &[], now);
        assert!(!proof.held.is_empty() && proof.failed.is_empty(), "{:?}", proof.failed);
    };
    // First it is accepted, then it signs: what the old one issued holds all the while.
    let standing =
        |one: &AuthorityCertificate, standing| AuthorityCertificate { standing, ..one.clone() };
    trust.ledger.authorities.push(standing(&new, AuthorityState::Comes));
    assert_eq!(
        trust.ledger.bundle(AuthorityKind::Cluster).unwrap(),
        [old.pem.as_str(), &new.pem].concat()
    );
    assert_eq!(trust.issue(&cluster, now), [""; 0]);
    all_hold(&trust);
    trust.ledger.authorities.retain(|authority| authority.kind != AuthorityKind::Cluster);
    trust.ledger.authorities.extend([standing(&old, AuthorityState::Goes), new.clone()]);
    assert_eq!(trust.ledger.authority(AuthorityKind::Cluster), Some(&new));
    assert_eq!(
        trust.ledger.bundle(AuthorityKind::Cluster).unwrap(),
        [new.pem.as_str(), &old.pem].concat()
    );
    all_hold(&trust);
    // What rests on it must be issued again before it is gone.
    let due = zoisite_core::pki::due(&wanted(&cluster), &trust.ledger, now);
    assert!(due.len() > 10 && due.iter().all(|due| due.why.to_string() == "its authority changed"));
}
