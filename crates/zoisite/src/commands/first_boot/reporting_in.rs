//! What unnamed machines do at their first boot: they report in.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::holdings::HostHoldings;
use zoisite_core::item::KeyText;
use zoisite_core::join_file::{Addressed, Errand, Presented, join_file};
use zoisite_core::pki::{AuthorityKind, Secret};
use zoisite_core::token::report_token_object;
use zoisite_store::join_files::{Carried, carried, put_carried, signer, words};
use zoisite_store::{FreshKeys, State};

use crate::commands::join_file::{Tokens, tokens};
use crate::failure::{Failure, Kind};
use crate::site::{Site, begin_run, end_run, now};
use crate::view;

/// Join files by which unnamed machines report in, for their seeds: with a token each where the cluster stands, so that their reports
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
    let run = begin_run(state, "first-boot write --unnamed")?;
    let done = (|| {
        let tokens = match state.begun()?.is_some_and(|begun| begun.formed.is_some()) {
            true => {
                let all = names.iter().cloned();
                tokens(site, state, &all.clone().collect(), (all, report_token_object), seconds)?
            }
            false => Tokens::new(),
        };
        let authority = state.ledger()?.bundle(AuthorityKind::Cluster).unwrap_or_default();
        let identity = state.cluster_id()?;
        let (number, made) = (run.generation, now());
        let ends =
            made.saturating_add(SignedDuration::from_secs(seconds)).unwrap_or(Timestamp::MAX);
        let (mut files, mut written) = (BTreeMap::new(), Vec::new());
        let mut known = carried(state)?;
        for host in hosts {
            let to = Addressed {
                cluster: &site.cluster,
                identity: &identity,
                host,
                number,
                made,
                expires: ends,
            };
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
            let report = known.remove(&host.name).and_then(|carried| carried.report);
            let token = token.map(|(record, _)| record.id.clone());
            let errand = errand.what().to_owned();
            written.push((
                host.name.clone(),
                Carried {
                    number,
                    errand,
                    made,
                    expires: ends,
                    token,
                    report,
                    brings: None,
                    holds: None,
                },
            ));
        }
        put_carried(state, written)?;
        Ok::<_, Failure>(files)
    })();
    let outcome = match &done {
        Ok(files) => format!("wrote {}", view::count(files.len(), "join file")),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(state, run, &outcome)?;
    done
}
