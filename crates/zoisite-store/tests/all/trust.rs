//! Issuing and recording: one transaction, sealed keys that fit their certificates, no trace of a
//! preview.

use jiff::Timestamp;
use zoisite_core::cluster::{Cluster, read};
use zoisite_core::pki::{
    Authority, AuthorityKind, Profile, Secret, SecretRef, TokenKeyTurn, due, wanted,
};
use zoisite_store::{
    FreshKeys, Overlay, SqliteRecords, State, StoreError, Strongbox, authorities, token_key, trust,
};

const SALTMARSH: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");

fn key_of(serial: &str) -> SecretRef {
    SecretRef::Certificate(serial.to_owned())
}

fn saltmarsh() -> Cluster {
    read(SALTMARSH).cluster.unwrap()
}

fn at(day: &str) -> Timestamp {
    format!("{day}T12:00:00Z").parse().unwrap()
}

struct Desk {
    dir: tempfile::TempDir,
    strongbox: Strongbox,
}

impl Desk {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let (strongbox, _) = Strongbox::open_or_make(&dir.path().join("identity")).unwrap();
        Self { dir, strongbox }
    }

    fn state(&self) -> State {
        State::new(Box::new(SqliteRecords::open(&self.dir.path().join(".zoisite")).unwrap()))
    }

    fn issue(&self, cluster: &Cluster, day: &str) -> trust::Issued {
        let mut state = self.state();
        trust::issue(&mut state, &self.strongbox, cluster, &FreshKeys, at(day), false).unwrap()
    }
}

#[test]
fn everything_is_issued_once_and_survives_the_program() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    let issued = desk.issue(&cluster, "2026-11-23");
    assert_eq!(issued.authorities, AuthorityKind::ALL);
    assert_eq!(issued.certificates.len(), wanted(&cluster).len());
    assert!(desk.issue(&cluster, "2026-11-24").is_empty());
    let ledger = desk.state().ledger().unwrap();
    assert_eq!(ledger.entries.len(), wanted(&cluster).len());
    assert!(due(&wanted(&cluster), &ledger, at("2026-11-24")).is_empty());
}

#[test]
fn every_sealed_key_belongs_to_its_certificate() {
    let desk = Desk::new();
    desk.issue(&saltmarsh(), "2026-11-23");
    let mut state = desk.state();
    for entry in state.ledger().unwrap().entries {
        let key = state.secret(&key_of(&entry.serial), &desk.strongbox).unwrap();
        let pair = rcgen::KeyPair::from_pem(key.expose()).unwrap();
        let der = entry.der().unwrap();
        let point = pair.public_key_raw();
        assert!(der.windows(point.len()).any(|w| w == point), "{}", entry.label());
    }
}

#[test]
fn a_replaced_certificates_key_is_kept_until_the_new_pair_was_seen_in_its_place() {
    let desk = Desk::new();
    desk.issue(&saltmarsh(), "2026-11-23");
    let old = desk.state().ledger().unwrap();
    let old = old.entries.iter().find(|e| e.profile == Profile::EtcdPeer).unwrap().clone();
    let moved = SALTMARSH.replace(&format!("\"{}\"", old.names[0]), "\"10.77.0.19\"");
    let issued = desk.issue(&read(&moved).cluster.unwrap(), "2026-11-24");
    assert!(!issued.is_empty());
    let mut state = desk.state();
    let ledger = state.ledger().unwrap();
    let replaced = ledger.entries.iter().find(|e| e.serial == old.serial).unwrap();
    let by = replaced.replaced_by.clone().unwrap();
    assert!(ledger.entries.iter().any(|e| e.serial == by && e.replaced_by.is_none()));
    assert!(
        state.secret(&key_of(&old.serial), &desk.strongbox).is_ok(),
        "the host may still use it"
    );
    assert_eq!(trust::forget_old_keys(&mut state, |_| false).unwrap(), 0);
    assert!(state.secret(&key_of(&old.serial), &desk.strongbox).is_ok());
    assert_eq!(trust::forget_old_keys(&mut state, |entry| entry.serial == by).unwrap(), 1);
    assert!(matches!(
        state.secret(&key_of(&old.serial), &desk.strongbox),
        Err(StoreError::NoSecret(_))
    ));
    assert!(state.secret(&key_of(&by), &desk.strongbox).is_ok());
}

#[test]
fn what_is_due_is_issued_over_the_store_and_kept_only_when_it_was_judged() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    let folder = desk.dir.path().join(".zoisite");
    let draft = || {
        let base = SqliteRecords::open(&folder).unwrap();
        let mut draft = State::new(Box::new(Overlay::over(Some(Box::new(base)))));
        let now = at("2026-11-23");
        trust::issue(&mut draft, &desk.strongbox, &cluster, &FreshKeys, now, false).unwrap();
        draft
    };
    drop(draft());
    assert!(desk.state().ledger().unwrap().authorities.is_empty(), "nothing was kept");
    // Two that were judged at once: the later one is reported, and the authorities stay the first one's.
    let (mut one, mut two) = (draft(), draft());
    one.keep().unwrap();
    assert!(matches!(two.keep(), Err(StoreError::Overtaken { .. })));
    let ledger = desk.state().ledger().unwrap();
    assert_eq!(ledger.entries.len(), wanted(&cluster).len());
    for entry in &ledger.entries {
        let authority = ledger.authority(entry.authority).unwrap();
        assert_eq!(entry.authority_sha256, authority.sha256, "{}", entry.label());
    }
}

#[test]
fn another_identity_opens_nothing_and_is_told_which_one_would() {
    let desk = Desk::new();
    desk.issue(&saltmarsh(), "2026-11-23");
    let eve = Strongbox::fleeting();
    let mut state = desk.state();
    let serial = state.ledger().unwrap().entries[0].serial.clone();
    let error = state.secret(&key_of(&serial), &eve).unwrap_err();
    assert!(error.fix().contains(&desk.strongbox.recipient()), "{}", error.fix());
    let again = trust::issue(&mut state, &eve, &saltmarsh(), &FreshKeys, at("2026-11-24"), true);
    assert!(matches!(again, Err(StoreError::WrongIdentity { .. })));
    let count = desk.state().ledger().unwrap().entries.len();
    assert_eq!(count, wanted(&saltmarsh()).len(), "nothing is half-issued");
}

#[test]
fn a_runs_own_certificate_is_recorded_short_lived_and_its_key_kept_nowhere() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    desk.issue(&cluster, "2026-11-23");
    let mut state = desk.state();
    let now = at("2026-11-23");
    let run = |state: &mut State| {
        trust::for_this_run(state, &desk.strongbox, &cluster, Profile::RunEtcd, &FreshKeys, now)
    };
    let (entry, key) = run(&mut state).unwrap();
    assert!(entry.not_after.as_second() - now.as_second() < 86_400);
    assert!(key.expose().contains("PRIVATE KEY"));
    assert!(matches!(
        state.secret(&key_of(&entry.serial), &desk.strongbox),
        Err(StoreError::NoSecret(_))
    ));
    assert!(desk.state().ledger().unwrap().entries.contains(&entry));
}

#[test]
fn a_preview_issues_and_leaves_no_trace() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    let mut preview = State::new(Box::new(Overlay::over(None)));
    let strongbox = Strongbox::fleeting();
    let issued =
        trust::issue(&mut preview, &strongbox, &cluster, &FreshKeys, at("2026-11-23"), false)
            .unwrap();
    assert_eq!(issued.certificates.len(), wanted(&cluster).len());
    assert_eq!(preview.cluster_id().unwrap(), preview.cluster_id().unwrap());
    assert!(!desk.dir.path().join(".zoisite").exists());
}

#[test]
fn an_authority_opens_again_with_its_key_alone() {
    let desk = Desk::new();
    desk.issue(&saltmarsh(), "2026-11-23");
    let mut state = desk.state();
    let ledger = state.ledger().unwrap();
    let certificate = ledger.authority(AuthorityKind::Cluster).unwrap().clone();
    let key = state.secret(&SecretRef::Authority(AuthorityKind::Cluster), &desk.strongbox).unwrap();
    let authority = Authority::open(certificate, &key).unwrap();
    let one = wanted(&saltmarsh()).into_iter().find(|w| w.profile == Profile::ApiServer).unwrap();
    assert!(authority.issue(&one, &FreshKeys, at("2026-11-24")).is_ok());
}

#[test]
fn runs_are_numbered_upwards_also_when_the_clock_goes_back() {
    let desk = Desk::new();
    let mut state = desk.state();
    let first = state.begin_run("raise", "ada on desk", at("2026-11-23")).unwrap();
    let second = state.begin_run("raise", "ada on desk", at("2026-11-01")).unwrap();
    assert!(second.generation > first.generation);
    state.end_run(second, "well", at("2026-11-23")).unwrap();
    let runs = state.runs().unwrap();
    assert_eq!(runs.len(), 2);
    assert_eq!(runs[0].outcome, None, "the first one was cut off");
    assert_eq!(runs[1].outcome.as_deref(), Some("well"));
}

/// Which keys of authorities the strongbox holds: that of the one that signs, and how many others.
fn authority_keys(desk: &Desk, kind: AuthorityKind) -> (bool, usize) {
    let mut state = desk.state();
    let ledger = state.ledger().unwrap();
    let certificate = ledger.authority(kind).unwrap().clone();
    let key = state.secret(&SecretRef::Authority(kind), &desk.strongbox).unwrap();
    // What it signs is of the certificate that everybody believes.
    let digest = |key: &Secret| zoisite_core::text::digest(key.expose());
    let signs = digest(&key) == certificate.key_sha256;
    let others = ledger.authorities_of(kind).filter(|one| {
        let other = SecretRef::OtherAuthority(one.serial.clone());
        state.secret(&other, &desk.strongbox).is_ok_and(|key| digest(&key) == one.key_sha256)
    });
    (signs, others.count())
}

#[test]
fn the_keys_of_authorities_follow_every_stage_and_those_that_are_gone_go() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    desk.issue(&cluster, "2026-11-23");
    for (done, kind) in (1..).zip(AuthorityKind::ALL) {
        let replace = || {
            let now = at("2026-11-24");
            let (mut state, keys) = (desk.state(), &FreshKeys);
            authorities::replace(&mut state, &desk.strongbox, &cluster, kind, keys, now).unwrap()
        };
        let go_on = || {
            let mut state = desk.state();
            let stage = state.ledger().unwrap().stage().unwrap();
            authorities::go_on(&mut state, &desk.strongbox, stage).unwrap()
        };
        assert_eq!(authority_keys(&desk, kind), (true, 0));
        replace();
        assert_eq!(authority_keys(&desk, kind), (true, 1));
        go_on();
        if kind.waits_for_people() {
            assert_eq!(authority_keys(&desk, kind), (true, 1));
            replace();
        }
        // The other one signs: everything is due, and issued by it.
        assert_eq!(authority_keys(&desk, kind), (true, 1));
        let issued = desk.issue(&cluster, "2026-11-24");
        let wanted = wanted(&cluster);
        let of_it = wanted.iter().filter(|one| one.profile.authority() == kind).count();
        assert_eq!(issued.certificates.len(), of_it, "{kind}");
        go_on();
        if kind.waits_for_people() {
            // Taken back and begun again, as long as nothing of it is gone.
            let mut state = desk.state();
            authorities::uninstall(&mut state, &desk.strongbox, kind).unwrap();
            drop(state);
            assert_eq!(authority_keys(&desk, kind), (true, 1));
            desk.issue(&cluster, "2026-11-24");
            go_on();
            replace();
        }
        // It leaves, its key has gone already: too late to take back, and said again it is no other replacement.
        assert_eq!(authority_keys(&desk, kind), (true, 0), "{kind}");
        let back = authorities::uninstall(&mut desk.state(), &desk.strongbox, kind);
        assert!(matches!(back, Err(StoreError::TooLate(late)) if late == kind), "{kind}");
        assert_eq!(replace().authorities.len(), AuthorityKind::ALL.len() + done);
        go_on();
        assert_eq!(authority_keys(&desk, kind), (true, 0), "{kind}");
        assert_eq!(desk.state().ledger().unwrap().replacing(), None);
    }
}

#[test]
fn the_key_of_tokens_follows_every_stage() {
    let desk = Desk::new();
    desk.issue(&saltmarsh(), "2026-11-23");
    let strongbox = &desk.strongbox;
    let fits = || {
        let mut state = desk.state();
        let shared = state.shared_secrets().unwrap().unwrap();
        let key = state.secret(&SecretRef::ServiceAccounts, strongbox).unwrap();
        let pair = rcgen::KeyPair::from_pem(key.expose()).unwrap();
        assert_eq!(pair.public_key_pem(), shared.service_accounts);
        let other = state.secret(&SecretRef::OtherServiceAccounts, strongbox).is_ok();
        assert_eq!(other, shared.service_accounts_turn != TokenKeyTurn::Done);
        (shared.service_accounts, shared.service_accounts_accepted.len())
    };
    let (first, none) = fits();
    assert_eq!(none, 0);
    let go_on = || {
        let mut state = desk.state();
        let turn = state.shared_secrets().unwrap().unwrap().service_accounts_turn;
        let now = at("2026-11-24");
        token_key::go_on(&mut state, strongbox, turn.stage().unwrap(), now).unwrap();
    };
    let replace = || drop(token_key::replace(&mut desk.state(), strongbox, &FreshKeys).unwrap());
    replace();
    assert_eq!(fits(), (first.clone(), 1));
    go_on();
    let (second, one) = fits();
    assert!(second != first && one == 1);
    go_on();
    token_key::uninstall(&mut desk.state(), strongbox).unwrap();
    assert_eq!(fits(), (first, 1));
    token_key::uninstall(&mut desk.state(), strongbox).unwrap();
    go_on();
    replace();
    assert_eq!(fits(), (second, 0));
}

fn under_one_root() -> Cluster {
    let text =
        SALTMARSH.replace("[components]", "[certificates]\nhierarchy = \"one-root\"\n[components]");
    read(&text).cluster.unwrap()
}

#[test]
fn one_root_is_made_once_and_signs_those_that_come_later_too() {
    let desk = Desk::new();
    let cluster = under_one_root();
    desk.issue(&cluster, "2026-11-23");
    let mut state = desk.state();
    let ledger = state.ledger().unwrap();
    let roots: std::collections::BTreeSet<_> =
        ledger.authorities.iter().map(|one| one.issuers.clone()).collect();
    assert!(roots.len() == 1 && roots.first().unwrap().len() == 1, "{roots:?}");
    let kind = AuthorityKind::EtcdPeer;
    let now = at("2026-11-24");
    let ledger =
        authorities::replace(&mut state, &desk.strongbox, &cluster, kind, &FreshKeys, now).unwrap();
    let comes = ledger.authorities_of(kind).last().unwrap();
    assert_eq!(comes.issuers, *roots.first().unwrap().clone());
    // So late the root would end before an authority: another one is made.
    let late = desk.issue(&cluster, "2046-01-01");
    assert_eq!(late.authorities, AuthorityKind::ALL);
    let ledger = desk.state().ledger().unwrap();
    for kind in AuthorityKind::ALL {
        let signs = ledger.authority(kind).unwrap();
        let under = signs.stands_under().unwrap();
        assert_eq!(under, "CN=saltmarsh root authority 2");
    }
}

#[test]
fn an_authority_that_has_ended_is_followed_at_once_and_nothing_of_it_is_believed() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    desk.issue(&cluster, "2026-11-23");
    let before = desk.state().ledger().unwrap();
    // In the midst of a replacement, too.
    let kind = AuthorityKind::EtcdClient;
    let now = at("2026-11-24");
    authorities::replace(&mut desk.state(), &desk.strongbox, &cluster, kind, &FreshKeys, now)
        .unwrap();
    let issued = desk.issue(&cluster, "2037-01-01");
    assert_eq!(issued.authorities, AuthorityKind::ALL);
    assert_eq!(issued.certificates.len(), wanted(&cluster).len());
    let mut state = desk.state();
    let ledger = state.ledger().unwrap();
    assert_eq!(ledger.replacing(), None);
    for kind in AuthorityKind::ALL {
        let ring = ledger.ring(kind).unwrap();
        assert!(ring.accepted.is_empty() && ring.used.not_after > at("2037-01-01"));
        assert!(before.authority(kind).unwrap().subject != ring.used.subject);
        let key = state.secret(&SecretRef::Authority(kind), &desk.strongbox).unwrap();
        drop(Authority::open(ring.used.clone(), &key).unwrap());
    }
    assert!(due(&wanted(&cluster), &ledger, at("2037-01-01")).is_empty());
    assert!(desk.issue(&cluster, "2037-01-01").is_empty());
}

#[test]
fn an_authority_of_the_sites_own_is_brought_with_its_key_or_refused_with_the_reason() {
    let desk = Desk::new();
    let cluster = saltmarsh();
    let now = at("2026-11-23");
    let other = read(&SALTMARSH.replace("name = \"saltmarsh\"", "name = \"fen\"")).cluster.unwrap();
    let (fen, key) =
        Authority::make(&other, (AuthorityKind::Cluster, 0), None, &FreshKeys, now).unwrap();
    let pem = fen.certificate().pem.clone();
    let mut state = desk.state();
    let mut bring = |kind, text: &str, key: &Secret, now| {
        authorities::bring(
            &mut state,
            &desk.strongbox,
            &cluster,
            (kind, text, key),
            (&FreshKeys, now),
        )
    };
    let why = |done: Result<_, StoreError>| match done {
        Err(StoreError::Answer { faults, .. }) => faults.join("; "),
        other => panic!("{:?}", other.map(|_: zoisite_core::pki::Ledger| ())),
    };
    let (_, strange) =
        Authority::make(&other, (AuthorityKind::Cluster, 0), None, &FreshKeys, now).unwrap();
    let kind = AuthorityKind::Cluster;
    assert!(why(bring(kind, &pem, &strange, now)).contains("fits the key"));
    let nonsense = Secret::new("gulls".into());
    assert!(why(bring(kind, &pem, &nonsense, now)).contains("its key cannot be read"));
    assert!(why(bring(kind, "", &key, now)).contains("no certificate"));
    assert!(why(bring(kind, &pem, &key, at("2037-01-01"))).contains("it ended on"));
    assert!(why(bring(kind, &pem, &key, at("2036-10-01"))).contains("sooner than what"));
    let ledger = bring(kind, &pem, &key, now).unwrap();
    assert_eq!(ledger.authority(kind).unwrap().subject, "fen cluster authority");
    let twice = why(bring(AuthorityKind::EtcdPeer, &pem, &key, now));
    assert!(twice.contains("it is the cluster authority's"), "{twice}");
    assert!(why(bring(kind, &pem, &key, now)).contains("this cluster's already"));
    // The others are made here, and all of it is issued.
    let issued = desk.issue(&cluster, "2026-11-23");
    assert_eq!(issued.authorities.len(), 3);
    let ledger = desk.state().ledger().unwrap();
    assert!(due(&wanted(&cluster), &ledger, now).is_empty());
}

#[test]
fn an_authority_whose_key_is_lost_is_followed_where_no_run_shows_what_it_signs() {
    use zoisite_core::pki::{AuthorityState, TrustStage};
    use zoisite_store::Change;

    let (desk, cluster, now) = (Desk::new(), saltmarsh(), at("2026-11-23"));
    desk.issue(&cluster, "2026-11-23");
    let loses = |kind| {
        let under = SecretRef::Authority(kind).kept_under().unwrap();
        desk.state().records().write(&[Change::remove("secret", under)]).unwrap();
    };
    let replace = |kind| {
        let mut state = desk.state();
        authorities::replace(&mut state, &desk.strongbox, &cluster, kind, &FreshKeys, now)
    };
    for kind in [AuthorityKind::Cluster, AuthorityKind::EtcdClient] {
        loses(kind);
        let refused = replace(kind).map(drop).unwrap_err();
        assert!(matches!(refused, StoreError::LostAuthority(lost) if lost == kind), "{refused}");
    }
    let kind = AuthorityKind::EtcdPeer;
    loses(kind);
    let again = |state: &mut State| {
        let chosen = |one: &zoisite_core::pki::Wanted| one.profile == Profile::EtcdPeer;
        let how = (&FreshKeys as &dyn zoisite_core::pki::KeySource, now);
        trust::issue_again(state, &desk.strongbox, &cluster, how, &chosen)
    };
    assert!(matches!(again(&mut desk.state()), Err(StoreError::LostAuthority(_))));
    let comes = replace(kind).unwrap();
    assert!(comes.authorities_of(kind).any(|one| one.standing == AuthorityState::Comes));
    // What is due of it meanwhile waits, and nothing else is kept from going on.
    assert!(again(&mut desk.state()).unwrap().is_empty());
    let signs =
        authorities::go_on(&mut desk.state(), &desk.strongbox, TrustStage::Believe(kind)).unwrap();
    assert_eq!(signs.authority(kind).unwrap().not_before, comes_of(&comes).not_before);
    let issued = desk.issue(&cluster, "2026-11-23");
    assert_eq!(issued.certificates.len(), 3, "{issued:?}");
    // There is no way back to one that cannot sign.
    let mut state = desk.state();
    let back = authorities::uninstall(&mut state, &desk.strongbox, kind).map(drop).unwrap_err();
    assert!(matches!(back, StoreError::LostAuthority(_)), "{back}");
    for stage in [TrustStage::SignBy(kind), TrustStage::Forget(kind)] {
        authorities::go_on(&mut desk.state(), &desk.strongbox, stage).unwrap();
    }
    assert_eq!(desk.state().ledger().unwrap().ring(kind).unwrap().accepted.len(), 0);
}

fn comes_of(ledger: &zoisite_core::pki::Ledger) -> &zoisite_core::pki::AuthorityCertificate {
    let comes = |one: &&zoisite_core::pki::AuthorityCertificate| {
        one.standing == zoisite_core::pki::AuthorityState::Comes
    };
    ledger.authorities.iter().find(comes).unwrap()
}
