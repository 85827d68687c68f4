//! `zoisite pki prove --on-hosts`: what lies on hosts, and what is shown to whom there.

use std::collections::{BTreeSet, HashMap};
use std::process::ExitCode;

use futures_util::StreamExt as _;
use serde_json::json;
use zoisite_core::adopt::HeldThere;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::holdings::Part;
use zoisite_core::item::{Differs, Item, Pair};
use zoisite_core::pki::{
    AuthorityKind, Edge, Ledger, LedgerEntry, Lying, Party, Profile, San, edges, misfits,
    run_client,
};
use zoisite_core::script::Depth;
use zoisite_core::sequence::differences;
use zoisite_reach::{Access, Hosts};
use zoisite_store::{FreshKeys, State};

use crate::commands::block_on;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, now};
use crate::view::{self, Style, count};

/// Connections that are tried at once.
const AT_ONCE: usize = 12;

/// A connection as one host makes it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Dialled {
    from: HostName,
    /// Whoever may answer there: one host, or all of them behind the API endpoint.
    to: BTreeSet<HostName>,
    profile: Profile,
    /// What is dialled, and as whom it must be known.
    at: String,
    port: u16,
    name: San,
}

impl std::fmt::Display for Dialled {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let to: Vec<&str> = self.to.iter().map(HostName::as_str).collect();
        let Self { from, profile, name, port, .. } = self;
        write!(f, "{from} → {} ({profile}), reached as {name} port {port}", to.join(" or "))
    }
}

/// Every connection that hosts make, each once: what several programs of a host dial alike is tried for all of them.
fn dialled(cluster: &Cluster) -> Vec<Dialled> {
    let mut out: Vec<Dialled> = Vec::new();
    for edge in edges(cluster) {
        let Edge { client, server, server_profile: Some(profile), dialled: name, port, .. } = edge
        else {
            continue;
        };
        let Some(server) = server.host().cloned() else { continue };
        let clients: Vec<HostName> = match client {
            Party::Host(host) => vec![host],
            Party::Nodes(_) => cluster.nodes().iter().map(|host| host.name.clone()).collect(),
            // A run dials through the server's own host; people dial what nodes do.
            Party::Run | Party::Monitoring => vec![server.clone()],
            Party::People | Party::Extensions => continue,
        };
        // Nobody can ask an offline host.
        let asked = |from: &HostName| !cluster.is_offline(from);
        let clients: Vec<HostName> = clients.into_iter().filter(asked).collect();
        // A host's own name need not resolve elsewhere: it is dialled by its address, and known by its name.
        let at = match (&name, cluster.host(&server)) {
            (San::Dns(name), Some(host)) if *name == host.name.as_str() => host.address.to_string(),
            (name, _) => name.to_string(),
        };
        for from in clients {
            let to = BTreeSet::from([server.clone()]);
            let one = Dialled { from, to, profile, at: at.clone(), port, name: name.clone() };
            let same = |known: &&mut Dialled| {
                (&known.from, known.profile, &known.at, known.port, &known.name)
                    == (&one.from, one.profile, &one.at, one.port, &one.name)
            };
            match out.iter_mut().find(same) {
                Some(known) => known.to.extend(one.to),
                None => out.push(one),
            }
        }
    }
    out
}

/// What was found wrong, and how much was well.
#[derive(Default)]
struct Proof {
    files: usize,
    shown: usize,
    refused: usize,
    /// What, and of which host where it lies there.
    wrong: Vec<(Option<HostName>, String)>,
}

pub fn on_hosts(site: &Site, options: &Options) -> Result<ExitCode, Failure> {
    let ledger = site.raised_state()?.ledger()?;
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      scratch: &mut State,
                      sighting: &mut Sighting| {
        prepared.turn_to_what_stands(site, scratch, &sighting.looks)?;
        let mut proof = Proof::default();
        files(prepared, sighting, site, &*reach, &ledger, &mut proof).await?;
        for trouble in sighting.troubles() {
            if let Some(host) = &trouble.host {
                proof.wrong.push((Some(host.clone()), trouble.answer.clone()));
            }
        }
        let away = |host: &HostName| !matches!(sighting.looks.get(host), Some(Ok(_)));
        let all = dialled(&site.cluster);
        let current = ledger.current();
        let each = all.iter().filter(|one| !away(&one.from)).map(|one| {
            let (known, reach) = ((&ledger, &current), &*reach);
            async move { (one, tried(reach, known, one).await) }
        });
        let tried: Vec<_> = futures_util::stream::iter(each).buffered(AT_ONCE).collect().await;
        for (one, came) in tried {
            match came {
                Ok(()) => proof.shown += 1,
                Err(why) => proof.wrong.push((None, format!("{one}: {why}"))),
            }
        }
        strangers(site, reach, &ledger, &away, &mut proof).await?;
        Ok(proof)
    };
    let how = (Part::ALL, Depth::Deep, 0);
    let (_, _, proof) = block_on(road::visit(site, how, work))??;

    tell(options, &proof)
}

/// Certificates, keys and bundles as they lie on hosts: content, owner, mode, and the key beside each certificate.
async fn files(
    prepared: &Prepared,
    sighting: &Sighting,
    site: &Site,
    reach: &Hosts,
    ledger: &Ledger,
    proof: &mut Proof,
) -> Result<(), Failure> {
    let (edges, now) = (edges(&site.cluster), now());
    let sums = site.sums_if_any()?;
    for holdings in &prepared.holdings.hosts {
        let Some(Ok(observed)) = sighting.looks.get(&holdings.host) else { continue };
        let of_trust = |item: &Item| match item {
            Item::Pair(_) => true,
            Item::File(file) => file.path.ends_with("authority.crt"),
            _ => false,
        };
        let of_trust = |at: usize| of_trust(&holdings.items[at]);
        let mut wrong = differences(holdings, observed, &sums);
        wrong.retain(|difference| of_trust(difference.item));
        let all = (0..holdings.items.len()).filter(|at| of_trust(*at)).count();
        proof.files += all - wrong.len();
        // What lies there is read only where something is wrong with it.
        let host = &holdings.host;
        let held = match wrong.iter().any(|difference| difference.how == Differs::Content) {
            true => {
                reach.held_by(&site.cluster, host).await.map_err(|t| Failure::troubles([&t]))?
            }
            false => HeldThere::default(),
        };
        for difference in wrong {
            let lies = match (&holdings.items[difference.item], &difference.how) {
                (Item::Pair(pair), Differs::Content) => lying(pair, host, &held),
                _ => None,
            };
            let why = lies.map(|lying| misfits(lying, &edges, ledger, now)).unwrap_or_default();
            let why = match why.is_empty() {
                true => difference.to_string(),
                false => format!("{difference}: {}", why.join("; ")),
            };
            proof.wrong.push((Some(host.clone()), why));
        }
    }
    Ok(())
}

/// What lies on a host in the place of a pair.
fn lying<'a>(pair: &Pair, host: &'a HostName, held: &'a HeldThere) -> Option<Lying<'a>> {
    let profile = Profile::at(&pair.path)?;
    let (pem, key_sha256) = held.certificates.get(&profile)?;
    Some(Lying { profile, host, pem, key_sha256 })
}

/// Dials it, and holds what is shown against what is in force.
async fn tried(
    reach: &Hosts,
    (ledger, current): (&Ledger, &HashMap<(Profile, HostName), &LedgerEntry>),
    one: &Dialled,
) -> Result<(), String> {
    let authorities = ledger.bundle(one.profile.authority()).unwrap_or_default();
    let at = (one.at.as_str(), one.port);
    let shown = reach.shown_to(&one.from, at, &one.name, &authorities).await;
    let shown = shown.map_err(|why| in_words(&why, one))?;
    let expected = one.to.iter().filter_map(|host| current.get(&(one.profile, host.clone())));
    if expected.into_iter().any(|entry| entry.sha256 == shown) {
        return Ok(());
    }
    Err(match ledger.entries.iter().find(|entry| entry.sha256 == shown) {
        Some(old) if !old.is_in_force() => format!(
            "it shows a certificate that was replaced (until {}): its process has not read the one that took its place",
            view::day(old.not_after)
        ),
        Some(other) => format!("it shows the certificate {}", other.label()),
        None => "it shows a certificate that was not issued here".to_owned(),
    })
}

/// What a TLS library says, in the words of this job.
fn in_words(why: &str, one: &Dialled) -> String {
    let has = |word: &str| why.contains(word);
    let said = match () {
        () if has("UnknownIssuer") || has("BadSignature") => {
            format!(
                "no {} authority that is believed issued what it shows",
                one.profile.authority()
            )
        }
        () if has("NotValidForName") => {
            format!("the certificate that it shows does not name {}", one.name)
        }
        () if has("Expired") => "the certificate that it shows has ended".to_owned(),
        () if has("NotValidYet") => "the certificate that it shows is not valid yet".to_owned(),
        () if has("alert") => "its process cannot use its own certificate and key".to_owned(),
        () if has("refused") || has("reset") || has("eof") => "nothing serves there".to_owned(),
        () => return why.to_owned(),
    };
    format!("{said} ({why})")
}

/// Members refuse clients with a certificate of an authority that is none of theirs.
async fn strangers(
    site: &Site,
    reach: &Hosts,
    ledger: &Ledger,
    away: &dyn Fn(&HostName) -> bool,
    proof: &mut Proof,
) -> Result<(), Failure> {
    let cluster = &site.cluster;
    for (profile, kind, port) in [
        (Profile::EtcdServer, AuthorityKind::EtcdClient, cluster.etcd.client_port),
        (Profile::EtcdPeer, AuthorityKind::EtcdPeer, cluster.etcd.peer_port),
    ] {
        let stranger = stranger(cluster, ledger, kind)?;
        for member in &cluster.etcd.members {
            let Some(host) = cluster.host(member).filter(|_| !away(member)) else { continue };
            let (at, name) = (host.address.to_string(), San::Ip(host.address));
            match reach.refuses(member, (&at, port), &name, &stranger).await {
                Ok(true) => proof.refused += 1,
                Ok(false) => proof.wrong.push((
                    Some(member.clone()),
                    format!("{profile} at port {port}: it lets in who shows a certificate of another authority"),
                )),
                // That nobody is there was reported already.
                Err(_) => {}
            }
        }
    }
    Ok(())
}

/// A certificate of an authority that was made for this and that no server believes.
fn stranger(cluster: &Cluster, ledger: &Ledger, kind: AuthorityKind) -> Result<Access, Failure> {
    use zoisite_core::pki::Authority;
    let failed = |error: zoisite_core::pki::PkiError| {
        Failure::new(Kind::Run, error.to_string(), "run the same command again")
    };
    let now = now();
    let made = Authority::make(cluster, (kind, 0), None, &FreshKeys, now);
    let (authority, _) = made.map_err(failed)?;
    let wanted = run_client(cluster, Profile::RunEtcd);
    let (entry, key) = authority.issue(&wanted, &FreshKeys, now).map_err(failed)?;
    let believed = ledger.bundle(kind).unwrap_or_default();
    Ok(Access { authority: believed, certificate: entry.pem, key, registry_login: None })
}

fn tell(options: &Options, proof: &Proof) -> Result<ExitCode, Failure> {
    if options.json {
        let wrong: Vec<_> =
            proof.wrong.iter().map(|(host, what)| json!({"host": host, "what": what})).collect();
        view::json(&json!({
            "files": proof.files, "shown": proof.shown, "refused": proof.refused, "wrong": wrong,
        }));
    } else {
        let style = Style::stdout();
        for (host, what) in &proof.wrong {
            let of = host.as_ref().map_or(String::new(), |host| format!("{host}: "));
            view::out(&format!("{} {of}{what}", style.bad("✗")));
        }
        let good = style.good("✓");
        view::out(&format!(
            "{good} {} on hosts match the record: content, key, owner, mode",
            count(proof.files, "pairs and bundle")
        ));
        view::out(&format!(
            "{good} {} dialled from their hosts: servers show the recorded certificates, valid for the names that clients use",
            count(proof.shown, "connection")
        ));
        view::out(&format!(
            "{good} {} of etcd members refuse a client certificate of another authority",
            count(proof.refused, "port")
        ));
    }
    match proof.wrong.is_empty() {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::reported(Kind::Findings)),
    }
}
