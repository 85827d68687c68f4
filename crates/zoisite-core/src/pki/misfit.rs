//! Why what lies on a host in a certificate's place is not what must lie there.

use jiff::Timestamp;

use super::edges::{Edge, Party};
use super::issued::LedgerEntry;
use super::ledger::Ledger;
use super::profile::Profile;
use super::proof::{day, prove};
use crate::cluster::HostName;

/// What a host holds in the place of a certificate.
#[derive(Clone, Copy, Debug)]
pub struct Lying<'a> {
    /// Which certificate should lie there.
    pub profile: Profile,
    /// On which host.
    pub host: &'a HostName,
    /// What does, PEM.
    pub pem: &'a str,
    /// SHA-256 of the key beside it, in hexadecimal.
    pub key_sha256: &'a str,
}

/// Every reason why it cannot do what it lies there for: whose it is, and which connections of `edges` would fail by it.
/// None where it could be used and only is another one than was issued last.
pub fn misfits(lying: Lying<'_>, edges: &[Edge], ledger: &Ledger, now: Timestamp) -> Vec<String> {
    let Lying { profile, host, pem, key_sha256 } = lying;
    let mut out = Vec::new();
    let found = match LedgerEntry::found((profile, host), pem, key_sha256, &ledger.authorities) {
        Ok(found) => found,
        Err(error) => return vec![error.to_string()],
    };
    let recorded = ledger.entries.iter().find(|entry| entry.sha256 == found.sha256);
    match recorded {
        None => out.push("it was not issued here".to_owned()),
        Some(entry) if (entry.profile, entry.host.as_ref()) != (profile, Some(host)) => {
            out.push(format!("it is the certificate {}", entry.label()));
        }
        Some(entry) if !entry.is_in_force() => {
            out.push(format!("it is one that was replaced, until {}", day(entry.not_after)));
        }
        Some(entry) if entry.key_sha256 != key_sha256 => {
            out.push("the key beside it is not the one that it was issued for".to_owned());
        }
        Some(_) => {}
    }
    let expected = ledger.current().get(&(profile, host.clone())).map(|entry| (*entry).clone());
    let chain = |pem: &str| pem.matches("-----BEGIN CERTIFICATE-----").count();
    if let Some(expected) = &expected
        && chain(pem) < chain(&expected.pem)
    {
        out.push(
            "the certificates above it are missing: who believes a root alone would not believe it"
                .to_owned(),
        );
    }
    let mut there = ledger.clone();
    there.entries.retain(|entry| {
        (entry.profile, entry.host.as_ref()) != (profile, Some(host)) || !entry.is_in_force()
    });
    there.entries.push(found);
    let party = Party::Host(host.clone());
    let concerns = |edge: &&Edge| {
        (edge.server == party && edge.server_profile == Some(profile))
            || (edge.client == party && edge.client_profile == Some(profile))
    };
    let concerned: Vec<Edge> = edges.iter().filter(concerns).cloned().collect();
    for failure in prove(&concerned, &there, &[], now).failed {
        if failure.holder == party && !out.contains(&failure.why) {
            out.push(failure.why);
        }
    }
    out
}
