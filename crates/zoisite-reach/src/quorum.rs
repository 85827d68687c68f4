//! Judging whether members that answer form one healthy quorum.

use std::collections::BTreeSet;

use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::sequence::{MemberWork, Proven};

/// Why a learner that was to go again stays.
pub(crate) const HAS_ITS_VOTE: &str = "it has its vote by now, and stays";

/// What a learner says to nearly everything that it is asked: it answers of its own state alone (etcd's
/// `ErrGRPCNotSupportedForLearner`).
pub(crate) const NOT_FOR_LEARNERS: &str = "etcdserver: rpc not supported for learner";

/// Whether it is a learner that was asked what it does not answer.
pub(crate) fn is_a_learners<T>(answer: &Result<T, Trouble>) -> bool {
    answer.as_ref().is_err_and(|trouble| trouble.answer.contains(NOT_FOR_LEARNERS))
}

/// What one member says of itself and of the others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MemberAnswer {
    /// Cluster id.
    pub cluster_id: u64,
    /// Its own id.
    pub member_id: u64,
    /// The leader's id; 0 when there is none.
    pub leader: u64,
    /// Ids and names of all members, as this one knows them.
    pub members: BTreeSet<(u64, String)>,
}

/// A change of members that did not come about, and what became of a learner that did not catch up.
pub fn not_changed(
    work: &MemberWork,
    why: String,
    taken_back: Option<Result<(), String>>,
) -> Trouble {
    let (host, attempted) = match work {
        MemberWork::Learn { host, .. } => (Some(host.clone()), "letting it into the quorum"),
        MemberWork::Promote { host, .. } => (Some(host.clone()), "giving it its vote"),
        MemberWork::Remove { who, .. } => (HostName::new(who).ok(), "taking it out of the quorum"),
        MemberWork::Move { host, .. } => {
            (Some(host.clone()), "having the others reach it at another address")
        }
    };
    let (answer, fix) = match taken_back {
        None => {
            (why, "zoisite status shows the members; run the same command again when they are well")
        }
        Some(Ok(())) => (
            format!(
                "it did not catch up in time ({why}), and was removed: the quorum is as it was before"
            ),
            "look at its disk and at the path to it (zoisite paths try); or give it more time with --timeout",
        ),
        Some(Err(also)) => (
            format!("it did not catch up in time ({why}), and could not be removed ({also})"),
            "it has no vote and costs nothing; run the same command again",
        ),
    };
    Trouble::new(host, attempted, answer, Vec::new()).fix(fix)
}

/// Whether the members agree: one cluster id, one member list, one leader, and each is who it should be.
///
/// # Errors
/// The first disagreement, with the members concerned.
pub fn judge(answers: &[(HostName, MemberAnswer)]) -> Result<Proven, Trouble> {
    let trouble = |host: Option<&HostName>, answer: String| {
        Trouble::new(
            host.cloned(),
            "holding the members' answers against each other",
            answer,
            Vec::new(),
        )
    };
    let Some((first_host, first)) = answers.first() else {
        return Err(trouble(None, "no member answered".into()));
    };
    for (host, answer) in answers {
        if answer.leader == 0 {
            return Err(trouble(Some(host), "it knows no leader".into()));
        }
        if answer.cluster_id != first.cluster_id {
            let text = format!(
                "cluster ID mismatch: {:016x}, and {first_host} says {:016x}",
                answer.cluster_id, first.cluster_id
            );
            return Err(trouble(Some(host), text));
        }
        if answer.leader != first.leader {
            return Err(trouble(
                Some(host),
                format!("it follows another leader than {first_host}"),
            ));
        }
        if answer.members != first.members {
            let text = format!("its member list differs from {first_host}'s");
            return Err(trouble(Some(host), text));
        }
        if !answer.members.contains(&(answer.member_id, host.to_string())) {
            let text =
                format!("the member list does not name it with its id {:016x}", answer.member_id);
            return Err(trouble(Some(host), text));
        }
    }
    let leader = first.members.iter().find(|(id, _)| *id == first.leader);
    Ok(Proven {
        cluster_id: format!("{:016x}", first.cluster_id),
        leader: leader.map_or_else(String::new, |(_, name)| name.clone()),
        ..Proven::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn host(name: &str) -> HostName {
        HostName::new(name).unwrap()
    }

    fn answers() -> Vec<(HostName, MemberAnswer)> {
        let members: BTreeSet<_> =
            [(1, "heron".to_owned()), (2, "egret".to_owned()), (3, "ibis".to_owned())].into();
        (1..=3)
            .zip(["heron", "egret", "ibis"])
            .map(|(member_id, name)| {
                let members = members.clone();
                (host(name), MemberAnswer { cluster_id: 9, member_id, leader: 2, members })
            })
            .collect()
    }

    #[test]
    fn members_that_agree_are_a_quorum() {
        let proven = judge(&answers()).unwrap();
        assert_eq!(proven.leader, "egret");
        assert_eq!(proven.cluster_id, "0000000000000009");
    }

    #[test]
    fn every_kind_of_disagreement_is_found_and_names_the_member() {
        type Spoil = fn(&mut MemberAnswer);
        let cases: [(Spoil, &str); 5] = [
            (|a| a.cluster_id = 8, "cluster ID mismatch"),
            (|a| a.leader = 0, "no leader"),
            (|a| a.leader = 3, "another leader"),
            (|a| a.members.clear(), "member list differs"),
            (|a| a.member_id = 7, "does not name it"),
        ];
        for (spoil, says) in cases {
            let mut answers = answers();
            spoil(&mut answers[1].1);
            let trouble = judge(&answers).unwrap_err();
            assert_eq!(trouble.host, Some(host("egret")), "{says}");
            assert!(trouble.answer.contains(says), "{}", trouble.answer);
        }
        assert!(judge(&[]).is_err());
    }
}
