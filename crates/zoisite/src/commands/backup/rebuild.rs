//! `zoisite backup rebuild`: without any backup, the record is made again of what hosts hold.

use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;

use serde_json::json;
use zoisite_core::adopt::{HeldThere, SHARED_FILES, contradicted};
use zoisite_core::cluster::{HostName, KeysMade, Role};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::HostHoldings;
use zoisite_core::pki::{AuthorityCertificate, AuthorityKind, KeyAt, Ledger, LedgerEntry, Secret};
use zoisite_core::script::{Depth, Observed};
use zoisite_core::sequence::{Begun, MachinePin};
use zoisite_reach::{Hosts, Reach as _};
use zoisite_store::{Adopted, Met, SqliteRecords, adopt};

use crate::commands::block_on;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::{Site, begin_run, end_run, now};
use crate::view::looking::of_each;
use crate::view::{self, Style, count, names};

/// Hosts that are asked at once.
const AT_ONCE: usize = 16;

pub fn run(options: &Options) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    if SqliteRecords::exists(&site.store) {
        let what = format!(
            "there is a state in {} already, and it is not written over",
            site.store.display()
        );
        let fix = "where it is of no use, move that folder aside first";
        return Err(Failure::new(Kind::Usage, what, fix));
    }
    let (adopted, silent) = block_on(look(&site))??;
    let mut work = site.working()?;
    site.recipients(&mut work.state)?;
    adopt(&mut work.state, site.strongbox()?, &adopted)?;
    let run = begin_run(&mut work.state, "backup rebuild")?;
    let certificates = count(adopted.ledger.entries.len(), "certificate");
    end_run(&mut work.state, run, &format!("{certificates} found on hosts"))?;
    if options.json {
        view::json(&json!({
            "cluster": adopted.begun.identity,
            "certificates": adopted.ledger.entries.len(),
            "authorities": adopted.ledger.authorities.iter().map(|one| one.kind).collect::<Vec<_>>(),
            "members": adopted.begun.members,
            "lost": AuthorityKind::ALL.iter().map(|kind| format!("the key of the {kind} authority")).collect::<Vec<_>>(),
        }));
    } else {
        tell(&site, &adopted);
    }
    match silent.is_empty() {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::troubles(&silent)),
    }
}

fn tell(site: &Site, adopted: &Adopted) {
    let style = Style::stdout();
    let members: Vec<&HostName> = adopted.begun.members.keys().collect();
    view::out(&format!(
        "{} {} is known here again by what its hosts hold: {} of {} authorities, members {}, {} machines",
        style.good("✓"),
        site.cluster.name,
        count(adopted.ledger.entries.len(), "certificate"),
        adopted.ledger.authorities.len(),
        names(&members),
        adopted.pins.len()
    ));
    view::out(
        "\nWhat cannot come back: the authorities' keys. No host can join, nothing can be signed or renewed, and the API \
         not be asked, as all of that needs a certificate that is signed first. The cluster runs on until its \
         certificates end (zoisite pki list); zoisite uninstall takes it back, and its snapshots can be opened. \
         A backup that turns up is brought by zoisite backup restore, in another folder.",
    );
}

/// Everything that hosts hold, and which of them did not answer.
async fn look(site: &Site) -> Result<(Adopted, Vec<Trouble>), Failure> {
    let reach = road::hosts(site, &BTreeMap::new(), 0)?;
    let done = look_at(site, &reach).await;
    reach.close().await;
    done
}

async fn look_at(site: &Site, reach: &Hosts) -> Result<(Adopted, Vec<Trouble>), Failure> {
    let cluster = &site.cluster;
    let hosts: Vec<HostName> = cluster.hosts.iter().map(|host| host.name.clone()).collect();
    let found = of_each(&hosts, AT_ONCE, async |host| {
        let address = cluster.host(host).map(|host| host.address);
        let member = cluster.holds(host, Role::EtcdMember);
        let holdings = match member {
            true => HostHoldings::of_old_member(cluster, (host, address), "", None),
            false => HostHoldings::new(host),
        };
        let seen = reach.observe(&holdings, Depth::Quick).await?;
        let held = reach.held_by(cluster, host).await?;
        Ok::<_, Trouble>((seen, held))
    });
    let mut silent = Vec::new();
    let mut all: BTreeMap<HostName, (Observed, HeldThere)> = BTreeMap::new();
    for (host, found) in found.await {
        match found {
            Ok(found) => {
                all.insert(host, found);
            }
            Err(trouble) => silent.push(trouble),
        }
    }
    let begun = begun(site, &all, &silent)?;
    let ledger = ledger(site, &all)?;
    let [service_accounts_key, encryption] = shared_by(site, reach, &all).await?;
    let public = all.values().find_map(|(_, held)| held.service_accounts.clone());
    let met = all.keys().filter_map(|host| {
        let known = cluster.host(host)?;
        let login = cluster.login_of(known);
        Some((host.clone(), Met { address: known.address, login }))
    });
    let adopted = Adopted {
        begun,
        ledger,
        service_accounts: public.unwrap_or_default(),
        service_accounts_key,
        encryption,
        pins: all.iter().map(|(host, (seen, _))| (host.clone(), MachinePin::of(seen))).collect(),
        met: met.collect(),
        facts: all
            .iter()
            .filter_map(|(host, (seen, _))| Some((host.clone(), seen.facts.clone()?)))
            .collect(),
        subnets: all
            .iter()
            .filter(|(_, (_, held))| !held.subnets.is_empty())
            .map(|(host, (_, held))| (host.clone(), held.subnets.clone()))
            .collect(),
    };
    Ok((adopted, silent))
}

/// The record of the cluster's beginning, by hosts' marks and etcd's own word.
fn begun(
    site: &Site,
    all: &BTreeMap<HostName, (Observed, HeldThere)>,
    silent: &[Trouble],
) -> Result<Begun, Failure> {
    let refused = |what: String, fix: &str| Failure::new(Kind::Refused, what, fix);
    let first_line = |mark: &String| {
        let line = mark.lines().next().unwrap_or_default().to_owned();
        let (identity, epoch) = line.split_once(' ').unwrap_or((&line, "1"));
        (identity.to_owned(), epoch.trim().parse::<u32>().unwrap_or(1))
    };
    let marks: BTreeMap<&HostName, &String> =
        all.iter().filter_map(|(host, (_, held))| Some((host, held.mark.as_ref()?))).collect();
    let identities: BTreeSet<String> = marks.values().map(|mark| first_line(mark).0).collect();
    let identity = match identities.len() {
        0 => {
            let failure = refused(
                "no host carries a cluster: there is nothing to adopt".into(),
                "is this the right cluster file? zoisite raise begins a new one",
            );
            return Err(match silent.is_empty() {
                true => failure,
                false => failure.and(Failure::troubles(silent)),
            });
        }
        1 => identities.into_iter().next().unwrap_or_default(),
        _ => {
            let each: Vec<String> = marks
                .iter()
                .map(|(host, mark)| format!("{host} carries {}", first_line(mark).0))
                .collect();
            let what = format!("hosts carry more than one cluster: {}", each.join(", "));
            return Err(refused(what, "take the hosts of the other one out of the cluster file"));
        }
    };
    let against: BTreeSet<String> =
        marks.values().flat_map(|mark| contradicted(&site.cluster, mark)).collect();
    if !against.is_empty() {
        let what = against.into_iter().collect::<Vec<_>>().join("; ");
        return Err(refused(what, "put the cluster file right: hosts know what it was"));
    }
    let mut fresh = Begun::of(&site.cluster, &identity, now());
    fresh.epoch = marks.values().map(|mark| first_line(mark).1).max().unwrap_or(1);
    let etcd = || all.values().map(|(seen, _)| &seen.etcd);
    let formed = etcd().find_map(|etcd| {
        let status = etcd.status.as_ref().filter(|status| status.has_leader());
        status.map(|status| status.cluster_id.clone()).or_else(|| etcd.formed.clone())
    });
    let listed = etcd().find_map(|etcd| etcd.members.as_ref());
    if let Some(listed) = listed {
        let known = listed.iter().filter_map(|member| {
            let host = HostName::new(&member.name).ok()?;
            Some((host, member.peer_urls.first()?.clone()))
        });
        fresh.members = known.collect();
    }
    fresh.formed = formed;
    Ok(fresh)
}

/// Authorities and certificates, as found.
fn ledger(site: &Site, all: &BTreeMap<HostName, (Observed, HeldThere)>) -> Result<Ledger, Failure> {
    let unreadable = |error: zoisite_core::pki::PkiError| {
        let fix = "zoisite backup rebuild reads what Zoisite put there, and nothing else";
        Failure::new(Kind::Run, error.to_string(), fix)
    };
    let mut authorities: Vec<AuthorityCertificate> = Vec::new();
    for (kind, bundle) in all.values().flat_map(|(_, held)| &held.authorities) {
        let first = AuthorityCertificate::of_bundle(*kind, bundle).map_err(unreadable)?;
        let known = authorities.iter().any(|one| one.kind == *kind);
        authorities.extend(first.into_iter().take(1).filter(|_| !known));
    }
    let missing: Vec<&str> = AuthorityKind::ALL
        .iter()
        .filter(|kind| !authorities.iter().any(|one| one.kind == **kind))
        .map(|kind| kind.id())
        .collect();
    if !missing.is_empty() {
        let what = format!("no host that answers holds the authorities {}", missing.join(", "));
        let fix = "a member and a control plane must answer: zoisite login says why they do not";
        return Err(Failure::new(Kind::Run, what, fix));
    }
    let mut entries = Vec::new();
    for (host, (_, held)) in all {
        for (profile, (pem, key)) in &held.certificates {
            let found = LedgerEntry::found((*profile, host), pem, key, &authorities);
            // Where it was made nothing shows: as the file says, it has not to be made again for that.
            let key_at = match site.cluster.certificates.keys_made_of(*profile) {
                KeysMade::OnHosts => KeyAt::Host,
                KeysMade::Here => KeyAt::Strongbox,
            };
            entries.push(LedgerEntry { key_at, ..found.map_err(unreadable)? });
        }
    }
    Ok(Ledger { authorities, entries })
}

/// What API servers share, from one that holds it: into a folder that only its owner reads, and out of it again.
async fn shared_by(
    site: &Site,
    reach: &Hosts,
    all: &BTreeMap<HostName, (Observed, HeldThere)>,
) -> Result<[Secret; 2], Failure> {
    let holder = all.iter().find(|(_, (_, held))| held.service_accounts.is_some());
    let (host, _) = holder.ok_or_else(|| {
        let what = "no control plane that answers holds what API servers share";
        Failure::new(Kind::Run, what, "zoisite login says why control planes do not answer")
    })?;
    let folder = tempfile::Builder::new().prefix("adopting-").tempdir_in(&site.folder);
    let folder = folder.map_err(|e| Failure::file("making a folder in", &site.folder, &e))?;
    let mut texts = Vec::new();
    for path in SHARED_FILES {
        let here = folder.path().join("file");
        reach
            .fetch(host, path, &here, &|_| ())
            .await
            .map_err(|trouble| Failure::troubles([&trouble]))?;
        let text = std::fs::read_to_string(&here);
        texts.push(Secret::new(text.map_err(|e| Failure::file("reading", &here, &e))?));
        std::fs::remove_file(&here).map_err(|e| Failure::file("removing", &here, &e))?;
    }
    texts.try_into().map_err(|_| {
        Failure::new(Kind::Run, "what API servers share did not come whole", "try again")
    })
}
