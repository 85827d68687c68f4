use jiff::Timestamp;

use super::issued::LedgerEntry;
use super::ledger::Ledger;
use super::profile::{AuthorityKind, Holder, Profile};

/// What ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ends {
    /// An authority: nothing that it issued outlives it.
    Authority(AuthorityKind),
    /// Certificates of one profile.
    Profile(Profile),
}

/// Certificates of a kind that end on the same day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ending {
    /// Of which kind.
    pub what: Ends,
    /// Hosts or people that hold them, sorted; an authority is called by its subject.
    pub holders: Vec<String>,
    /// The first of them begins.
    pub from: Timestamp,
    /// From then on the first of them is issued again; an authority's never is by itself.
    pub renewed: Option<Timestamp>,
    /// The first of them ends.
    pub end: Timestamp,
}

/// What of a cluster ends when, the first first: what is in force and has a holder, by kind and day. `renew` is what the
/// cluster file says of when certificates are issued again.
pub fn endings(ledger: &Ledger, renew: Option<i64>) -> Vec<Ending> {
    let lasts = |entry: &&LedgerEntry| {
        entry.is_in_force() && entry.profile.holder() != Holder::Run && ledger.believes(entry)
    };
    let leaves = ledger.entries.iter().filter(lasts).map(|entry| Ending {
        what: Ends::Profile(entry.profile),
        holders: vec![entry.holder().unwrap_or_default().to_owned()],
        from: entry.not_before,
        renewed: (!matches!(entry.profile.holder(), Holder::Person | Holder::Monitoring))
            .then(|| entry.renew_from(renew)),
        end: entry.not_after,
    });
    let believed = ledger.authorities.iter().filter(|one| one.standing.is_believed());
    let authorities = believed.map(|one| Ending {
        what: Ends::Authority(one.kind),
        holders: vec![one.subject.clone()],
        from: one.not_before,
        renewed: None,
        end: one.not_after,
    });
    let mut out: Vec<Ending> = Vec::new();
    let day = |time: Timestamp| time.as_second().div_euclid(86_400);
    for one in leaves.chain(authorities) {
        let same = |other: &&mut Ending| other.what == one.what && day(other.end) == day(one.end);
        match out.iter_mut().find(same) {
            None => out.push(one),
            Some(group) => {
                group.holders.extend(one.holders);
                group.from = group.from.min(one.from);
                group.renewed = group.renewed.into_iter().chain(one.renewed).min();
                group.end = group.end.min(one.end);
            }
        }
    }
    for group in &mut out {
        group.holders.sort();
        group.holders.dedup();
    }
    let rank = |what: Ends| match what {
        Ends::Profile(profile) => (0, profile as usize),
        Ends::Authority(kind) => (1, kind as usize),
    };
    out.sort_by_key(|group| (day(group.end), rank(group.what)));
    out
}
