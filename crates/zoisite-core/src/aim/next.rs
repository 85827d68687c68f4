//! The next aim.

use std::collections::{BTreeMap, BTreeSet};

use super::permits::permits;
use super::real::{Health, Machine, Member, Quorum, Real};
use super::stone::{Aim, Arm, EtcdAim, Held, Records, Restoring, Scope, Why};
use crate::cluster::{Cluster, HostName};
use crate::pki::{AtRestStage, AuthorityKind, TrustStage};

/// Where to go.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Next {
    /// A stage towards this aim.
    Stage(Box<Aim>),
    /// There is no safe way on, and nothing is done.
    Refused {
        /// What was found.
        found: String,
        /// What a person can do.
        fix: String,
    },
}

/// The members that the file wants, and where the others are to dial each.
pub(super) type Wanted<'a> = &'a BTreeMap<HostName, String>;

/// Names the next stepping stone.
///
/// `wanted` are the members that the file wants, with the URL of each. `consent` says whether a person wants the
/// membership changed now.
pub fn next_aim(
    file: &Cluster,
    wanted: Wanted<'_>,
    kept: &Records,
    real: &Real,
    consent: bool,
) -> Next {
    // Whatever else is done goes through the mesh.
    if !kept.keyless.is_empty() {
        let mut aim = as_it_stands(file, wanted, kept, real);
        aim.arm = Arm::Mesh { hosts: kept.keyless.clone() };
        aim.scope = Scope::Mesh;
        aim.held.clear();
        return Next::Stage(Box::new(aim));
    }
    if let Some(from) = &kept.restoring {
        return restore(file, wanted, kept, real, (from, consent));
    }
    let list = match &real.quorum {
        Quorum::Unbegun => return Next::Stage(Box::new(Aim::of_file(file, wanted))),
        Quorum::Unseen => return unseen(file, wanted, kept, real),
        Quorum::Listed(list) => list,
    };
    let ground = Ground { file, wanted, leaving: leaving(file, kept), kept, real, list };
    let mut held = Vec::new();
    let arm = ground.arm(&mut held);
    let arm = match arm.changes_membership() && !consent {
        false => arm,
        true => {
            held.insert(
                0,
                Held {
                    host: None,
                    what: format!("the change of members ({arm})"),
                    why: "who is a member of the quorum changes only when a person wants it".into(),
                    fix: "run it at a terminal, or with --yes".into(),
                },
            );
            // What needs nobody's word goes on.
            match ground.down().is_empty() {
                true => Arm::File,
                false => Arm::Fix,
            }
        }
    };
    let arm = match arm {
        Arm::File => {
            let key = ground.replaces_key(&mut held);
            key.or_else(|| ground.replaces_authority(&mut held)).unwrap_or(arm)
        }
        other => other,
    };
    Next::Stage(Box::new(ground.aim(arm, held)))
}

/// The cluster with the members that it has, and what of the file waits: what a look is held against that changes
/// nothing.
pub fn as_it_stands(file: &Cluster, wanted: Wanted<'_>, kept: &Records, real: &Real) -> Aim {
    let Quorum::Listed(list) = &real.quorum else {
        let mut aim = Aim::of_file(file, wanted);
        if real.quorum == Quorum::Unseen && !kept.members.is_empty() {
            aim.etcd.dialled.retain(|host| kept.members.contains_key(host));
        }
        // What holds a replacement back does so whether or not members have a leader at the moment.
        let ground = Ground { file, wanted, leaving: BTreeMap::new(), kept, real, list: &[] };
        let _ = ground.replaces_key(&mut aim.held);
        let _ = ground.replaces_authority(&mut aim.held);
        return aim;
    };
    let ground = Ground { file, wanted, leaving: leaving(file, kept), kept, real, list };
    let mut held = Vec::new();
    let arm = ground.arm(&mut held);
    if arm.changes_membership() || matches!(arm, Arm::Aside { .. }) {
        held.insert(
            0,
            Held {
                host: None,
                what: "the change of etcd members".into(),
                why: format!("next is to {arm}"),
                fix: "zoisite sequence shows every stage of it, and raise takes them".into(),
            },
        );
    }
    // What of a replacement cannot go on is reported, whatever else is looked at.
    let _ = ground.replaces_key(&mut held);
    let _ = ground.replaces_authority(&mut held);
    ground.aim(Arm::File, held)
}

/// A snapshot is being put back: until the quorum was proven that begins with it, nothing else is done.
fn restore(
    file: &Cluster,
    wanted: Wanted<'_>,
    kept: &Records,
    real: &Real,
    (from, consent): (&Restoring, bool),
) -> Next {
    let refused = |found: String, fix: String| Next::Refused { found, fix };
    let again = format!("zoisite snapshot restore {}", from.snapshot);
    if !consent {
        let found =
            format!("snapshot {} is being restored, and you did not agree to go on", from.snapshot);
        return refused(found, "run it at a terminal, or with --yes".into());
    }
    let members: BTreeMap<HostName, String> = wanted
        .iter()
        .filter(|(host, _)| from.hosts.contains(*host))
        .map(|(h, u)| (h.clone(), u.clone()))
        .collect();
    if members.len() < from.hosts.len() || from.hosts.is_empty() {
        let dropped = from.hosts.iter().filter(|host| !members.contains_key(*host));
        let dropped: Vec<&str> = dropped.map(HostName::as_str).collect();
        let found = format!(
            "snapshot {} was to be put back on {}, and etcd.members does not name that any more",
            from.snapshot,
            dropped.join(", ")
        );
        return refused(found, format!("{again} begins again with the members of the file"));
    }
    // Who is not seen may serve what was before, beside what comes: API servers would hold two truths.
    let dialling = &file.control_plane.hosts;
    let all = kept.members.keys().chain(&kept.left).chain(wanted.keys()).chain(dialling);
    let unseen: BTreeSet<&str> = all
        .filter(|host| real.machine(host) == Machine::Silent && !from.lost.contains(*host))
        .map(HostName::as_str)
        .collect();
    if !unseen.is_empty() {
        let unseen = unseen.into_iter().collect::<Vec<_>>().join(", ");
        let found = format!(
            "{unseen} cannot be looked at: what runs there may serve on what was before, beside what comes"
        );
        let fix = format!(
            "bring them back, whatever state they are in; of a machine that is gone for good: {again} --lost HOST"
        );
        return refused(found, fix);
    }
    let etcd = EtcdAim {
        initial: Some(members.iter().map(|(h, u)| (h.to_string(), u.clone())).collect()),
        dialled: members.keys().cloned().collect(),
        members: members.clone(),
    };
    let scope = Scope::Members(from.hosts.clone());
    let arm = Arm::Restore { members, from: from.clone() };
    Next::Stage(Box::new(Aim { arm, etcd, scope, held: Vec::new() }))
}

/// Nobody gave the list: members that are recorded are brought back, and nothing of the membership changes.
fn unseen(file: &Cluster, wanted: Wanted<'_>, kept: &Records, real: &Real) -> Next {
    let mut aim = Aim::of_file(file, wanted);
    // Nobody begins as if new: one without data asks the others who is a member.
    let recorded = if kept.members.is_empty() { wanted } else { &kept.members };
    let told = recorded.iter().map(|(host, url)| (host.to_string(), url.clone()));
    aim.etcd.initial = Some(told.collect());
    // One whose data is gone is let in again by the others, when they serve: where those are enough, it keeps nobody
    // from bringing them back. (Where they are not, rule S1 refuses what would begin it as if new.)
    let gone = Machine::Seen { data: false, spent: true };
    let lost: Vec<&HostName> =
        kept.members.keys().filter(|host| real.machine(host) == gone).collect();
    let all = kept.members.len();
    let quorum = all / 2 + 1;
    if kept.members.is_empty() {
        return Next::Stage(Box::new(aim));
    }
    // Once they serve they are looked at again: one of them may have no vote yet.
    aim.arm = Arm::Fix;
    aim.scope = Scope::Members(aim.etcd.members.keys().cloned().collect());
    if recorded == wanted && (lost.is_empty() || all - lost.len() < quorum) {
        return Next::Stage(Box::new(aim));
    }
    let holds = |host: &&HostName| matches!(real.machine(host), Machine::Seen { data: true, .. });
    let left: Vec<&str> = kept.members.keys().filter(holds).map(HostName::as_str).collect();
    let dropped = kept.members.keys().any(|host| !wanted.contains_key(host));
    if dropped && left.len() < quorum {
        let names: Vec<&str> = kept.members.keys().map(HostName::as_str).collect();
        let found = format!(
            "the quorum does not answer, and the file drops members of it: of its {all} ({}) {}, and {quorum} are needed",
            names.join(", "),
            what_is_left(&left, real)
        );
        let newest = left.iter().max_by_key(|name| entries(real, name)).map_or(String::new(), |name| {
            format!("; of what is left {name} is the newest, and what it does not have would be lost with it")
        });
        let fix = format!(
            "bring the others back, named in etcd.members as before{newest}. Where they are gone for good, a snapshot begins the quorum again: zoisite snapshot restore"
        );
        return Next::Refused { found, fix };
    }
    for host in &lost {
        aim.held.push(Held {
            host: Some((*host).clone()),
            what: format!("letting {host} into the quorum again"),
            why: "its data is gone, and the others do not serve yet".into(),
            fix: "they are brought back first; then the same command again".into(),
        });
    }
    if recorded != wanted {
        aim.held.push(Held {
            host: None,
            what: "the change of members".into(),
            why: "no member gave the quorum's own list, and a record is no proof of who is in it"
                .into(),
            fix: "bring the members back first: zoisite status says which do not serve".into(),
        });
    }
    let back = |host: &HostName| file.host(host).is_some() && !lost.contains(&host);
    aim.etcd.members = kept
        .members
        .iter()
        .filter(|(host, _)| back(host))
        .map(|(h, u)| (h.clone(), u.clone()))
        .collect();
    aim.etcd.dialled = aim.etcd.members.keys().cloned().collect();
    aim.scope = Scope::Members(aim.etcd.members.keys().cloned().collect());
    Next::Stage(Box::new(aim))
}

fn entries(real: &Real, name: &str) -> Option<u64> {
    let found = real.entries.iter().find(|(host, _)| host.as_str() == name);
    found.map(|(_, entries)| *entries)
}

/// Which members can be seen to hold their data, and how far each one's log goes.
fn what_is_left(left: &[&str], real: &Real) -> String {
    let one = |name: &&str| match entries(real, name) {
        Some(entries) => format!("{name} ({entries} entries)"),
        None => format!("{name} (it does not run)"),
    };
    match left {
        [] => "none can be seen to hold its data".to_owned(),
        left => {
            let all: Vec<String> = left.iter().map(one).collect();
            format!("only {} can be seen to hold its data", all.join(" and "))
        }
    }
}

/// Whose member it is, of those that the file wants or that this program made.
pub(super) fn owner(member: &Member, wanted: Wanted<'_>, kept: &Records) -> Option<HostName> {
    let mut known = wanted.iter().chain(&kept.members);
    known.find(|(host, url)| member.is_of(host, url)).map(|(host, _)| host.clone())
}

/// Whether a member had entries once and has none now: its own raft stops it, and it is let in again.
pub(super) fn emptied(host: &HostName, member: &Member, real: &Real) -> bool {
    !member.name.is_empty() && matches!(real.machine(host), Machine::Seen { data: false, .. })
}

/// Hosts of members that were taken out and whose data still stands where it would be started.
pub(super) fn left_behind<'a>(
    wanted: Wanted<'a>,
    kept: &'a Records,
    real: &'a Real,
    list: &[Member],
) -> impl Iterator<Item = &'a HostName> {
    let listed: BTreeSet<HostName> =
        list.iter().filter_map(|member| owner(member, wanted, kept)).collect();
    kept.left.iter().chain(kept.members.keys()).filter(move |host| {
        !wanted.contains_key(*host)
            && !listed.contains(*host)
            && matches!(real.machine(host), Machine::Seen { data: true, .. })
    })
}

/// Members that are recorded, that the file does not name any more, and that are dialled where it still has their
/// hosts: as long as they are there they are looked after like the others.
pub fn leaving(file: &Cluster, kept: &Records) -> BTreeMap<HostName, String> {
    let stays = |(host, url): &(&HostName, &String)| {
        let its = file.host(host).map(|host| file.peer_url(host.address));
        !file.etcd.members.contains(host) && its.as_ref() == Some(url)
    };
    kept.members.iter().filter(stays).map(|(host, url)| (host.clone(), url.clone())).collect()
}

/// What the next aim is made from, where etcd gave its list.
struct Ground<'a> {
    file: &'a Cluster,
    wanted: Wanted<'a>,
    leaving: BTreeMap<HostName, String>,
    kept: &'a Records,
    real: &'a Real,
    list: &'a [Member],
}

impl Ground<'_> {
    /// Whose member it is; `None` where it is in no record here.
    fn owner(&self, member: &Member) -> Option<HostName> {
        owner(member, self.wanted, self.kept)
    }

    fn owned(&self) -> impl Iterator<Item = (HostName, &Member)> {
        self.list.iter().filter_map(|member| Some((self.owner(member)?, member)))
    }

    /// Where the others dial a host's member by what is made for it; `None` where nothing is.
    fn made_at(&self, host: &HostName) -> Option<&String> {
        self.wanted.get(host).or_else(|| self.leaving.get(host))
    }

    fn voters(&self) -> impl Iterator<Item = (HostName, &Member)> {
        self.owned().filter(|(_, member)| !member.learner)
    }

    /// Voters that do not serve though their host can be looked at, and that could be brought back.
    fn down(&self) -> Vec<HostName> {
        let seen = |host: &HostName| {
            matches!(
                self.real.machine(host),
                Machine::Seen { data: true, .. } | Machine::Seen { spent: false, .. }
            )
        };
        let down = self.voters().filter(|(host, member)| {
            // One that is to be dialled elsewhere cannot be made again as it was.
            let here = self.made_at(host).is_some_and(|url| member.urls.contains(url));
            member.health == Health::Down && here && seen(host)
        });
        down.map(|(host, _)| host).collect()
    }

    /// A removal, where rule S1 permits it.
    fn remove(
        &self,
        host: &HostName,
        member: &Member,
        why: Why,
        held: &mut Vec<Held>,
    ) -> Option<Arm> {
        let without: Vec<Member> =
            self.list.iter().filter(|other| other.id != member.id).cloned().collect();
        match permits(self.list, &without) {
            Ok(()) => {
                Some(Arm::Remove { id: member.id.clone(), who: member.called().to_owned(), why })
            }
            Err(found) => {
                held.push(Held {
                    host: Some(host.clone()),
                    what: format!("taking {} out of the quorum", member.called()),
                    why: found,
                    fix:
                        "bring the other members back first: zoisite status says which do not serve"
                            .into(),
                });
                None
            }
        }
    }

    /// The next change, in a fixed order: what others began, the dead, moves, members that are down, new members, those
    /// that leave; then everything else.
    fn arm(&self, held: &mut Vec<Held>) -> Arm {
        // Somebody else's change is theirs: nothing of the membership is touched beside it.
        let strangers: Vec<&Member> =
            self.list.iter().filter(|member| self.owner(member).is_none()).collect();
        if !strangers.is_empty() {
            for member in strangers {
                let (who, what) =
                    (member.called(), if member.learner { "learner" } else { "member" });
                held.push(Held {
                    host: None,
                    what: "every change of members".into(),
                    why: format!(
                        "{who} is a {what} of the quorum that stands, reached at {}, and was not made here",
                        member.urls.join(", ")
                    ),
                    fix: format!(
                        "ask who did; then name it in etcd.members, or take it out with etcd's own client (member remove {})",
                        member.id
                    ),
                });
            }
            return self.fix_or_file();
        }
        if let Some((host, member)) = self.owned().find(|(_, member)| member.learner) {
            let wanted = self.wanted.get(&host).is_some_and(|url| member.urls.contains(url));
            if !wanted || emptied(&host, member, self.real) {
                return Arm::Uninstall { id: member.id.clone(), who: host.to_string() };
            }
            // By then it has shown that it follows.
            let votes = |other: &Member| match other.id == member.id {
                true => Member { learner: false, health: Health::Well, ..other.clone() },
                false => other.clone(),
            };
            let to: Vec<Member> = self.list.iter().map(votes).collect();
            let (why, fix) = match (self.real.machine(&host), permits(self.list, &to)) {
                (Machine::Seen { .. }, Ok(())) => {
                    return Arm::Promote { host, id: member.id.clone() };
                }
                (Machine::Seen { .. }, Err(found)) => (
                    found,
                    "bring the other members back first: zoisite status says which do not serve"
                        .to_owned(),
                ),
                (Machine::Silent, _) => (
                    format!("{host} is a learner, and does not answer"),
                    format!(
                        "bring {host} back, or take it out of etcd.members: then the learner is removed"
                    ),
                ),
            };
            let what = format!("giving {host} its vote, and every other change of members");
            held.push(Held { host: Some(host), what, why, fix });
            return self.fix_or_file();
        }
        let gone = |host: &HostName| !self.wanted.contains_key(host);
        let lost =
            |host: &HostName| self.real.machine(host) == Machine::Seen { data: false, spent: true };
        for (host, member) in self.voters().filter(|(_, member)| member.health != Health::Well) {
            let why = match (gone(&host), lost(&host)) {
                (true, _) => Why::Dead,
                (false, true) => Why::Lost,
                (false, false) => continue,
            };
            if let Some(arm) = self.remove(&host, member, why, held) {
                return arm;
            }
        }
        if let Some(arm) = self.moved(held) {
            return arm;
        }
        if !self.down().is_empty() {
            return Arm::Fix;
        }
        if let Some(arm) = self.new_members(held) {
            return arm;
        }
        // Nobody leaves while somebody who is to come cannot.
        let waits = !held.is_empty();
        let mut leaving = self.voters().filter(|(host, _)| gone(host));
        if let Some((host, member)) = leaving.next() {
            if waits {
                held.push(Held {
                    host: Some(host.clone()),
                    what: format!("taking {host} out of the quorum"),
                    why: "what comes before it waits".into(),
                    fix: "fix that first".into(),
                });
            } else if let Some(arm) = self.remove(&host, member, Why::Unwanted, held) {
                return arm;
            }
        }
        match left_behind(self.wanted, self.kept, self.real, self.list).next() {
            Some(host) => Arm::Aside { host: host.clone() },
            None => Arm::File,
        }
    }

    fn fix_or_file(&self) -> Arm {
        if self.down().is_empty() { Arm::File } else { Arm::Fix }
    }

    /// A member that the file wants to be dialled elsewhere.
    fn moved(&self, held: &mut Vec<Held>) -> Option<Arm> {
        let elsewhere = |host: &HostName, member: &Member| {
            self.wanted.get(host).is_some_and(|url| !member.urls.contains(url))
        };
        let moved = self.voters().filter(|(host, member)| elsewhere(host, member));
        // One that serves nobody where it is dialled comes first.
        let mut moved: Vec<(HostName, &Member)> = moved.collect();
        moved.sort_by_key(|(_, member)| member.health == Health::Well);
        let (host, member) = moved.into_iter().next()?;
        let url = self.wanted[&host].clone();
        let to: Vec<Member> = self
            .list
            .iter()
            .map(|other| match other.id == member.id {
                true => Member { urls: vec![url.clone()], ..other.clone() },
                false => other.clone(),
            })
            .collect();
        let why = match (self.real.machine(&host), permits(self.list, &to)) {
            (Machine::Seen { .. }, Ok(())) => {
                let (id, from) = (member.id.clone(), member.urls.join(", "));
                return Some(Arm::Move { host, id, from, url });
            }
            (Machine::Silent, _) => format!("{host} does not answer"),
            (Machine::Seen { .. }, Err(found)) => found,
        };
        held.push(Held {
            what: format!("having the others reach {host} at {url}"),
            host: Some(host),
            why,
            fix: "bring the members back first: zoisite status says which do not serve".into(),
        });
        None
    }

    /// A host that is to be a member and is none.
    fn new_members(&self, held: &mut Vec<Held>) -> Option<Arm> {
        let listed: BTreeSet<HostName> = self.owned().map(|(host, _)| host).collect();
        let new = self.file.etcd.members.iter().filter(|host| !listed.contains(*host));
        let ailing = self.voters().find(|(_, member)| member.health != Health::Well);
        for host in new {
            let Some(url) = self.wanted.get(host) else { continue };
            let (why, fix) = match (self.real.machine(host), &ailing) {
                (Machine::Silent, _) => (
                    format!("{host} does not answer"),
                    format!("zoisite login {host} says why; or take it out of etcd.members again"),
                ),
                (Machine::Seen { .. }, Some((other, _))) => (
                    format!(
                        "{other} is not known to be well, and etcd admits no member while a voter is away"
                    ),
                    format!(
                        "bring {other} back; if it is gone for good, take it out of etcd.members"
                    ),
                ),
                (Machine::Seen { data, .. }, None) => {
                    let (host, url, old_data) = (host.clone(), url.clone(), data);
                    return Some(Arm::Learn { host, url, old_data });
                }
            };
            let what = format!("letting {host} into the quorum");
            held.push(Held { host: Some(host.clone()), what, why, fix });
        }
        None
    }

    /// The next stage of a key's replacement, where every API server that there is can be brought to it (rule S13):
    /// one that does not know a key that another one encrypts by could not read what that one writes.
    fn replaces_key(&self, held: &mut Vec<Held>) -> Option<Arm> {
        let stage = self.kept.at_rest.as_ref()?;
        let (arm, key) = match stage.clone() {
            AtRestStage::Accept(key) => (Arm::AcceptKey { key: key.clone() }, key),
            AtRestStage::Rewrite(key) => (Arm::RewriteBy { key: key.clone() }, key),
        };
        let mut all_can = true;
        let what = format!("the replacement of the key for secrets by {key}");
        let control_planes = self.file.control_plane.hosts.iter();
        for host in control_planes.filter(|host| self.real.machine(host) == Machine::Silent) {
            all_can = false;
            held.push(Held {
                host: Some(host.clone()),
                what: what.clone(),
                why: format!("the API server of {host} could not be brought to it"),
                fix: format!("bring {host} back, or take it out of the file and retire it"),
            });
        }
        for host in &self.kept.old_control_planes {
            all_can = false;
            held.push(Held {
                host: Some(host.clone()),
                what: what.clone(),
                why: format!(
                    "an API server may still run on {host}, which is no control plane of the file's"
                ),
                fix: format!("zoisite retire {host}, once it is out of the file"),
            });
        }
        all_can.then_some(arm)
    }

    /// The next stage of an authority's replacement, where every host that there is can be brought to it (rule S14).
    fn replaces_authority(&self, held: &mut Vec<Held>) -> Option<Arm> {
        let stage = self.kept.trust?;
        let what = format!("the replacement of {}", stage.what());
        let dialled = self.file.hosts.iter().filter(|host| !host.offline);
        let silent = dialled.map(|host| &host.name);
        let silent = silent.filter(|host| self.real.machine(host) == Machine::Silent).map(|host| {
            let why = format!("{host} could not be brought to it");
            (host, why, format!("bring {host} back, or take it out of the file and retire it"))
        });
        let departed = self.kept.departed.iter().map(|host| {
            let why = format!("{host} left the file, and may still connect to others");
            (host, why, format!("zoisite retire {host}"))
        });
        // Nodes know nothing of the others.
        let of_nodes = matches!(
            stage,
            TrustStage::Believe(AuthorityKind::Cluster)
                | TrustStage::SignBy(AuthorityKind::Cluster)
                | TrustStage::Forget(AuthorityKind::Cluster)
        );
        let unbrought = self.kept.unbrought.iter().filter(|_| of_nodes).map(|host| {
            let why = format!("no report of {host} says yet that it has this stage");
            let fix = format!(
                "carry it there: zoisite join-file write {host}, and then its report (zoisite reports); or take it out of the file and retire it"
            );
            (host, why, fix)
        });
        let before = held.len();
        held.extend(silent.chain(departed).chain(unbrought).map(|(host, why, fix)| Held {
            host: Some(host.clone()),
            what: what.clone(),
            why,
            fix,
        }));
        (held.len() == before).then_some(Arm::Trust { stage })
    }

    fn aim(&self, arm: Arm, held: Vec<Held>) -> Aim {
        let at = |url: &str| url.rsplit_once(':').map(|(host, _)| host.to_owned());
        let mut members = BTreeMap::new();
        let mut initial = Vec::new();
        let mut votes = BTreeSet::new();
        for member in self.list {
            let owner = self.owner(member);
            let url = member.urls.first().cloned().unwrap_or_default();
            let name = match (&owner, member.name.is_empty()) {
                (Some(host), true) => host.to_string(),
                _ => member.name.clone(),
            };
            initial.push((name, url.clone()));
            let Some((host, wanted)) = owner.and_then(|host| {
                let wanted = self.made_at(&host)?;
                Some((host, wanted))
            }) else {
                continue;
            };
            // One that is to move and has not is held: what it has now cannot be made from the file any more.
            let elsewhere = !member.urls.contains(wanted);
            let answers = !elsewhere || at(&url) == at(wanted);
            if !member.learner && answers {
                votes.insert(host.clone());
            }
            if !elsewhere {
                members.insert(host, url);
            }
        }
        let all = |members: &BTreeMap<HostName, String>| {
            Scope::Members(members.keys().cloned().collect())
        };
        let nobody = Scope::Members(BTreeSet::new());
        let scope = match &arm {
            Arm::File | Arm::Trust { .. } => Scope::Whole,
            Arm::Mesh { .. } => Scope::Mesh,
            Arm::Fix | Arm::Promote { .. } => all(&members),
            Arm::Learn { host, url, .. } => {
                members.insert(host.clone(), url.clone());
                initial.push((host.to_string(), url.clone()));
                all(&members)
            }
            Arm::Move { host, url, .. } => {
                members.insert(host.clone(), url.clone());
                all(&members)
            }
            Arm::Remove { why: Why::Unwanted, .. }
            | Arm::AcceptKey { .. }
            | Arm::RewriteBy { .. } => Scope::Dialling,
            Arm::Remove { .. } | Arm::Uninstall { .. } | Arm::Aside { .. } => nobody,
            // It is aimed at before anybody is asked for the list.
            Arm::Restore { from, .. } => Scope::Members(from.hosts.clone()),
        };
        let mut dialled: Vec<HostName> =
            self.file.etcd.members.iter().filter(|host| votes.contains(*host)).cloned().collect();
        if dialled.is_empty() {
            // Nobody votes yet who stays.
            dialled.extend(votes);
        }
        if dialled.is_empty() {
            dialled.clone_from(&self.file.etcd.members);
        }
        Aim { arm, etcd: EtcdAim { members, initial: Some(initial), dialled }, scope, held }
    }
}
