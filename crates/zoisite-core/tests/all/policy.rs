//! Policy for certificates: what the file says goes into them, and what nobody could use is refused with the reason.

use crate::common::{Trust, at, changed, host};
use x509_parser::prelude::{FromDer as _, X509Certificate};
use zoisite_core::cluster::{Cluster, Grade, read};
use zoisite_core::pki::{AuthorityKind, KeyKind, Profile, San, edges, prove, wanted};

/// Saltmarsh with a table of its own for certificates.
fn with(certificates: &str) -> String {
    changed("[components]", &format!("[certificates]\n{certificates}\n[components]"))
}

fn cluster(certificates: &str) -> Cluster {
    let read = read(&with(certificates));
    assert!(read.cluster.is_some(), "{:?}", read.findings);
    read.cluster.unwrap()
}

fn days(entry: &zoisite_core::pki::LedgerEntry) -> i64 {
    (entry.not_after.as_second() - at("2026-11-23").as_second()) / 86_400
}

#[test]
fn lives_keys_and_names_follow_the_policy_of_profile_and_authority() {
    let cluster = cluster(
        "days = 300\nbackdated = \"1h\"\nprofiles.api-server = { names = [\"kube.gulls.example\", \"203.0.113.7\"] }\n\
         profiles.\"etcd-*\" = { life = \"90d\" }\nprofiles.etcd-peer = { key = \"ecdsa-p384\" }\n\
         authorities.etcd-peer = { life = \"200d\", key = \"rsa-3072\" }\norganization = \"Saltmarsh Bird Observatory\"",
    );
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let current = trust.ledger.current();
    let of = |profile| current[&(profile, host("heron"))];
    let peer = of(Profile::EtcdPeer);
    assert_eq!((days(peer), peer.key), (90, KeyKind::EcdsaP384));
    assert_eq!(
        (days(of(Profile::EtcdServer)), of(Profile::EtcdServer).key),
        (90, KeyKind::EcdsaP256)
    );
    let begins = at("2026-11-23").as_second() - of(Profile::EtcdServer).not_before.as_second();
    assert!(begins <= 3_600, "{begins}");
    let api = current[&(Profile::ApiServer, host("curlew"))];
    assert_eq!(days(api), 300);
    for name in [San::Dns("kube.gulls.example".into()), San::Ip("203.0.113.7".parse().unwrap())] {
        assert!(api.names.contains(&name), "{:?}", api.names);
    }
    let scheduler = current[&(Profile::Scheduler, host("curlew"))];
    assert!(scheduler.names.is_empty());

    for authority in &trust.ledger.authorities {
        let der = authority.der().unwrap();
        let (_, made) = X509Certificate::from_der(&der).unwrap();
        let subject = made.subject().to_string();
        let named =
            format!("O=Saltmarsh Bird Observatory, CN=saltmarsh {} authority", authority.kind);
        assert_eq!(subject, named);
        let life = made.validity().not_after.timestamp() - at("2026-11-23").as_second();
        let expected = if authority.kind == AuthorityKind::EtcdPeer { 200 } else { 3_650 };
        assert_eq!(life / 86_400, expected, "{subject}");
        let rsa = made.public_key().algorithm.algorithm.to_id_string() == "1.2.840.113549.1.1.1";
        assert_eq!(rsa, authority.kind == AuthorityKind::EtcdPeer);
    }
    let proof = prove(&edges(&cluster), &trust.ledger, &[], at("2026-11-24"));
    assert!(proof.failed.is_empty(), "{:?}", proof.failed);
    // A name more makes those due that it concerns, and no others.
    let more =
        self::cluster("days = 300\nprofiles.api-server = { names = [\"kube.gulls.example\"] }");
    let mut trust = Trust::new(&more, at("2026-11-23"));
    trust.issue(&more, at("2026-11-23"));
    let most = self::cluster(
        "days = 300\nprofiles.api-server = { names = [\"kube.gulls.example\", \"203.0.113.7\"] }",
    );
    let due = trust.issue(&most, at("2026-11-24"));
    assert!(due.len() == 3 && due.iter().all(|one| one.starts_with("api-server of")), "{due:?}");
}

#[test]
fn what_is_renewed_when_is_as_the_file_says() {
    let early = cluster("days = 100\nrenew = \"40d\"");
    let mut trust = Trust::new(&early, at("2026-11-23"));
    trust.issue(&early, at("2026-11-23"));
    assert_eq!(trust.issue(&early, at("2027-01-20")), [""; 0]);
    assert!(!trust.issue(&early, at("2027-01-24")).is_empty());
}

#[test]
fn what_cannot_be_used_is_refused_with_the_reason() {
    for (text, code, words) in [
        (
            "profiles.scheduler = { names = [\"a.example\"] }",
            "bad-profile",
            "in a client certificate",
        ),
        ("profiles.kubelet-client = { key = \"rsa-3072\" }", "bad-profile", "makes its own key"),
        ("profiles.kubelet-client = { names = [\"a.example\"] }", "bad-profile", "signs no names"),
        ("profiles.run-api = { life = \"1h\" }", "bad-profile", "a run makes it for itself"),
        ("profiles.person = { life = \"1h\" }", "bad-profile", "zoisite access --expires"),
        ("profiles.api-serve = { life = \"1h\" }", "unknown-key", "there is no profile api-serve"),
        ("profiles.api-server = { days = 3 }", "unknown-key", "days"),
        ("profiles.api-server = 3", "wrong-type", "takes a table"),
        ("profiles.api-server = { names = [\"*.gulls.example\"] }", "bad-", "stand for hosts"),
        ("profiles.api-server = { names = [\"Gulls\"] }", "bad-", "cannot stand in a host name"),
        ("profiles.api-server = { life = \"4000d\" }", "bad-lifetime", "from 5m to 3650d"),
        (
            "authorities.clusters = { life = \"10d\" }",
            "unknown-key",
            "there is no authority clusters",
        ),
        (
            "authorities.etcd-peer = { life = \"300d\" }",
            "bad-lifetime",
            "etcd-peer would last 365 days, and the etcd-peer authority, which issues it, 300 days",
        ),
        ("profiles.etcd-server = { life = \"3650d\" }", "bad-lifetime", "etcd-server would last"),
        ("days = 30\nauthority-days = 30", "bad-lifetime", "no certificate outlives"),
        ("days = 30\nlife = \"30d\"", "bad-lifetime", "both say how long"),
        ("renew = \"200d\"", "bad-lifetime", "issued again 200 days before its end"),
        (
            "life = \"30m\"\nbackdated = \"20m\"",
            "bad-lifetime",
            "would begin 20 minutes in the past",
        ),
        ("hierarchy = \"two-roots\"", "bad-hierarchy", "one of separate, one-root"),
        ("organization = \"a\\nb\"", "bad-name", "at most 64"),
    ] {
        let read = read(&with(text));
        let told = |f: &zoisite_core::cluster::Finding| {
            let all = format!("{f:?}");
            f.grade == Grade::Blocks && f.code.starts_with(code) && all.contains(words)
        };
        assert!(read.findings.iter().any(told), "{text}: {:?}", read.findings);
        assert!(read.cluster.is_none(), "{text}");
    }
    let short = read(&with("life = \"12h\""));
    assert!(short.findings.iter().any(|f| f.code == "short-life"), "{:?}", short.findings);
    assert!(short.cluster.is_some());
}

#[test]
fn issuers_that_api_servers_are_to_believe_are_held_against_what_stands_there() {
    let of = |jwt: &str| {
        let text = changed("[components]", "[components]");
        let at = text.find("[control-plane]").unwrap();
        let end = at + "[control-plane]".len();
        read(&format!("{}\nauthentication = {{ {jwt} }}{}", &text[..end], &text[end..]))
    };
    let good = "issuer = { url = \"https://sso.saltmarsh.example\", audiences = [\"saltmarsh\"] }";
    let user = "username = { claim = \"sub\", prefix = \"sso:\" }";
    let sound = of(&format!("jwt = [{{ {good}, claimMappings = {{ {user} }} }}]"));
    assert!(sound.findings.iter().all(|f| f.code != "bad-authentication"), "{:?}", sound.findings);
    assert_eq!(sound.cluster.unwrap().control_plane.authentication.len(), 1);
    for (jwt, code, words) in [
        ("anonymous = { enabled = true }".to_owned(), "setting-clash", "anonymous"),
        ("jwt = 3".into(), "bad-authentication", "is no list"),
        (format!("jwt = [{{ {good} }}]"), "bad-authentication", "who shows them"),
        (
            format!(
                "jwt = [{{ issuer = {{ url = \"http://a.example\", audiences = [\"b\"] }}, claimMappings = {{ {user} }} }}]"
            ),
            "bad-authentication",
            "an issuer's url is",
        ),
        (
            format!(
                "jwt = [{{ issuer = {{ url = \"https://kubernetes.default.svc.cluster.local\", audiences = [\"b\"] }}, claimMappings = {{ {user} }} }}]"
            ),
            "bad-authentication",
            "service accounts' tokens",
        ),
        (
            format!(
                "jwt = [{{ issuer = {{ url = \"https://a.example\" }}, claimMappings = {{ {user} }} }}]"
            ),
            "bad-authentication",
            "no audience",
        ),
        (
            format!("jwt = [{{ {good}, claimMappings = {{ username = {{ claim = \"sub\" }} }} }}]"),
            "open-prefix",
            "system:masters",
        ),
    ] {
        let read = of(&jwt);
        let told =
            |f: &zoisite_core::cluster::Finding| f.code == code && format!("{f:?}").contains(words);
        assert!(read.findings.iter().any(told), "{jwt}: {:?}", read.findings);
    }
}

#[test]
fn one_root_stands_above_all_four_and_signs_nobody_else() {
    let cluster = cluster("hierarchy = \"one-root\"");
    let now = at("2026-11-23");
    let (mut trust, root) = Trust::under_one_root(&cluster, now);
    trust.issue(&cluster, now);
    let proof = prove(&edges(&cluster), &trust.ledger, &[], now);
    assert!(proof.failed.is_empty() && !proof.held.is_empty(), "{:?}", proof.failed);
    let pem = &root.certificate().pem;
    for authority in &trust.ledger.authorities {
        assert_eq!(authority.issuers, std::slice::from_ref(pem));
        assert!(authority.not_after < root.certificate().not_after);
        assert_eq!(authority.stands_under().as_deref(), Some("CN=saltmarsh root authority"));
        // Hosts believe the authority alone; what is shown has it beside, and never the root.
        assert_eq!(trust.ledger.bundle(authority.kind).unwrap(), authority.pem);
        let up = trust.ledger.bundle_up_to_root(authority.kind).unwrap();
        assert_eq!(up, [authority.pem.as_str(), pem].concat());
    }
    for entry in &trust.ledger.entries {
        assert!(entry.pem.matches("BEGIN").count() == 2 && !entry.pem.contains(pem.as_str()));
    }
    let all = wanted(&cluster).len();
    assert_eq!(trust.ledger.entries.len(), all);
    let der = x509_parser::pem::parse_x509_pem(pem.as_bytes()).unwrap().1;
    let read = der.parse_x509().unwrap();
    let found = read.basic_constraints().unwrap().unwrap();
    assert_eq!((found.value.ca, found.value.path_len_constraint), (true, Some(1)));
}
