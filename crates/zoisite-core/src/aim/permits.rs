//! Rule S1 over two states of a quorum.

use std::collections::{BTreeMap, BTreeSet};

use super::real::{Health, Member};

/// S1: from one state of the membership to the next, one voter at most comes, goes or moves, whoever comes was a
/// learner before, and those that are known to be well are a quorum before and after it.
///
/// # Errors
/// What is wrong with it, in words.
pub fn permits(from: &[Member], to: &[Member]) -> Result<(), String> {
    let voters = |all: &[Member]| -> BTreeMap<String, Member> {
        all.iter().filter(|m| !m.learner).map(|m| (m.id.clone(), m.clone())).collect()
    };
    let (before, after) = (voters(from), voters(to));
    if before.keys().eq(after.keys()) && before.iter().all(|(id, m)| m.urls == after[id].urls) {
        return Ok(());
    }
    let mut changed = BTreeSet::new();
    for (id, member) in after.iter().chain(&before) {
        let urls = |side: &BTreeMap<String, Member>| side.get(id).map(|m| m.urls.clone());
        if urls(&before) != urls(&after) {
            changed.insert(member.called().to_owned());
        }
    }
    if changed.len() > 1 {
        let all: Vec<String> = changed.into_iter().collect();
        return Err(format!("{} would change at once", all.join(" and ")));
    }
    for (id, member) in after.iter().filter(|(id, _)| !before.contains_key(*id)) {
        if !from.iter().any(|known| known.id == *id && known.learner) {
            return Err(format!("{} would vote before it has learnt", member.called()));
        }
    }
    // One that moves is away for a moment, one that goes no longer counts.
    let moved = |id: &str| {
        before.get(id).zip(after.get(id)).is_some_and(|(before, after)| before.urls != after.urls)
    };
    for (side, when) in [(&before, "before it"), (&after, "after it")] {
        let well = |m: &&Member| m.health == Health::Well && !(when == "after it" && moved(&m.id));
        let (well, quorum) = (side.values().filter(well).count(), side.len() / 2 + 1);
        // The only member of a quorum has no others, and may move.
        let alone = side.len() == 1 && side.keys().all(|id| moved(id));
        if well < quorum && !alone {
            return Err(format!(
                "{well} of {} voters are known to be well, and {quorum} must be {when}",
                side.len()
            ));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn quorum(members: &[(&str, bool, Health)]) -> Vec<Member> {
        let member = |(name, learner, health): &(&str, bool, Health)| Member {
            id: (*name).to_owned(),
            name: (*name).to_owned(),
            urls: vec![format!("https://{name}:2380")],
            learner: *learner,
            health: *health,
        };
        members.iter().map(member).collect()
    }

    #[test]
    fn s1_one_change_at_a_time_by_a_learner_and_with_a_quorum_on_both_sides() {
        use Health::{Down, Unknown, Well};
        let three = quorum(&[("a", false, Well), ("b", false, Well), ("c", false, Well)]);
        let learns = quorum(&[("a", false, Well), ("b", false, Well), ("d", true, Well)]);
        let voted = quorum(&[("a", false, Well), ("b", false, Well), ("d", false, Well)]);
        assert_eq!(permits(&learns, &voted), Ok(()));
        assert!(permits(&three, &voted).unwrap_err().contains("would change at once"));
        assert!(permits(&three[..2], &voted).unwrap_err().contains("before it has learnt"));
        // One that is dead goes, as long as the others are a quorum of what was there.
        let dead = quorum(&[("a", false, Well), ("b", false, Well), ("c", false, Down)]);
        assert_eq!(permits(&dead, &dead[..2]), Ok(()));
        let lost = quorum(&[("a", false, Well), ("b", false, Unknown), ("c", false, Down)]);
        assert!(permits(&lost, &lost[..2]).unwrap_err().contains("1 of 3 voters"));
        // Of two, neither may go while the other one is not known to be well.
        let two = quorum(&[("a", false, Well), ("b", false, Unknown)]);
        assert!(permits(&two, &two[..1]).is_err() && permits(&two, &two[1..]).is_err());
        assert_eq!(permits(&three, &three), Ok(()), "nothing changes");
    }

    #[test]
    fn s1_one_that_moves_is_away_for_a_moment() {
        let mut moved = quorum(&[("a", false, Health::Well), ("b", false, Health::Well)]);
        let two = moved.clone();
        moved[0].urls = vec!["https://a:2390".into()];
        assert!(permits(&two, &moved).is_err(), "the other one alone is no quorum of two");
        assert_eq!(permits(&two[..1], &moved[..1]), Ok(()), "the only one");
        let third = quorum(&[("c", false, Health::Well)]);
        let all = |two: &[Member]| [two, &third].concat();
        assert_eq!(permits(&all(&two), &all(&moved)), Ok(()));
    }
}
