use super::issued::AuthorityCertificate;
use super::ledger::Ledger;
use super::profile::AuthorityKind;
use super::standing::{AuthorityState, TrustStage};
use crate::text::digest;

impl Ledger {
    /// The authorities of a kind, those that are gone included.
    pub fn authorities_of(
        &self,
        kind: AuthorityKind,
    ) -> impl Iterator<Item = &AuthorityCertificate> {
        self.authorities.iter().filter(move |authority| authority.kind == kind)
    }

    /// What is to be done next; `None` where nothing is being replaced, or a person's word is waited for.
    pub fn stage(&self) -> Option<TrustStage> {
        self.authorities.iter().find_map(|authority| match authority.standing {
            AuthorityState::Comes => Some(TrustStage::Believe(authority.kind)),
            AuthorityState::Goes => Some(TrustStage::SignBy(authority.kind)),
            AuthorityState::Leaves => Some(TrustStage::Forget(authority.kind)),
            _ => None,
        })
    }

    /// What nodes are to believe of the cluster's authorities, and which one is to have let them in: another text at each
    /// stage of a replacement.
    pub fn trust_of_nodes(&self) -> String {
        let signs = self.authority(AuthorityKind::Cluster).and_then(AuthorityCertificate::key_id);
        let believed = self.bundle(AuthorityKind::Cluster).unwrap_or_default();
        digest(&format!("{}\n{believed}", signs.unwrap_or_default()))
    }

    /// The kind of authority that is being replaced, if one is.
    pub fn replacing(&self) -> Option<AuthorityKind> {
        let settled = |standing| matches!(standing, AuthorityState::Signs | AuthorityState::Gone);
        let found = self.authorities.iter().find(|authority| !settled(authority.standing));
        found.map(|authority| authority.kind)
    }

    /// The authorities of its kind once a stage holds everywhere; none where that stage is none any more.
    pub fn after(&self, stage: TrustStage) -> Vec<AuthorityCertificate> {
        match stage {
            _ if self.stage() != Some(stage) => Vec::new(),
            TrustStage::Believe(kind) if kind.waits_for_people() => {
                self.turned(kind, |standing| match standing {
                    AuthorityState::Comes => AuthorityState::Believed,
                    other => other,
                })
            }
            TrustStage::Believe(kind) => self.turned(kind, signs),
            TrustStage::SignBy(kind) => self.turned(kind, |standing| match standing {
                AuthorityState::Goes if kind.waits_for_people() => AuthorityState::Spent,
                AuthorityState::Goes => AuthorityState::Leaves,
                other => other,
            }),
            TrustStage::Forget(kind) => self.turned(kind, |standing| match standing {
                AuthorityState::Leaves => AuthorityState::Gone,
                other => other,
            }),
            TrustStage::AcceptTokens | TrustStage::SignTokens => Vec::new(),
        }
    }

    /// The authorities of a kind when a person lets its replacement go on; none where it waits for no confirmation.
    pub fn confirmed_replacements(&self, kind: AuthorityKind) -> Vec<AuthorityCertificate> {
        let waits = |standing| self.authorities_of(kind).any(|one| one.standing == standing);
        if waits(AuthorityState::Believed) {
            return self.turned(kind, signs);
        }
        match waits(AuthorityState::Spent) {
            false => Vec::new(),
            true => self.turned(kind, |standing| match standing {
                AuthorityState::Spent => AuthorityState::Leaves,
                other => other,
            }),
        }
    }

    /// The authorities of a kind when a person takes its replacement back; none where there is nothing to take back.
    /// Where the new one has signed already, the stages are gone through the other way round; once the old one leaves it
    /// is too late.
    pub fn taken_back(&self, kind: AuthorityKind) -> Vec<AuthorityCertificate> {
        let leaves = self.authorities_of(kind).any(|one| one.standing == AuthorityState::Leaves);
        if leaves || self.replacing() != Some(kind) {
            return Vec::new();
        }
        let signed = |standing| matches!(standing, AuthorityState::Goes | AuthorityState::Spent);
        let signed = self.authorities_of(kind).any(|one| signed(one.standing));
        self.turned(kind, |standing| match (signed, standing) {
            (true, AuthorityState::Signs) => AuthorityState::Goes,
            (true, AuthorityState::Goes | AuthorityState::Spent) => AuthorityState::Signs,
            (false, AuthorityState::Comes | AuthorityState::Believed) => AuthorityState::Gone,
            (_, other) => other,
        })
    }

    fn turned(
        &self,
        kind: AuthorityKind,
        to: impl Fn(AuthorityState) -> AuthorityState,
    ) -> Vec<AuthorityCertificate> {
        let turn = |one: &AuthorityCertificate| AuthorityCertificate {
            standing: to(one.standing),
            ..one.clone()
        };
        self.authorities_of(kind).map(turn).collect()
    }
}

/// The one that comes signs, and the one before goes.
fn signs(standing: AuthorityState) -> AuthorityState {
    match standing {
        AuthorityState::Signs => AuthorityState::Goes,
        AuthorityState::Comes | AuthorityState::Believed => AuthorityState::Signs,
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;

    fn of(kind: AuthorityKind, standings: &[AuthorityState]) -> Ledger {
        let one = |(serial, standing): (usize, &AuthorityState)| AuthorityCertificate {
            kind,
            serial: serial.to_string(),
            subject: String::new(),
            not_before: Timestamp::UNIX_EPOCH,
            not_after: Timestamp::UNIX_EPOCH,
            sha256: serial.to_string(),
            pem: serial.to_string(),
            key_sha256: String::new(),
            standing: *standing,
            issuers: Vec::new(),
        };
        Ledger { authorities: standings.iter().enumerate().map(one).collect(), entries: Vec::new() }
    }

    fn with(ledger: &mut Ledger, authorities: Vec<AuthorityCertificate>) -> Vec<AuthorityState> {
        if !authorities.is_empty() {
            ledger.authorities = authorities;
        }
        ledger.authorities.iter().map(|one| one.standing).collect()
    }

    use AuthorityState::{Believed, Comes, Goes, Gone, Leaves, Signs, Spent};

    #[test]
    fn one_that_no_person_holds_anything_of_goes_through_all_stages() {
        let kind = AuthorityKind::EtcdPeer;
        let mut ledger = of(kind, &[Signs, Comes]);
        assert_eq!(ledger.bundle(kind).unwrap(), "01");
        let believe = TrustStage::Believe(kind);
        assert_eq!((ledger.stage(), ledger.replacing()), (Some(believe), Some(kind)));
        let after = ledger.after(believe);
        assert_eq!(with(&mut ledger, after), [Goes, Signs]);
        assert_eq!((ledger.bundle(kind).unwrap().as_str(), ledger.stage()), ("10", believe.next()));
        // The same once more changes nothing.
        assert!(ledger.after(believe).is_empty() && ledger.confirmed_replacements(kind).is_empty());
        let after = ledger.after(TrustStage::SignBy(kind));
        assert_eq!(with(&mut ledger, after), [Leaves, Signs]);
        let forget = TrustStage::Forget(kind);
        assert_eq!((ledger.bundle(kind).unwrap().as_str(), ledger.stage()), ("1", Some(forget)));
        // Too late to take back; said once more it is the same replacement.
        assert!(
            ledger.taken_back(kind).is_empty() && ledger.confirmed_replacements(kind).is_empty()
        );
        assert_eq!(ledger.replacing(), Some(kind));
        let after = ledger.after(forget);
        assert_eq!(with(&mut ledger, after), [Gone, Signs]);
        assert_eq!((ledger.bundle(kind).unwrap().as_str(), ledger.stage()), ("1", None));
        assert_eq!(ledger.replacing(), None);
    }

    #[test]
    fn what_people_hold_waits_for_their_word_at_each_stage() {
        let kind = AuthorityKind::Cluster;
        let mut ledger = of(kind, &[Signs, Comes]);
        let after = ledger.after(TrustStage::Believe(kind));
        assert_eq!(with(&mut ledger, after), [Signs, Believed]);
        assert_eq!((ledger.stage(), ledger.replacing()), (None, Some(kind)));
        assert_eq!(ledger.bundle(kind).unwrap(), "01");
        let word = ledger.confirmed_replacements(kind);
        assert_eq!(with(&mut ledger, word), [Goes, Signs]);
        let after = ledger.after(TrustStage::SignBy(kind));
        assert_eq!(with(&mut ledger, after), [Spent, Signs]);
        assert_eq!((ledger.stage(), ledger.bundle(kind).unwrap().as_str()), (None, "10"));
        let word = ledger.confirmed_replacements(kind);
        assert_eq!(with(&mut ledger, word), [Leaves, Signs]);
        assert_eq!(ledger.bundle(kind).unwrap(), "1");
        let after = ledger.after(TrustStage::Forget(kind));
        assert_eq!(with(&mut ledger, after), [Gone, Signs]);
    }

    #[test]
    fn it_is_taken_back_at_every_stage_but_after_the_last() {
        let kind = AuthorityKind::Cluster;
        for (before, after) in [
            ([Signs, Comes], [Signs, Gone]),
            ([Signs, Believed], [Signs, Gone]),
            ([Goes, Signs], [Signs, Goes]),
            ([Spent, Signs], [Signs, Goes]),
        ] {
            let mut ledger = of(kind, &before);
            let back = ledger.taken_back(kind);
            assert_eq!(with(&mut ledger, back), after);
        }
        assert!(of(kind, &[Gone, Signs]).taken_back(kind).is_empty());
        assert!(of(kind, &[Signs, Comes]).taken_back(AuthorityKind::EtcdPeer).is_empty());
    }
}
