//! What newcomers do at their first boot: they report in.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::holdings::HostHoldings;
use zoisite_core::item::KeyText;
use zoisite_core::join_file::{Addressed, Errand, Presented, join_file};
use zoisite_core::pki::{AuthorityKind, Secret};
use zoisite_core::token::{TokenRecord, TokenState};
use zoisite_store::join_files::{Carried, carried, put_carried, signer, words};
use zoisite_store::{FreshKeys, State, trust};

use super::join_file::{Tokens, publish};
use crate::failure::{Failure, Kind};
use crate::site::{Site, begin_run, now};
use crate::view;

/// Join files by which newcomers report in, for their seeds: with a token each where the cluster stands, so that their letters
/// come by themselves.
pub fn reports(
    site: &Site,
    state: &mut State,
    hosts: &[&Host],
    seconds: i64,
) -> Result<BTreeMap<HostName, Secret>, Failure> {
    let names: Vec<HostName> = hosts.iter().map(|host| host.name.clone()).collect();
    let strongbox = site.strongbox()?;
    let by = signer(state, strongbox, &FreshKeys)?;
    let words = words(state, strongbox, &names)?;
    let run = begin_run(state, "first-boot write --newcomers")?;
    let done = (|| {
        let tokens = tokens(site, state, &names, seconds)?;
        let authority = state.ledger()?.bundle(AuthorityKind::Cluster).unwrap_or_default();
        let identity = state.cluster_id()?;
        let (number, made) = (run.generation, now());
        let ends =
            made.saturating_add(SignedDuration::from_secs(seconds)).unwrap_or(Timestamp::MAX);
        let mut files = BTreeMap::new();
        let mut written = carried(state)?;
        for host in hosts {
            let to =
                Addressed { cluster: &site.cluster, identity: &identity, host, number, made, ends };
            let token = tokens.get(&host.name);
            let by_token = token.map(|(_, token)| Presented { authority: &authority, token });
            let errand = Errand::Report { by: by_token };
            let how = (KeyText::Masked, &words[&host.name], &by);
            let text =
                join_file(to, errand, &HostHoldings::new(&host.name), how).map_err(|why| {
                    Failure::new(
                        Kind::Run,
                        format!("writing what {} does: {why}", host.name),
                        "try again",
                    )
                })?;
            files.insert(host.name.clone(), text);
            let letter = written.remove(&host.name).and_then(|carried| carried.letter);
            let token = token.map(|(record, _)| record.id.clone());
            let errand = errand.what().to_owned();
            written
                .insert(host.name.clone(), Carried { number, errand, made, ends, token, letter });
        }
        written.retain(|name, _| files.contains_key(name));
        put_carried(state, written)?;
        Ok::<_, Failure>(files)
    })();
    let outcome = match &done {
        Ok(files) => format!("wrote {}", view::count(files.len(), "join file")),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    state.end_run(run, &outcome, now())?;
    done
}

/// A token for each, where the cluster stands; those of before are taken back.
fn tokens(
    site: &Site,
    state: &mut State,
    names: &[HostName],
    seconds: i64,
) -> Result<Tokens, Failure> {
    let mut out = Tokens::new();
    if state.begun()?.is_none_or(|begun| begun.formed.is_none()) {
        return Ok(out);
    }
    let recipients = site.recipients(state)?;
    let of_these = |token: &TokenRecord| matches!(&token.hosts[..], [one] if names.contains(one));
    let usable = |token: &TokenRecord| of_these(token) && token.state(now()) == TokenState::Usable;
    let old: Vec<TokenRecord> = state.tokens()?.into_iter().filter(usable).collect();
    for name in names {
        let hosts = vec![name.clone()];
        let made = trust::make_join_token(state, &recipients, hosts, 1, seconds, now(), false)?;
        out.insert(name.clone(), made);
    }
    publish(site, state, &out, old)?;
    Ok(out)
}
