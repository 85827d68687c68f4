//! What is assumed of an aim that is reached: for the forecast of a run, and to prove that runs come to an end.

use super::next::{Next, Wanted, emptied, left_behind, next_aim, owner};
use super::real::{Health, Machine, Member, Quorum, Real};
use super::stone::{Aim, Arm, Records, Scope};
use crate::cluster::{Cluster, HostName};

/// Every stepping stone from here to what the file says, each assumed to be reached; the last one is
/// [`Arm::File`], but where there is no safe way on.
pub fn forecast(
    file: &Cluster,
    wanted: Wanted<'_>,
    kept: &Records,
    real: &Real,
    consent: bool,
) -> Vec<Aim> {
    let (mut kept, mut real) = (kept.clone(), real.clone());
    let mut out: Vec<Aim> = Vec::new();
    while let Next::Stage(aim) = next_aim(file, wanted, &kept, &real, consent) {
        if out.last().is_some_and(|last| last.arm == aim.arm) {
            break;
        }
        real = assume(&real, &aim);
        kept = kept.after(&aim.arm);
        let ended = aim.arm.is_last();
        out.push(*aim);
        if ended {
            break;
        }
    }
    out
}

/// What is real once an aim is reached, as far as members go.
pub fn assume(real: &Real, aim: &Aim) -> Real {
    let mut next = real.clone();
    let begins = |(host, url): (&HostName, &String)| Member {
        id: format!("{host}'s"),
        name: host.to_string(),
        urls: vec![url.clone()],
        learner: false,
        health: Health::Well,
    };
    if next.quorum == Quorum::Unseen && aim.arm == Arm::Fix {
        next.quorum = Quorum::Listed(aim.etcd.members.iter().map(begins).collect());
    }
    if let Arm::Restore { members, .. } = &aim.arm {
        next.quorum = Quorum::Listed(members.iter().map(begins).collect());
        for (host, machine) in &mut next.machines {
            if let Machine::Seen { data, spent } = machine {
                let begins = members.contains_key(host);
                (*data, *spent) = (begins, begins);
            }
        }
    }
    let Quorum::Listed(list) = &mut next.quorum else {
        return next;
    };
    let fresh = Machine::Seen { data: true, spent: true };
    match &aim.arm {
        Arm::File
        | Arm::Mesh { .. }
        | Arm::Trust { .. }
        | Arm::Restore { .. }
        | Arm::AcceptKey { .. }
        | Arm::RewriteBy { .. } => {}
        Arm::Fix => {
            if let Scope::Members(hosts) = &aim.scope {
                let named = |m: &&mut Member| hosts.iter().any(|host| host.as_str() == m.name);
                for member in list.iter_mut().filter(|m| m.health == Health::Down).filter(named) {
                    member.health = Health::Well;
                }
            }
        }
        Arm::Learn { host, url, .. } => {
            list.push(Member {
                id: format!("{host}'s"),
                name: host.to_string(),
                urls: vec![url.clone()],
                learner: true,
                health: Health::Well,
            });
            next.machines.insert(host.clone(), fresh);
        }
        Arm::Promote { host, id } => {
            for member in list.iter_mut().filter(|member| member.id == *id) {
                member.learner = false;
                member.name = host.to_string();
                member.health = Health::Well;
            }
            next.machines.insert(host.clone(), fresh);
        }
        Arm::Uninstall { id, .. } | Arm::Remove { id, .. } => {
            list.retain(|member| member.id != *id);
        }
        Arm::Move { id, url, .. } => {
            for member in list.iter_mut().filter(|member| member.id == *id) {
                member.urls = vec![url.clone()];
                member.health = Health::Well;
            }
        }
        Arm::Aside { host } => {
            next.machines.insert(host.clone(), Machine::Seen { data: false, spent: false });
        }
    }
    next
}

/// How far it is to what the file wants of its members. Every stage lowers it.
pub fn distance(wanted: Wanted<'_>, kept: &Records, real: &Real) -> usize {
    let Quorum::Listed(list) = &real.quorum else { return 0 };
    let owned: Vec<(HostName, &Member)> =
        list.iter().filter_map(|m| Some((owner(m, wanted, kept)?, m))).collect();
    let mut far = 0;
    for (host, member) in &owned {
        let is_wanted = wanted.contains_key(host);
        let moved = wanted.get(host).is_some_and(|url| !member.urls.contains(url));
        let lost = real.machine(host) == Machine::Seen { data: false, spent: true };
        far += match (member.learner, is_wanted) {
            // One that is taken back first, and let in again.
            (true, true) if moved || emptied(host, member, real) => 15,
            (true, true) => 5,
            // Its data is left behind, to be moved aside.
            (learner, false) => 3 + usize::from(!learner && member.health == Health::Down),
            (false, true) if lost && member.health != Health::Well => 20,
            (false, true) => 2 * usize::from(moved) + usize::from(member.health == Health::Down),
        };
    }
    let listed = |host: &HostName| owned.iter().any(|(known, _)| known == host);
    far += 8 * wanted.keys().filter(|host| !listed(host)).count();
    far + left_behind(wanted, kept, real, list).count()
}
